//! A virtual machine with the open-source UEFI firmware, by software emulation.
//!
//! In comes a bench: paths of disk images and of a variable store. Nothing is handed to the firmware that would change its
//! boot order, and nothing but these files is written. What a start means is not said here.
#![forbid(unsafe_code)]

use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError};
use std::time::Duration;

use memchr::memmem;

mod awake;
mod control;
mod debugger;
mod tablet;
pub mod write_log;

pub use tablet::Tablet;

/// The firmware's code, as Debian's package `ovmf` installs it.
pub const CODE: &str = "/usr/share/OVMF/OVMF_CODE_4M.fd";
/// The same, built with Secure Boot.
pub const SECURE_CODE: &str = "/usr/share/OVMF/OVMF_CODE_4M.secboot.fd";
/// An empty variable store for either.
pub const VARIABLES: &str = "/usr/share/OVMF/OVMF_VARS_4M.fd";
/// What Linux is told as an argument, so that programs lie at the same addresses each time they run: the emulator translates
/// them once then, and not anew for each run.
pub const SAME_ADDRESSES: &str = "norandmaps";
/// The emulator.
const EMULATOR: &str = "qemu-system-x86_64";
/// A start takes seconds; a machine that is silent for so long will not go on by itself.
const PATIENCE: Duration = Duration::from_secs(120);

/// What went wrong, in words.
pub type Result<T> = std::result::Result<T, String>;

/// Cargo's build folder, in which boot programs and packages lie beside what cargo builds; from a program that it built.
pub fn build_folder(program: &str) -> PathBuf {
    // Below it stands one for the target, where a target is named; cargo marks both.
    let mut above = Path::new(program).ancestors().skip(2).map(Path::to_path_buf);
    let own = above.next().unwrap_or_default();
    above.next().filter(|folder| folder.join("CACHEDIR.TAG").exists()).unwrap_or(own)
}

/// How a disk is connected.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Bus {
    /// virtio block.
    #[default]
    Virtio,
    /// NVM Express.
    Nvme,
    /// SATA, on the machine's own controller.
    Sata,
    /// SCSI, on a virtio controller.
    Scsi,
    /// USB mass storage.
    Usb,
    /// Parallel ATA, on the older of the emulator's two boards; four disks at most.
    Ide,
}

/// A disk to be attached.
#[derive(Clone, Debug, Default)]
pub struct Disk {
    /// Its image.
    pub image: PathBuf,
    /// How it is connected.
    pub bus: Bus,
    /// Its serial.
    pub serial: Option<String>,
    /// Bytes in a sector, where it is not what the kind has by itself.
    pub sector_size: Option<u32>,
    /// A file for the emulator to note every write in, in order; it is there already. [`write_log`] reads it.
    pub log: Option<PathBuf>,
}

impl Disk {
    /// An image as a plain disk.
    pub fn plain(image: PathBuf) -> Self {
        Self { image, ..Self::default() }
    }

    /// The emulator's name of the device, its bus among it; `index` is the disk's place among all.
    fn device(&self, index: usize) -> String {
        let kind = match self.bus {
            Bus::Virtio => "virtio-blk-pci".to_string(),
            // At a place of its own, whatever else is there.
            Bus::Nvme => format!("nvme,addr=0x{:x}", index + 0x10),
            Bus::Sata => format!("ide-hd,bus=ide.{index}"),
            Bus::Scsi => "scsi-hd,bus=scsi.0".to_string(),
            Bus::Usb => "usb-storage,bus=usb.0".to_string(),
            Bus::Ide => format!("ide-hd,bus=ide.{},unit={}", index / 2, index % 2),
        };
        // NVM Express wants one.
        let serial = self.serial.clone().or_else(|| (self.bus == Bus::Nvme).then(|| format!("d{index}")));
        let serial = serial.map(|serial| format!(",serial={serial}")).unwrap_or_default();
        let size =
            self.sector_size.map(|size| format!(",logical_block_size={size},physical_block_size={size}"));
        format!("{kind},drive=d{index}{serial}{}", size.unwrap_or_default())
    }

    /// The controller that its kind needs.
    fn controller(&self) -> Option<&'static str> {
        match self.bus {
            Bus::Scsi => Some("virtio-scsi-pci,id=scsi"),
            Bus::Usb => Some("qemu-xhci,id=usb"),
            Bus::Virtio | Bus::Nvme | Bus::Sata | Bus::Ide => None,
        }
    }
}

/// A machine to be started: a bench's own disks and variables, which it writes to.
#[derive(Clone, Debug)]
pub struct Spec {
    /// The variable store.
    pub variables: PathBuf,
    /// The disks, in order.
    pub disks: Vec<Disk>,
    /// MiB of memory.
    pub memory: u32,
    /// Whether the firmware is the open-source BIOS, which has no variables.
    pub is_bios: bool,
    /// Whether the firmware is one with Secure Boot, which the keys in its store turn on.
    pub secure_boot: bool,
    /// Further arguments of the emulator, for devices beside the disks.
    pub devices: Vec<String>,
}

impl Spec {
    /// A bench's variable store and these of its images.
    pub fn of_bench(bench: &Path, images: &[&str]) -> Self {
        Self {
            variables: bench.join("variables.fd"),
            disks: images.iter().map(|image| Disk::plain(bench.join(image))).collect(),
            memory: 256,
            is_bios: false,
            secure_boot: false,
            devices: Vec::new(),
        }
    }

    /// A machine with BIOS firmware and these disks, in the order in which it tries them.
    pub fn of_bios(images: impl IntoIterator<Item = PathBuf>) -> Self {
        let disk = |image| Disk { bus: Bus::Sata, ..Disk::plain(image) };
        Self {
            variables: PathBuf::new(),
            disks: images.into_iter().map(disk).collect(),
            memory: 32,
            is_bios: true,
            secure_boot: false,
            devices: Vec::new(),
        }
    }

    /// The emulator's board.
    fn board(&self) -> &'static str {
        let has_ide = self.disks.iter().any(|disk| disk.bus == Bus::Ide);
        // Without a screen the BIOS mirrors its own on the serial line.
        match (self.is_bios, has_ide) {
            (true, false) => "q35,accel=tcg,graphics=off",
            (true, true) => "pc,accel=tcg,graphics=off",
            (false, false) => "q35,accel=tcg,smm=on",
            (false, true) => "pc,accel=tcg",
        }
    }

    /// The command that starts it, without a serial console, a screen or a monitor yet.
    ///
    /// # Errors
    /// Where the firmware is not installed.
    pub fn command(&self) -> Result<Command> {
        let code = if self.secure_boot { SECURE_CODE } else { CODE };
        if !self.is_bios && !Path::new(code).exists() {
            return Err(format!("{code} is not there; `cargo xtask test` installs it (package ovmf)"));
        }
        let mut command = Command::new(EMULATOR);
        command.args(["-machine", self.board(), "-net", "none", "-no-reboot", "-m"]);
        command.arg(self.memory.to_string());
        if self.secure_boot {
            // Its store takes writes from system management mode alone.
            command.args(["-global", "driver=cfi.pflash01,property=secure,value=on"]);
            command.args(["-global", "ICH9-LPC.disable_s3=1"]);
        }
        command.args(&self.devices);
        if !self.is_bios {
            let variables = self.variables.display();
            command.arg("-drive").arg(format!("if=pflash,unit=0,format=raw,readonly=on,file={code}"));
            command.arg("-drive").arg(format!("if=pflash,unit=1,format=raw,file={variables}"));
        }
        let mut controllers: Vec<&str> = self.disks.iter().filter_map(Disk::controller).collect();
        controllers.sort_unstable();
        controllers.dedup();
        controllers.iter().for_each(|controller| {
            command.args(["-device", controller]);
        });
        for (index, disk) in self.disks.iter().enumerate() {
            let image = disk.image.display();
            command.arg("-drive").arg(match &disk.log {
                None => format!("if=none,id=d{index},format=raw,file={image}"),
                Some(log) => format!(
                    "if=none,id=d{index},driver=blklogwrites,file.driver=raw,file.file.driver=file,file.file.filename={image},\
                     log.driver=file,log.filename={}",
                    log.display()
                ),
            });
            command.arg("-device").arg(disk.device(index));
        }
        Ok(command)
    }
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
    /// How long a machine may be silent while something is awaited.
    patience: Duration,
}

impl Vm {
    /// Starts a machine, its serial console in our hands; `monitor` is a socket to be made for its monitor.
    ///
    /// # Errors
    /// Where the emulator or the firmware is not installed.
    pub fn start(spec: &Spec, monitor: Option<&Path>) -> Result<Self> {
        Self::spawn(spec.command()?, monitor)
    }

    fn spawn(mut command: Command, monitor: Option<&Path>) -> Result<Self> {
        command.args(["-display", "none", "-serial", "stdio", "-monitor"]);
        match monitor {
            Some(socket) => command.arg(format!("unix:{},server=on,wait=off", socket.display())),
            None => command.arg("none"),
        };
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        let mut child = command.spawn().map_err(|error| emulator_missing(&error))?;
        let output = child.stdout.take().ok_or("the machine has no serial console")?;
        Ok(Self {
            keys: child.stdin.take(),
            pieces: listen(output),
            child,
            serial: Vec::new(),
            read: 0,
            patience: PATIENCE,
        })
    }

    /// The same with another patience, for machines that say all that they say at once.
    pub fn with_patience(mut self, patience: Duration) -> Self {
        self.patience = patience;
        self
    }

    /// Waits until this text comes, behind what was waited for before.
    ///
    /// # Errors
    /// Where the machine ends or is silent for too long before.
    pub fn wait_for(&mut self, text: &str) -> Result<()> {
        let mut from = self.read;
        loop {
            let new = self.serial.get(from..).unwrap_or_default();
            if let Some(at) = memmem::find(new, text.as_bytes()) {
                self.read = from + at + text.len();
                return Ok(());
            }
            // A machine says much, a few bytes at a time; what was looked through can be the start of it at most.
            from = from.max((self.serial.len() + 1).saturating_sub(text.len()));
            self.hear().map_err(|_| format!("\"{text}\" did not come:\n{}", self.text()))?;
        }
    }

    /// Waits for a piece of what the machine says, and takes with it what else has come by now.
    fn hear(&mut self) -> std::result::Result<(), RecvTimeoutError> {
        self.serial.extend(self.pieces.recv_timeout(self.patience)?);
        self.serial.extend(self.pieces.try_iter().flatten());
        Ok(())
    }

    /// Waits until what has come on the serial console is as wanted.
    ///
    /// # Errors
    /// Where the machine ends or is silent for too long before.
    pub fn wait_until(&mut self, mut is_so: impl FnMut(&[u8]) -> bool) -> Result<()> {
        while !is_so(&self.serial) {
            self.hear().map_err(|_| format!("it did not come so far:\n{}", self.text()))?;
        }
        Ok(())
    }

    /// Waits until the console has been silent for a while: what was typed is drawn by then.
    pub fn settle(&mut self) {
        const QUIET: Duration = Duration::from_secs(3);
        while let Ok(piece) = self.pieces.recv_timeout(QUIET) {
            self.serial.extend(piece);
        }
    }

    /// Waits until the console has been silent for a while; what has come behind what was waited for before.
    pub fn settled(&mut self) -> String {
        self.settle();
        String::from_utf8_lossy(self.serial.get(self.read..).unwrap_or_default()).into_owned()
    }

    /// Types on the serial console.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn type_keys(&mut self, keys: &str) -> Result<()> {
        let to = self.keys.as_mut().ok_or("the machine takes no keys")?;
        to.write_all(keys.as_bytes()).and_then(|()| to.flush()).map_err(|error| error.to_string())
    }

    /// Waits until the machine powers off; all that came on the serial console.
    ///
    /// # Errors
    /// Where it is silent for too long.
    pub fn until_it_ends(mut self) -> Result<String> {
        loop {
            match self.hear() {
                Ok(()) => {}
                Err(RecvTimeoutError::Disconnected) => return Ok(self.text()),
                Err(RecvTimeoutError::Timeout) => {
                    return Err(format!("the machine did not power off:\n{}", self.text()));
                }
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

/// The emulator's monitor, which holds what is outside of the machine: its screen, its keyboard.
pub struct Monitor(UnixStream);

impl Monitor {
    /// Takes the socket that [`Vm::start`] had made.
    ///
    /// # Errors
    /// Where nobody listens on it.
    pub fn connect(socket: &Path) -> Result<Self> {
        let stream = UnixStream::connect(socket).map_err(|error| format!("{}: {error}", socket.display()))?;
        let mut monitor = Self(stream);
        monitor.until_it_asks()?;
        Ok(monitor)
    }

    /// Says a line to it, and waits until it asks for the next.
    ///
    /// # Errors
    /// Where the machine has ended.
    pub fn say(&mut self, line: &str) -> Result<()> {
        self.0.write_all(format!("{line}\n").as_bytes()).map_err(|error| error.to_string())?;
        self.until_it_asks()
    }

    fn until_it_asks(&mut self) -> Result<()> {
        let mut said = Vec::new();
        let mut byte = [0];
        while !said.ends_with(b"(qemu) ") {
            self.0.read_exact(&mut byte).map_err(|error| error.to_string())?;
            said.push(byte[0]);
        }
        Ok(())
    }
}

fn emulator_missing(error: &std::io::Error) -> String {
    format!("{EMULATOR}: {error}; `cargo xtask test` installs it")
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
