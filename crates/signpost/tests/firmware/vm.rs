//! Starts of benches in a virtual machine; what goes wrong there fails the test.

use std::path::Path;

use signpost_vm::{Monitor, Spec};

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
    std::fs::read(path)
        .unwrap_or_else(|error| panic!("{path}: {error}; `cargo xtask test` makes or installs it"))
}

/// Starts a bench's own disks and variables, and waits until the machine powers off.
pub fn start(bench: &Path, images: &[&str]) -> Start {
    let serial = Vm::start(bench, images).until_it_ends();
    Start { tried: tried(&serial), started: started(&serial), serial }
}

/// The same, of a machine that is not plain.
pub fn start_spec(spec: &Spec) -> Start {
    let serial = Vm::start_spec(spec).until_it_ends();
    Start { tried: tried(&serial), started: started(&serial), serial }
}

/// A machine whose firmware goes on from where it has woken; SIGNPOST_FROM_POWER_ON has each start from power-on instead.
pub fn awake(spec: &Spec, monitor: Option<&Path>) -> signpost_vm::Vm {
    let vm = if std::env::var_os("SIGNPOST_FROM_POWER_ON").is_some() {
        signpost_vm::Vm::start(spec, monitor)
    } else {
        let states = Path::new(env!("CARGO_TARGET_TMPDIR")).join("firmware-states");
        signpost_vm::Vm::start_awake(spec, monitor, &states)
    };
    vm.unwrap_or_else(|error| panic!("{error}"))
}

/// A machine that runs.
pub struct Vm(signpost_vm::Vm);

impl Vm {
    pub fn start(bench: &Path, images: &[&str]) -> Self {
        Self::start_spec(&Spec::of_bench(bench, images))
    }

    /// One that is not plain.
    pub fn start_spec(spec: &Spec) -> Self {
        Self(awake(spec, None))
    }

    /// One whose keyboard and screen are in our hands too; `work` takes the socket for them.
    pub fn with_monitor(bench: &Path, images: &[&str], work: &Path) -> (Self, Monitor) {
        Self::with_monitor_spec(&Spec::of_bench(bench, images), work)
    }

    /// The same, of one that is not plain.
    pub fn with_monitor_spec(spec: &Spec, work: &Path) -> (Self, Monitor) {
        let socket = work.join("monitor");
        let mut vm = awake(spec, Some(&socket));
        // The socket is there before the machine says anything.
        vm.wait_until(|serial| !serial.is_empty()).unwrap_or_else(|error| panic!("{error}"));
        (Self(vm), Monitor::connect(&socket).unwrap_or_else(|error| panic!("{error}")))
    }

    pub fn wait_for(&mut self, text: &str) {
        self.0.wait_for(text).unwrap_or_else(|error| panic!("{error}"));
    }

    pub fn wait_until(&mut self, is_so: impl FnMut(&[u8]) -> bool) {
        self.0.wait_until(is_so).unwrap_or_else(|error| panic!("{error}"));
    }

    pub fn type_keys(&mut self, keys: &str) {
        self.0.type_keys(keys).unwrap_or_else(|error| panic!("{error}"));
    }

    pub fn until_it_ends(self) -> String {
        self.0.until_it_ends().unwrap_or_else(|error| panic!("{error}"))
    }
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
