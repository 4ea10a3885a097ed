//! The emulator's monitor for programs (QMP): a line of JSON for each command, each answer and each event.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;

use serde_json::{Value, json};

use crate::{PATIENCE, Result};

/// The monitor of a machine that runs.
pub struct Control {
    stream: BufReader<UnixStream>,
    /// Events that came while an answer was awaited.
    events: VecDeque<Value>,
}

impl Control {
    /// Takes the socket of a machine that runs.
    ///
    /// # Errors
    /// Where nobody listens on it.
    pub fn connect(socket: &Path) -> Result<Self> {
        let stream = UnixStream::connect(socket).map_err(|error| format!("{}: {error}", socket.display()))?;
        Self::greet(stream)
    }

    /// Takes the machine's end of a connection that it opened.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn greet(stream: UnixStream) -> Result<Self> {
        stream.set_read_timeout(Some(PATIENCE)).map_err(|error| error.to_string())?;
        let mut control = Self { stream: BufReader::new(stream), events: VecDeque::new() };
        control.execute("qmp_capabilities", &json!({}))?;
        Ok(control)
    }

    /// Has a command carried out.
    ///
    /// # Errors
    /// Where it is refused, or the machine has ended.
    pub fn execute(&mut self, command: &str, arguments: &Value) -> Result<()> {
        self.execute_all(&[(command, arguments)])
    }

    /// Has commands carried out without waiting for the answers between them.
    ///
    /// # Errors
    /// Where one is refused, or the machine has ended.
    pub fn execute_all(&mut self, commands: &[(&str, &Value)]) -> Result<()> {
        let line = |(command, arguments): &(&str, &Value)| {
            format!("{}\n", json!({"execute": command, "arguments": arguments}))
        };
        let lines: String = commands.iter().map(line).collect();
        self.stream.get_mut().write_all(lines.as_bytes()).map_err(|error| error.to_string())?;
        for (command, _) in commands {
            self.answer().map_err(|why| format!("{command}: {why}"))?;
        }
        Ok(())
    }

    /// Waits for the next event of this name; what it tells.
    ///
    /// # Errors
    /// Where the machine has ended, or none comes for too long.
    pub fn event(&mut self, name: &str) -> Result<Value> {
        loop {
            let mut line = match self.events.pop_front() {
                Some(event) => event,
                None => self.line()?,
            };
            if line.get("event").is_some_and(|event| event == name) {
                return Ok(line["data"].take());
            }
        }
    }

    fn answer(&mut self) -> Result<()> {
        loop {
            let line = self.line()?;
            if line.get("return").is_some() {
                return Ok(());
            }
            if let Some(error) = line.get("error") {
                return Err(error.to_string());
            }
            self.events.push_back(line);
        }
    }

    fn line(&mut self) -> Result<Value> {
        let mut line = String::new();
        if self.stream.read_line(&mut line).map_err(|error| error.to_string())? == 0 {
            return Err("the machine has ended".into());
        }
        serde_json::from_str(&line).map_err(|error| format!("{line}: {error}"))
    }
}
