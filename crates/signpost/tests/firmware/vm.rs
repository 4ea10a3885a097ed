//! A virtual machine with the open-source UEFI firmware, by software emulation.

use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::time::Duration;

const CODE: &str = "/usr/share/OVMF/OVMF_CODE_4M.fd";
pub const VARIABLES: &str = "/usr/share/OVMF/OVMF_VARS_4M.fd";
/// A start takes seconds; a machine that is silent for so long will not go on by itself.
const PATIENCE: Duration = Duration::from_secs(120);

/// What a start looked like from outside.
pub struct Start {
    /// Everything on the serial console.
    pub serial: String,
    /// Load options that the firmware tried, in order.
    pub tried: Vec<Tried>,
    /// Titles of the programs that ran.
    pub started: Vec<String>,
}

/// A load option that the firmware tried.
#[derive(Debug, PartialEq, Eq)]
pub struct Tried {
    pub number: u16,
    /// Whether it got as far as starting it.
    pub started: bool,
}

pub fn read(path: &str) -> Vec<u8> {
    std::fs::read(path).unwrap_or_else(|error| panic!("{path}: {error}; `cargo xtask test` installs it"))
}

/// Starts a bench's own disks and variables, and waits until the machine powers off.
pub fn start(bench: &Path, images: &[&str]) -> Start {
    let serial = Vm::start(bench, images).until_it_ends();
    Start { tried: tried(&serial), started: started(&serial), serial }
}

/// A machine that runs; dropping it ends it.
pub struct Vm {
    child: Child,
    keys: Option<ChildStdin>,
    /// What comes on the serial console, piece by piece; it closes when the machine ends.
    pieces: Receiver<Vec<u8>>,
    serial: Vec<u8>,
    /// How far [`Vm::wait_for`] has read.
    read: usize,
}

impl Vm {
    /// Starts a bench's own disks and variables.
    pub fn start(bench: &Path, images: &[&str]) -> Self {
        read(CODE);
        let mut command = Command::new("qemu-system-x86_64");
        command.args(["-machine", "q35,accel=tcg", "-m", "256", "-display", "none", "-net", "none"]);
        command.args(["-serial", "stdio", "-monitor", "none", "-no-reboot"]);
        command.arg("-drive").arg(format!("if=pflash,unit=0,format=raw,readonly=on,file={CODE}"));
        let variables = bench.join("variables.fd");
        command.arg("-drive").arg(format!("if=pflash,unit=1,format=raw,file={}", variables.display()));
        for (index, image) in images.iter().enumerate() {
            let path = bench.join(image);
            command.arg("-drive").arg(format!("if=none,id=d{index},format=raw,file={}", path.display()));
            command.arg("-device").arg(format!("virtio-blk-pci,drive=d{index}"));
        }
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        let mut child = command
            .spawn()
            .unwrap_or_else(|error| panic!("qemu-system-x86_64: {error}; `cargo xtask test` installs it"));
        let (keys, pieces) = (child.stdin.take(), listen(child.stdout.take().unwrap()));
        Self { child, keys, pieces, serial: Vec::new(), read: 0 }
    }

    /// Waits until this text comes, behind what was waited for before.
    pub fn wait_for(&mut self, text: &str) {
        loop {
            let new = &self.serial[self.read..];
            if let Some(at) = new.windows(text.len()).position(|window| window == text.as_bytes()) {
                self.read += at + text.len();
                return;
            }
            match self.pieces.recv_timeout(PATIENCE) {
                Ok(piece) => self.serial.extend(piece),
                Err(_) => panic!("\"{text}\" did not come:\n{}", self.text()),
            }
        }
    }

    /// Types on the serial console.
    pub fn type_keys(&mut self, keys: &str) {
        let to = self.keys.as_mut().unwrap();
        to.write_all(keys.as_bytes()).and_then(|()| to.flush()).unwrap();
    }

    /// Waits until the machine powers off; all that came on the serial console.
    pub fn until_it_ends(mut self) -> String {
        loop {
            match self.pieces.recv_timeout(PATIENCE) {
                Ok(piece) => self.serial.extend(piece),
                Err(RecvTimeoutError::Disconnected) => return self.text(),
                Err(RecvTimeoutError::Timeout) => panic!("the machine did not power off:\n{}", self.text()),
            }
        }
    }

    fn text(&self) -> String {
        String::from_utf8_lossy(&self.serial).into_owned()
    }
}

impl Drop for Vm {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn listen(mut output: ChildStdout) -> Receiver<Vec<u8>> {
    let (send, pieces) = mpsc::channel();
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok(read @ 1..) = output.read(&mut buffer) {
            if send.send(buffer[..read].to_vec()).is_err() {
                return;
            }
        }
    });
    pieces
}

/// The firmware says `BdsDxe: loading Boot0001 …` for each option that it tries, then that it starts it, or
/// why not.
fn tried(serial: &str) -> Vec<Tried> {
    let number = |rest: &str| u16::from_str_radix(rest.get(..4)?, 16).ok();
    let mut tried: Vec<Tried> = Vec::new();
    for line in serial.lines() {
        if let Some(number) = line.split_once("loading Boot").and_then(|(_, rest)| number(rest)) {
            tried.push(Tried { number, started: false });
        } else if let Some(number) = line.split_once("starting Boot").and_then(|(_, rest)| number(rest)) {
            let last = tried.iter_mut().rev().find(|tried| tried.number == number);
            last.unwrap().started = true;
        } else if let Some(number) = line.split_once("failed to load Boot").and_then(|(_, rest)| number(rest))
            && tried.last().is_none_or(|last| last.number != number)
        {
            tried.push(Tried { number, started: false });
        }
    }
    tried
}

fn started(serial: &str) -> Vec<String> {
    let titles = serial.lines().filter_map(|line| line.trim().strip_prefix("STARTED "));
    titles.map(str::to_string).collect()
}
