//! What was started on which virtual hardware, as a table in `docs/tried.md`: the demo's menu on real firmware, each row a start.

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Stdio;

use signpost_demo::{StoreKind, tide};
use signpost_vm::{Bus, Spec, VARIABLES, Vm};

use crate::run::{Result, at, build_release, command, run, workspace};
use crate::{boot, packages};

/// A machine: its disks' bus, bytes in their sectors, MiB of memory, arguments of the emulator for its screen, and the same in words.
struct Hardware(Bus, u32, u32, &'static [&'static str], &'static str);

const HARDWARE: [Hardware; 15] = [
    Hardware(Bus::Virtio, 512, 256, &[], "virtio disks"),
    Hardware(Bus::Virtio, 4096, 256, &[], "virtio disk"),
    Hardware(Bus::Scsi, 512, 256, &[], "SCSI disks on a virtio controller"),
    Hardware(Bus::Scsi, 4096, 256, &[], "SCSI disk on a virtio controller"),
    Hardware(Bus::Nvme, 512, 256, &[], "NVMe disks"),
    Hardware(Bus::Nvme, 4096, 256, &[], "NVMe disk"),
    Hardware(Bus::Sata, 512, 256, &[], "SATA disks (AHCI)"),
    Hardware(Bus::Ide, 512, 256, &[], "IDE disks"),
    Hardware(Bus::Usb, 512, 256, &[], "USB disks (xHCI)"),
    Hardware(Bus::Virtio, 512, 160, &[], "virtio disks, little memory"),
    Hardware(Bus::Virtio, 512, 512, &[], "virtio disks"),
    Hardware(Bus::Virtio, 512, 4096, &[], "virtio disks, much memory"),
    Hardware(Bus::Virtio, 512, 256, &["-vga", "none"], "no screen, the serial console alone"),
    Hardware(
        Bus::Virtio,
        512,
        256,
        &["-vga", "none", "-device", "VGA,xres=800,yres=600"],
        "a screen of 800x600",
    ),
    Hardware(
        Bus::Virtio,
        512,
        256,
        &["-vga", "none", "-device", "VGA,xres=1920,yres=1080"],
        "a screen of 1920x1080",
    ),
];
/// Bytes in a sector of the disk that [`bench_of_large_sectors`] makes.
const LARGE: u64 = 4096;
/// First sector and number of sectors of its ESP, which has clusters enough for a FAT32, and of Larkspur.
const ESP: (u64, u64) = (256, 73_728);
const LARKSPUR: (u64, u64) = (73_984, 24_576);
/// What the demo's kernel says once it runs.
const STARTED: &str = "STARTED Larkspur Linux 14";

/// Starts all of them, and writes the table.
pub fn measure() -> Result<()> {
    packages::need(&["dosfstools", "fdisk", "ovmf", "qemu-system-x86"])?;
    boot::build(true)?;
    let program = build_release()?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let (usual, large) = (work.path().join("usual"), work.path().join("large"));
    tide::bench(StoreKind::Fd).write(&usual).map_err(|error| error.to_string())?;
    bench_of_large_sectors(&large)?;
    for bench in [&usual, &large] {
        let signpost =
            |args: &[&str]| run(command(&program.to_string_lossy()).arg("--machine").arg(bench).args(args));
        signpost(&["--quiet", "draft", "--host", "signpost"])?;
        signpost(&["--quiet", "tune", "timeout=1"])?;
        signpost(&["--quiet", "apply", "--yes"])?;
    }
    let mut text = format!("{}\n| machine | sectors | memory | result |\n|---|---|---|---|\n", head()?);
    for hardware in &HARDWARE {
        let bench = if u64::from(hardware.1) == LARGE { &large } else { &usual };
        let came = start(bench, work.path(), hardware)?;
        let Hardware(_, sector, memory, _, words) = hardware;
        println!("{words}, {sector} bytes, {memory} MiB: {came}");
        text.push_str(&format!("| {words} | {sector} bytes | {memory} MiB | {came} |\n"));
    }
    let path = workspace().join("docs/tried.md");
    fs::write(&path, text).map_err(at(&path))
}

/// A machine of one disk with large sectors, made by the usual tools: an ESP, and Larkspur's root.
fn bench_of_large_sectors(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder).map_err(at(folder))?;
    let (disk, esp) = (folder.join("disk1.img"), folder.join("esp"));
    let sized = |path: &Path, sectors: u64| {
        fs::File::create(path).and_then(|file| file.set_len(sectors * LARGE)).map_err(at(path))
    };
    sized(&esp, ESP.1)?;
    run(command("mkfs.fat")
        .args(["-F", "32", "-S", "4096", "-s", "1", "-i", "4F2A11C9", "-n", "LARK-ESP"])
        .arg(&esp)
        .stdout(Stdio::null()))?;
    sized(&disk, LARKSPUR.0 + LARKSPUR.1 + 256)?;
    let lines =
        format!("g\nn\n1\n{}\n+{}\nt\n1\nn\n2\n{}\n+{}\nw\n", ESP.0, ESP.1 - 1, LARKSPUR.0, LARKSPUR.1 - 1);
    run(command("sh")
        .args(["-c", "printf '%s' \"$1\" | fdisk -b 4096 \"$0\""])
        .arg(&disk)
        .arg(lines)
        .stdout(Stdio::null()))?;
    let file = fs::File::options().write(true).open(&disk).map_err(at(&disk))?;
    let put =
        |bytes: &[u8], (first, _): (u64, u64)| file.write_all_at(bytes, first * LARGE).map_err(at(&disk));
    put(&fs::read(&esp).map_err(at(&esp))?, ESP)?;
    put(&tide::larkspur_root(), LARKSPUR)?;
    fs::remove_file(&esp).map_err(at(&esp))?;
    fs::copy(VARIABLES, folder.join("variables.fd")).map_err(at(folder))?;
    let machine = folder.join("machine.toml");
    let text = "format = 1\nname = \"Large sectors\"\nfirmware = \"uefi\"\nvariables = \"variables.fd\"\n\n\
                [[disk]]\nimage = \"disk1.img\"\nsector-size = 4096\n";
    fs::write(&machine, text).map_err(at(&machine))
}

fn head() -> Result<String> {
    let version = |package: &str| -> Result<String> {
        let output = command("dpkg-query").args(["-W", "-f=${Version}", package]).output();
        let output = output.map_err(|error| format!("dpkg-query: {error}"))?;
        Ok(String::from_utf8_lossy(&output.stdout).into_owned())
    };
    Ok(format!(
        "# What was tried\n\nThe demo's menu on the open-source UEFI firmware for virtual machines, by software emulation: the boot program \
         comes up, its\ncountdown ends, and Larkspur's kernel with its initrd is started from ext4. \
         `cargo xtask tried` writes this page again.\n\nFirmware: Debian's ovmf {}; emulator: qemu-system-x86 {}; Early Signpost {}.\n",
        version("ovmf")?,
        version("qemu-system-x86")?,
        env!("CARGO_PKG_VERSION")
    ))
}

/// Starts a copy of the bench on some hardware; what result.
fn start(bench: &Path, work: &Path, hardware: &Hardware) -> Result<String> {
    let Hardware(bus, sector, memory, screen, _) = *hardware;
    let copy = work.join("copy");
    if copy.exists() {
        fs::remove_dir_all(&copy).map_err(at(&copy))?;
    }
    run(command("cp").args(["-r", "--sparse=always"]).arg(bench).arg(&copy))?;
    let is_large = u64::from(sector) == LARGE;
    let images: &[&str] = if is_large { &["disk1.img"] } else { &["disk1.img", "disk2.img", "disk3.img"] };
    let mut spec = Spec::of_bench(&copy, images);
    spec.memory = memory;
    spec.devices = screen.iter().map(ToString::to_string).collect();
    for disk in &mut spec.disks {
        disk.bus = bus;
        disk.sector_size = is_large.then_some(sector);
    }
    let mut vm = Vm::start(&spec, None)?;
    Ok(match vm.wait_for(STARTED) {
        Ok(()) => "starts".into(),
        Err(why) => {
            let last = why.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
            format!("does not start: {}", last.trim().replace('|', "/"))
        }
    })
}
