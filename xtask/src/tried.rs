//! What was started on which virtual hardware, as a table in `docs/tried.md`: the demo's menu on real firmware, each row a start.

use std::fs;
use std::path::Path;

use signpost_demo::{StoreKind, tide};
use signpost_vm::{Bus, Spec, Vm};

use crate::run::{Result, at, build_release, command, run, workspace};
use crate::{boot, packages};

/// A machine: its disks' bus, MiB of memory, arguments of the emulator for its screen, and the same in words.
type Hardware = (Bus, u32, &'static [&'static str], &'static str);

const HARDWARE: [Hardware; 11] = [
    (Bus::Virtio, 256, &[], "virtio disks"),
    (Bus::Scsi, 256, &[], "SCSI disks on a virtio controller"),
    (Bus::Nvme, 256, &[], "NVMe disks"),
    (Bus::Sata, 256, &[], "SATA disks (AHCI)"),
    (Bus::Usb, 256, &[], "USB disks (xHCI)"),
    (Bus::Virtio, 160, &[], "virtio disks, little memory"),
    (Bus::Virtio, 512, &[], "virtio disks"),
    (Bus::Virtio, 4096, &[], "virtio disks, much memory"),
    (Bus::Virtio, 256, &["-vga", "none"], "no screen, the serial console alone"),
    (Bus::Virtio, 256, &["-vga", "none", "-device", "VGA,xres=800,yres=600"], "a screen of 800x600"),
    (Bus::Virtio, 256, &["-vga", "none", "-device", "VGA,xres=1920,yres=1080"], "a screen of 1920x1080"),
];
const IMAGES: [&str; 3] = ["disk1.img", "disk2.img", "disk3.img"];
/// What the demo's kernel says once it runs.
const STARTED: &str = "STARTED Larkspur Linux 14";

/// Starts all of them, and writes the table.
pub fn measure() -> Result<()> {
    packages::need(&["ovmf", "qemu-system-x86"])?;
    boot::build(true)?;
    let program = build_release()?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let bench = work.path().join("bench");
    tide::bench(StoreKind::Fd).write(&bench).map_err(|error| error.to_string())?;
    let signpost =
        |args: &[&str]| run(command(&program.to_string_lossy()).arg("--machine").arg(&bench).args(args));
    signpost(&["--quiet", "draft", "--host", "signpost"])?;
    signpost(&["--quiet", "tune", "timeout=1"])?;
    signpost(&["--quiet", "apply", "--yes"])?;
    let mut text = format!("{}\n| machine | memory | result |\n|---|---|---|\n", head()?);
    for (bus, memory, screen, words) in HARDWARE {
        let came = start(&bench, work.path(), (bus, memory, screen))?;
        println!("{words}, {memory} MiB: {came}");
        text.push_str(&format!("| {words} | {memory} MiB | {came} |\n"));
    }
    let path = workspace().join("docs/tried.md");
    fs::write(&path, text).map_err(at(&path))
}

fn head() -> Result<String> {
    let version = |package: &str| -> Result<String> {
        let output = command("dpkg-query").args(["-W", "-f=${Version}", package]).output();
        let output = output.map_err(|error| format!("dpkg-query: {error}"))?;
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    };
    Ok(format!(
        "# What was tried\n\nThe demo's menu on the open-source UEFI firmware for virtual machines, by software emulation: the boot program \
         comes up, its\ncountdown ends, and Larkspur's kernel with its initrd is started from ext4. Disks have sectors of 512 bytes. \
         `cargo xtask tried`\nwrites this page again.\n\nFirmware: Debian's ovmf {}; emulator: qemu-system-x86 {}; Early Signpost {}.\n",
        version("ovmf")?,
        version("qemu-system-x86")?,
        env!("CARGO_PKG_VERSION")
    ))
}

/// Starts a copy of the bench on some hardware; what result.
fn start(bench: &Path, work: &Path, (bus, memory, screen): (Bus, u32, &[&str])) -> Result<String> {
    let copy = work.join("copy");
    if copy.exists() {
        fs::remove_dir_all(&copy).map_err(at(&copy))?;
    }
    run(command("cp").args(["-r", "--sparse=always"]).arg(bench).arg(&copy))?;
    let mut spec = Spec::of_bench(&copy, &IMAGES);
    spec.memory = memory;
    spec.devices = screen.iter().map(ToString::to_string).collect();
    spec.disks.iter_mut().for_each(|disk| disk.bus = bus);
    let mut vm = Vm::start(&spec, None)?;
    Ok(match vm.wait_for(STARTED) {
        Ok(()) => "starts".into(),
        Err(why) => {
            let last = why.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
            format!("does not start: {}", last.trim().replace('|', "/"))
        }
    })
}
