//! The emulator's stub for debuggers: what the processor may be stopped at, and memory in its sight. The GDB manual's appendix
//! "GDB Remote Serial Protocol" defines packets and commands.

use std::fmt::Write as _;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;

use crate::{PATIENCE, Result};

/// Bytes that go in one packet, of at most 4,096 signs, two for each.
const PIECE: usize = 1024;

/// The stub of a machine, which stands still as long as a debugger does not let it go on.
pub struct Debugger(BufReader<UnixStream>);

impl Debugger {
    /// Takes the socket of a machine, and stops it.
    ///
    /// # Errors
    /// Where nobody listens on it.
    pub fn connect(socket: &Path) -> Result<Self> {
        let stream = UnixStream::connect(socket).map_err(|error| format!("{}: {error}", socket.display()))?;
        stream.set_read_timeout(Some(PATIENCE)).map_err(|error| error.to_string())?;
        Ok(Self(BufReader::new(stream)))
    }

    /// Lets the machine go on until its processor reads or writes these bytes.
    ///
    /// # Errors
    /// Where it does not come to that.
    pub fn run_to_access(&mut self, address: u64, length: usize) -> Result<()> {
        let watched = format!("4,{address:x},{length}");
        self.succeed(&format!("Z{watched}"))?;
        let stopped = self.ask("c")?;
        if !stopped.contains("watch:") {
            return Err(format!("the machine stopped by \"{stopped}\" before it came to {address:#x}"));
        }
        self.succeed(&format!("z{watched}"))
    }

    /// Waits until the machine is stopped by somebody else.
    ///
    /// # Errors
    /// Where it is not for too long.
    pub fn until_stopped(&mut self) -> Result<()> {
        self.packet().map(|_| ())
    }

    /// Bytes in memory.
    ///
    /// # Errors
    /// Where there is none.
    pub fn read(&mut self, address: u64, length: usize) -> Result<Vec<u8>> {
        let answer = self.ask(&format!("m{address:x},{length:x}"))?;
        let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
        let bytes: Option<Vec<u8>> = answer.as_bytes().chunks(2).map(byte).collect();
        bytes.filter(|bytes| bytes.len() == length).ok_or_else(|| format!("{address:#x}: \"{answer}\""))
    }

    /// Writes bytes to memory, flash among it, and reads them back.
    ///
    /// # Errors
    /// Where that is not possible.
    pub fn write(&mut self, address: u64, bytes: &[u8]) -> Result<()> {
        for (at, piece) in (address..).step_by(PIECE).zip(bytes.chunks(PIECE)) {
            let mut packet = format!("M{at:x},{:x}:", piece.len());
            piece
                .iter()
                .try_for_each(|byte| write!(packet, "{byte:02x}"))
                .map_err(|error| error.to_string())?;
            self.succeed(&packet)?;
            if self.read(at, piece.len())? != piece {
                return Err(format!("{at:#x}: what was written there does not stand there"));
            }
        }
        Ok(())
    }

    /// Lets the machine go on by itself.
    ///
    /// # Errors
    /// Where it has ended.
    pub fn let_go(mut self) -> Result<()> {
        self.succeed("D")
    }

    fn succeed(&mut self, command: &str) -> Result<()> {
        match self.ask(command)?.as_str() {
            "OK" => Ok(()),
            answer => Err(format!("{command}: \"{answer}\"")),
        }
    }

    /// Sends a packet, and takes the answer's.
    fn ask(&mut self, command: &str) -> Result<String> {
        let sum = command.bytes().fold(0, u8::wrapping_add);
        let packet = format!("${command}#{sum:02x}");
        self.0.get_mut().write_all(packet.as_bytes()).map_err(|error| format!("{command}: {error}"))?;
        self.packet().map_err(|why| format!("{command}: {why}"))
    }

    /// What the next packet says.
    fn packet(&mut self) -> Result<String> {
        let mut take = || {
            let mut said = Vec::new();
            // What stands before it tells that ours came.
            self.0.read_until(b'$', &mut said)?;
            said.clear();
            self.0.read_until(b'#', &mut said)?;
            self.0.read_exact(&mut [0; 2])?;
            self.0.get_mut().write_all(b"+")?;
            said.pop();
            Ok(said)
        };
        let said = take().map_err(|error: std::io::Error| error.to_string())?;
        String::from_utf8(said).map_err(|error| error.to_string())
    }
}
