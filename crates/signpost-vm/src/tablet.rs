//! The emulator's tablet, whose places and button are in our hands.

use std::io::{BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;

use crate::Result;

/// The emulator's tablet, over its monitor for programs, which takes a line of JSON each and answers with lines.
pub struct Tablet(BufReader<UnixStream>);

impl Tablet {
    /// Arguments of the emulator that let [`Tablet::connect`] in at this socket.
    pub fn arguments(socket: &Path) -> [String; 2] {
        ["-qmp".into(), format!("unix:{},server=on,wait=off", socket.display())]
    }

    /// Takes the socket of a machine that runs.
    ///
    /// # Errors
    /// Where nobody listens on it.
    pub fn connect(socket: &Path) -> Result<Self> {
        let stream = UnixStream::connect(socket).map_err(|error| format!("{}: {error}", socket.display()))?;
        let mut tablet = Self(BufReader::new(stream));
        tablet.say("{\"execute\":\"qmp_capabilities\"}")?;
        Ok(tablet)
    }

    /// Points at a pixel of a screen of this size.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn point(&mut self, (x, y): (usize, usize), (width, height): (usize, usize)) -> Result<()> {
        // The emulator counts either way to this.
        const MOST: usize = 0x7fff;
        let [x, y] = [(x, width), (y, height)].map(|(at, of)| (at * MOST + MOST / 2) / of.max(1));
        let axis = |name: &str, value: usize| {
            format!("{{\"type\":\"abs\",\"data\":{{\"axis\":\"{name}\",\"value\":{value}}}}}")
        };
        self.send(&format!("{},{}", axis("x", x), axis("y", y)))
    }

    /// Presses its button, or lets it go.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn press(&mut self, is_down: bool) -> Result<()> {
        self.send(&format!("{{\"type\":\"btn\",\"data\":{{\"button\":\"left\",\"down\":{is_down}}}}}"))
    }

    fn send(&mut self, events: &str) -> Result<()> {
        self.say(&format!("{{\"execute\":\"input-send-event\",\"arguments\":{{\"events\":[{events}]}}}}"))
    }

    /// Says a line, and waits for its answer; what comes between tells of other things.
    fn say(&mut self, line: &str) -> Result<()> {
        self.0.get_mut().write_all(format!("{line}\n").as_bytes()).map_err(|error| error.to_string())?;
        loop {
            let mut answer = String::new();
            if self.0.read_line(&mut answer).map_err(|error| error.to_string())? == 0 {
                return Err("the machine has ended".into());
            }
            if answer.starts_with("{\"return\"") {
                return Ok(());
            }
            if answer.starts_with("{\"error\"") {
                return Err(format!("{line}: {answer}"));
            }
        }
    }
}
