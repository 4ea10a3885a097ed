//! Firmware that goes on from where it has woken.
//!
//! Most of the time from power-on to the first thing that UEFI firmware says goes into unpacking itself and into waiting for a
//! TPM that is not there: four of five and a half seconds, by emulation. Both are the same at each start, and nothing of them
//! has to do with disks or variables. So a machine without disks is stopped where its firmware opens the variable store, and
//! its state kept; a machine of the same kind loads that, gets its own variables in place of the empty store, and goes on.

use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Mutex, OnceLock, PoisonError, mpsc};

use serde_json::json;
use tempfile::TempDir;

use crate::control::Control;
use crate::debugger::Debugger;
use crate::{Bus, CODE, EMULATOR, PATIENCE, Result, Spec, VARIABLES, Vm, emulator_missing};

/// Where a TPM's registers are (TCG PC Client Platform TPM Profile, 6.3.2): firmware looks for one there.
const TPM: u64 = 0xfed4_0000;
/// Flash memory ends here: the firmware's code, with the variable store in front of it.
const FLASH_END: u64 = 1 << 32;
/// Where a firmware volume has its signature, and what that is (Platform Initialization 1.8, volume 3, 3.2.1).
const SIGNATURE: (u64, &[u8]) = (40, b"_FVH");
/// The variable of the environment that tells the shell of the emulator where a state is.
const STATE: &str = "SIGNPOST_VM_STATE";

/// Connections to a machine that waits, beside its serial line and its monitor.
struct Wires {
    folder: TempDir,
    listener: UnixListener,
}

impl Vm {
    /// As [`Vm::start`]; UEFI firmware on plain machines goes on from where it has woken, by a state that is kept in this folder.
    ///
    /// # Errors
    /// Where the emulator or the firmware is not installed.
    pub fn start_awake(spec: &Spec, monitor: Option<&Path>, states: &Path) -> Result<Self> {
        if !is_plain(spec) {
            return Self::start(spec, monitor);
        }
        let mut command = spec.command()?;
        let state = state(spec, states)?;
        let wires = Wires::of(&mut command)?;
        command.args(["-incoming", "defer"]).env(STATE, &state);
        let vm = Self::spawn(command, monitor)?;
        let mut control = wires.control()?;
        control.execute("migrate-incoming", &json!({"uri": format!("exec:cat \"${STATE}\"")}))?;
        moved(&mut control)?;
        let mut debugger = wires.debugger()?;
        let (own, empty) = (read(&spec.variables)?, read(Path::new(VARIABLES))?);
        for (at, piece) in differences(&own, &empty) {
            debugger.write(store(empty.len())? + at, piece)?;
        }
        debugger.let_go()?;
        Ok(vm)
    }
}

/// Whether a machine differs from others in its disks, its variables and its memory's size alone. Disks for another board do not
/// count as such, nor do those of which the emulator loads no state.
fn is_plain(spec: &Spec) -> bool {
    let can_be_loaded = |bus| !matches!(bus, Bus::Ide | Bus::Nvme);
    !spec.is_bios
        && !spec.secure_boot
        && spec.devices.is_empty()
        && spec.disks.iter().all(|disk| can_be_loaded(disk.bus))
}

/// The state of a machine of this kind; it is made where there is none.
fn state(spec: &Spec, states: &Path) -> Result<PathBuf> {
    static MAKING: Mutex<()> = Mutex::new(());
    let path = states.join(format!("{:016x}-{}", installed()?, spec.memory));
    let _one_at_a_time = MAKING.lock().unwrap_or_else(PoisonError::into_inner);
    if !path.exists() {
        fs::create_dir_all(states).map_err(|error| format!("{}: {error}", states.display()))?;
        make(spec, &path)?;
    }
    Ok(path)
}

/// What tells the installed emulator and firmware from others.
fn installed() -> Result<u64> {
    static INSTALLED: OnceLock<Result<u64>> = OnceLock::new();
    let ask = || {
        let version = Command::new(EMULATOR).arg("--version").output();
        let version = version.map_err(|error| emulator_missing(&error))?.stdout;
        let mut hasher = DefaultHasher::new();
        (version, read(Path::new(CODE))?, read(Path::new(VARIABLES))?).hash(&mut hasher);
        Ok(hasher.finish())
    };
    INSTALLED.get_or_init(ask).clone()
}

/// Makes it: a machine without disks, stopped where the firmware opens the variable store behind its search for a TPM.
fn make(spec: &Spec, path: &Path) -> Result<()> {
    let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
    let variables = folder.path().join("variables.fd");
    fs::copy(VARIABLES, &variables).map_err(|error| format!("{VARIABLES}: {error}"))?;
    let store = store(read(&variables)?.len())?;
    let mut command = Spec { variables, disks: Vec::new(), ..spec.clone() }.command()?;
    let wires = Wires::of(&mut command)?;
    // Another process may be making the same.
    let made = path.with_extension(std::process::id().to_string());
    command.env(STATE, &made).args(["-display", "none", "-serial", "null", "-monitor", "none"]);
    let mut machine = command.stdin(Stdio::null()).spawn().map_err(|error| emulator_missing(&error))?;
    let make = || {
        let mut control = wires.control()?;
        let mut debugger = wires.debugger()?;
        debugger.run_to_access(TPM, 1)?;
        debugger.run_to_access(store + SIGNATURE.0, SIGNATURE.1.len())?;
        // A machine that a debugger holds is saved as such, and could not be loaded.
        control.execute_all(&[("cont", &json!({})), ("stop", &json!({}))])?;
        debugger.until_stopped()?;
        if debugger.read(store + SIGNATURE.0, SIGNATURE.1.len())? != SIGNATURE.1 {
            return Err("the variable store could not be read where the firmware was stopped".into());
        }
        control.execute("migrate", &json!({"uri": format!("exec:cat > \"${STATE}\"")}))?;
        moved(&mut control)
    };
    let made_well = make();
    let _ = machine.kill();
    let _ = machine.wait();
    made_well?;
    fs::rename(&made, path).map_err(|error| format!("{}: {error}", path.display()))
}

/// Waits until a state is saved or loaded.
fn moved(control: &mut Control) -> Result<()> {
    loop {
        let event = control.event("MIGRATION")?;
        match event["status"].as_str() {
            Some("completed") => return Ok(()),
            Some("failed") => return Err("the machine's state could not be saved or loaded".into()),
            _ => {}
        }
    }
}

/// Where the variable store of so many bytes is in memory.
fn store(length: usize) -> Result<u64> {
    let code = fs::metadata(CODE).map_err(|error| format!("{CODE}: {error}"))?.len();
    Ok(FLASH_END - code - length as u64)
}

/// Where two stores differ, in pieces: how many bytes behind the start, and what stands in the first.
fn differences<'a>(own: &'a [u8], empty: &[u8]) -> impl Iterator<Item = (u64, &'a [u8])> {
    const PIECE: usize = 256;
    let pieces = own.chunks(PIECE).zip(empty.chunks(PIECE));
    (0..).step_by(PIECE).zip(pieces).filter(|(_, (own, empty))| own != empty).map(|(at, (own, _))| (at, own))
}

fn read(path: &Path) -> Result<Vec<u8>> {
    fs::read(path).map_err(|error| format!("{}: {error}", path.display()))
}

impl Wires {
    /// Has a machine wait before its first instruction, and listen to us.
    fn of(command: &mut Command) -> Result<Self> {
        let folder = tempfile::tempdir().map_err(|error| error.to_string())?;
        let socket = folder.path().join("control");
        let listener = UnixListener::bind(&socket).map_err(|error| error.to_string())?;
        command.arg("-S").arg("-qmp").arg(format!("unix:{}", socket.display()));
        let debugger = folder.path().join("debugger");
        command.arg("-gdb").arg(format!("unix:{},server=on,wait=off", debugger.display()));
        Ok(Self { folder, listener })
    }

    /// The machine's monitor, which tells of what is saved and loaded.
    fn control(&self) -> Result<Control> {
        let listener = self.listener.try_clone().map_err(|error| error.to_string())?;
        let (send, accepted) = mpsc::channel();
        std::thread::spawn(move || send.send(listener.accept()));
        let accepted = accepted.recv_timeout(PATIENCE).map_err(|_| "the machine did not start")?;
        let mut control = Control::greet(accepted.map_err(|error| error.to_string())?.0)?;
        let events = json!({"capabilities": [{"capability": "events", "state": true}]});
        control.execute("migrate-set-capabilities", &events)?;
        Ok(control)
    }

    /// Its stub for debuggers, which is there once its monitor has answered.
    fn debugger(&self) -> Result<Debugger> {
        Debugger::connect(&self.folder.path().join("debugger"))
    }
}
