//! A virtual machine with the open-source UEFI firmware, by software emulation.

use std::io::Read;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::time::Duration;

const CODE: &str = "/usr/share/OVMF/OVMF_CODE_4M.fd";
pub const VARIABLES: &str = "/usr/share/OVMF/OVMF_VARS_4M.fd";
/// A start takes seconds; a machine that still runs then will not end by itself.
const PATIENCE: Duration = Duration::from_secs(240);

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
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::inherit());
    let child = command
        .spawn()
        .unwrap_or_else(|error| panic!("qemu-system-x86_64: {error}; `cargo xtask test` installs it"));
    let serial = String::from_utf8_lossy(&until_it_ends(child)).into_owned();
    Start { tried: tried(&serial), started: started(&serial), serial }
}

fn until_it_ends(mut child: Child) -> Vec<u8> {
    let mut output = child.stdout.take().unwrap();
    let (send, ended) = mpsc::channel();
    std::thread::spawn(move || {
        let mut bytes = Vec::new();
        let _ = output.read_to_end(&mut bytes);
        let _ = send.send(bytes);
    });
    let bytes = ended.recv_timeout(PATIENCE);
    if bytes.is_err() {
        child.kill().unwrap();
    }
    child.wait().unwrap();
    bytes.unwrap_or_else(|_| {
        let so_far = ended.recv().unwrap_or_default();
        panic!("the machine did not power off:\n{}", String::from_utf8_lossy(&so_far))
    })
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
