//! A living machine: a real Debian with systemd, started through our menu on real firmware, that gets the package, is spoiled and
//! put right, and loses the package again. What it says at each step is held against what it should.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use signpost_vm::{Disk, Spec, VARIABLES, Vm};

use crate::run::{Result, at, command, run, target_folder, workspace};
use crate::{dist, packages};

/// What the tree of the system takes, and its image.
const NEEDS: [&str; 5] = ["debootstrap", "dosfstools", "e2fsprogs", "ovmf", "qemu-system-x86"];
const INCLUDED: &str =
    "systemd,systemd-sysv,udev,dbus,initramfs-tools,linux-image-cloud-amd64,kmod,e2fsprogs";
const ROOT_UUID: &str = "5eed0000-0000-4000-8000-00000000cafe";
/// Sectors at which ESP and root start, and their lengths.
const ESP: (u64, u64) = (2048, 131_072);
const ROOT: (u64, u64) = (133_120, 5_324_800);
const SECTOR: u64 = 512;

/// What a start must say: the step, and a part of it. An empty step is the whole console.
type Expected = &'static [(&'static str, &'static str)];

/// For each start what it must say, in its order.
const PHASES: [(&str, Expected); 5] = [
    (
        "handed to the kernel from outside: the package comes, the menu is drafted and put in force",
        &[("draft", "Debian GNU/Linux"), ("apply", "In force"), ("units", "of the package are turned on")],
    ),
    (
        "through our menu, as rehearsed; then an update that is half done",
        &[
            ("", "Starting Debian GNU/Linux"),
            ("rehearse", "Debian GNU/Linux"),
            ("draft-half", "an update seems to be under way"),
        ],
    ),
    (
        "in the middle of the update; then entry and boot program are lost, and hold puts them right",
        &[
            ("", "Starting Debian GNU/Linux"),
            ("journal", "put right: write the boot program"),
            ("journal", "put right: make entry"),
            ("again", "All is as it was put in force"),
        ],
    ),
    (
        "as put right; then the package is removed and purged",
        &[
            ("", "Starting Debian GNU/Linux"),
            ("remove", "goes on starting this machine"),
            ("left", "MENU-A.TML"),
            ("left", "/var/lib/signpost': No such file"),
        ],
    ),
    ("without the package, through the menu that it left", &[("", "Starting Debian GNU/Linux")]),
];

/// Makes the machine and lives through all of it.
pub fn live() -> Result<()> {
    packages::need(&NEEDS)?;
    let folder = target_folder().join("living");
    let base = base(&folder)?;
    let machine = folder.join("machine");
    if machine.exists() {
        fs::remove_dir_all(&machine).map_err(at(&machine))?;
    }
    fs::create_dir_all(&machine).map_err(at(&machine))?;
    let disk = disk(&base, &machine)?;
    let variables = machine.join("variables.fd");
    fs::copy(VARIABLES, &variables).map_err(at(&variables))?;
    for (number, (what, expected)) in (1..).zip(PHASES) {
        let started = Instant::now();
        let mut spec = Spec {
            variables: variables.clone(),
            disks: vec![Disk::plain(disk.clone())],
            memory: 1024,
            secure_boot: false,
            devices: Vec::new(),
        };
        if number == 1 {
            spec.devices = kernel_from_outside(&base)?;
        }
        let serial = Vm::start(&spec, None)?.until_it_ends()?;
        let log = machine.join(format!("start-{number}.log"));
        fs::write(&log, &serial).map_err(at(&log))?;
        hold_against(&serial, number, expected).map_err(|why| format!("{why}; see {}", log.display()))?;
        println!("start {number}, {:>3} s: {what}", started.elapsed().as_secs());
    }
    Ok(())
}

/// Every step that was framed ended well, and said what it should.
fn hold_against(serial: &str, number: u32, expected: Expected) -> Result<()> {
    let text = serial.replace('\r', "");
    if !text.contains(&format!("=== start {number}\n")) || !text.contains("=== end\n") {
        return Err(format!("start {number} did not come to its end"));
    }
    for line in text.lines().filter_map(|line| line.strip_prefix("--- ")) {
        let (name, code) = line.rsplit_once(' ').unwrap_or((line, "?"));
        // What is looked for there is gone, as it should be.
        if code != "0" && name != "left" {
            return Err(format!("start {number}: {name} ended with {code}"));
        }
    }
    for (step, part) in expected {
        let said = match *step {
            "" => Some(text.as_str()),
            step => text
                .split_once(&format!("=== {step}\n"))
                .and_then(|(_, rest)| rest.split_once(&format!("--- {step} ")))
                .map(|(said, _)| said),
        };
        if !said.is_some_and(|said| said.contains(part)) {
            return Err(format!("start {number}: {step} did not say \"{part}\""));
        }
    }
    Ok(())
}

/// The system as its distribution's own tool makes it, once.
fn base(folder: &Path) -> Result<PathBuf> {
    let (base, done) = (folder.join("base"), folder.join("base-is-whole"));
    if !done.exists() {
        if base.exists() {
            fs::remove_dir_all(&base).map_err(at(&base))?;
        }
        fs::create_dir_all(folder).map_err(at(folder))?;
        let codename = codename()?;
        let include = format!("--include={INCLUDED}");
        run(command("debootstrap").args(["--variant=minbase", &include, &codename]).arg(&base))?;
        fs::write(&done, codename).map_err(at(&done))?;
    }
    Ok(base)
}

/// The release that we run on ourselves, whose packages are at hand.
fn codename() -> Result<String> {
    let path = Path::new("/etc/os-release");
    let text = fs::read_to_string(path).map_err(at(path))?;
    let named = text.lines().find_map(|line| line.strip_prefix("VERSION_CODENAME="));
    named.map(str::to_string).ok_or_else(|| "this is no release of Debian".into())
}

/// A disk with an empty ESP and the system.
fn disk(base: &Path, machine: &Path) -> Result<PathBuf> {
    let root = machine.join("root");
    run(command("cp").arg("-a").arg(base).arg(&root))?;
    let put = |from: &Path, to: &str| {
        let to = root.join(to);
        fs::copy(from, &to).map(|_| ()).map_err(at(&to))
    };
    put(&package()?, "root/signpost.deb")?;
    put(&workspace().join("xtask/living/steps.sh"), "root/steps.sh")?;
    put(&workspace().join("xtask/living/living.service"), "etc/systemd/system/living.service")?;
    run(command("chmod").arg("755").arg(root.join("root/steps.sh")))?;
    let wants = root.join("etc/systemd/system/multi-user.target.wants");
    fs::create_dir_all(&wants).map_err(at(&wants))?;
    let link = wants.join("living.service");
    std::os::unix::fs::symlink("/etc/systemd/system/living.service", &link).map_err(at(&link))?;
    let write = |path: &str, text: &str| {
        let path = root.join(path);
        fs::write(&path, text).map_err(at(&path))
    };
    write("root/phase", "1\n")?;
    write(
        "etc/fstab",
        &format!("UUID={ROOT_UUID} / ext4 defaults 0 1\nUUID=4F2A-11C9 /boot/efi vfat defaults 0 2\n"),
    )?;
    fs::create_dir_all(root.join("boot/efi")).map_err(at(&root))?;
    let (esp, system, disk) = (machine.join("esp"), machine.join("system"), machine.join("disk.img"));
    let sized = |path: &Path, sectors: u64| {
        let file = fs::File::create(path).map_err(at(path))?;
        file.set_len(sectors * SECTOR).map_err(at(path))
    };
    sized(&esp, ESP.1)?;
    run(command("mkfs.fat")
        .args(["-F", "32", "-i", "4F2A11C9"])
        .arg(&esp)
        .stdout(std::process::Stdio::null()))?;
    sized(&system, ROOT.1)?;
    run(command("mke2fs").args(["-q", "-F", "-t", "ext4", "-U", ROOT_UUID, "-d"]).arg(&root).arg(&system))?;
    sized(&disk, ROOT.0 + ROOT.1 + 2048)?;
    let table = format!(
        "printf 'label: gpt\\nstart={}, size={}, type=U\\nstart={}, size={}, type=L\\n' | sfdisk -q \"$0\"",
        ESP.0, ESP.1, ROOT.0, ROOT.1
    );
    run(command("sh").args(["-c", &table]).arg(&disk))?;
    for (from, start) in [(&esp, ESP.0), (&system, ROOT.0)] {
        let seek = format!("seek={}", start * SECTOR / (64 << 10));
        let (from_word, to_word) = (format!("if={}", from.display()), format!("of={}", disk.display()));
        run(command("dd").args([
            "bs=64k",
            "conv=notrunc,sparse",
            "status=none",
            &seek,
            &from_word,
            &to_word,
        ]))?;
        fs::remove_file(from).map_err(at(from))?;
    }
    fs::remove_dir_all(&root).map_err(at(&root))?;
    Ok(disk)
}

/// The package that was made last, else one that is made now.
fn package() -> Result<PathBuf> {
    let folder = target_folder().join("dist");
    let find = || {
        let entries = fs::read_dir(&folder).ok()?;
        let mut paths = entries.filter_map(|entry| Some(entry.ok()?.path()));
        paths.find(|path| path.extension().is_some_and(|extension| extension == "deb"))
    };
    if find().is_none() {
        dist::make(dist::Build::Full)?;
    }
    find().ok_or_else(|| format!("no package in {}", folder.display()))
}

/// The first start, before there is a menu: as a rescue medium would do it.
fn kernel_from_outside(base: &Path) -> Result<Vec<String>> {
    let boot = base.join("boot");
    let find = |start: &str| {
        let entries = fs::read_dir(&boot).map_err(at(&boot))?;
        let mut paths = entries.filter_map(|entry| Some(entry.ok()?.path()));
        let named =
            |path: &PathBuf| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with(start));
        paths
            .find(named)
            .map(|path| path.display().to_string())
            .ok_or_else(|| format!("no {start} in {}", boot.display()))
    };
    let args = format!("root=UUID={ROOT_UUID} rw console=ttyS0 systemd.getty_auto=0");
    Ok([
        "-kernel".to_string(),
        find("vmlinuz-")?,
        "-initrd".into(),
        find("initrd.img-")?,
        "-append".into(),
        args,
    ]
    .into())
}
