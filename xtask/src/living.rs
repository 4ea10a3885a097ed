//! A living machine: two real Debians with systemd on one disk, started through our menu on real firmware, that get the package, are
//! spoiled and corrected, take the menu from each other, and lose the package again. What they say at each step is held against what
//! they should.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Instant;

use signpost_vm::{Disk, SAME_ADDRESSES, Spec, VARIABLES, Vm};

use crate::run::{Result, at, command, run, target_folder, workspace};
use crate::{dist, packages};

/// What the tree of the system takes, and its image.
const NEEDS: [&str; 6] = ["btrfs-progs", "debootstrap", "dosfstools", "e2fsprogs", "ovmf", "qemu-system-x86"];
const INCLUDED: &str =
    "systemd,systemd-sysv,udev,dbus,initramfs-tools,linux-image-cloud-amd64,kmod,e2fsprogs";
const ROOT_UUID: &str = "5eed0000-0000-4000-8000-00000000cafe";
const SECOND_UUID: &str = "5eed0000-0000-4000-8000-00000000beef";
/// Sectors at which ESP, root and the second system start, and their lengths.
const ESP: (u64, u64) = (2048, 131_072);
const ROOT: (u64, u64) = (133_120, 5_324_800);
const SECOND: (u64, u64) = (5_457_920, 4_194_304);
/// What the kernel is told beside its root.
const ARGUMENTS: &str = "console=ttyS0 systemd.getty_auto=0";
/// By its clock a machine that gets a part of a processor is slow; its init would take what is late for missing.
const PATIENT: &str = "[Manager]\nDefaultDeviceTimeoutSec=1h\nDefaultTimeoutStartSec=1h\n";
/// The folder of a btrfs volume that is the second system's root.
const SUBVOLUME: &str = "@second";
/// What its start is called.
const SECOND_PHASE: &str = "second";
const SECTOR: u64 = 512;

/// What stands on the console where our menu starts a system.
const STARTING: &str = "Starting Debian GNU/Linux";

/// What a start must say: the step, and a part of it. An empty step is the whole console.
type Expected = &'static [(&'static str, &'static str)];

/// A start: what it calls itself, what is done there, what it must say, and whether a copy of the disk is attached.
struct Phase {
    name: &'static str,
    what: &'static str,
    expected: Expected,
    with_copy: bool,
}

/// For each start what it must say, in its order.
static PHASES: [Phase; 8] = [
    Phase {
        name: "1",
        what: "handed to the kernel from outside: the package comes, the menu is drafted and applied",
        expected: &[
            ("draft", "Debian GNU/Linux"),
            ("apply", "Applied"),
            ("units", "of the package are turned on"),
        ],
        with_copy: false,
    },
    Phase {
        name: "2",
        what: "through our menu, as rehearsed; then an update that is half done",
        expected: &[
            ("", STARTING),
            ("rehearse", "Debian GNU/Linux"),
            ("draft-half", "an update seems to be under way"),
        ],
        with_copy: false,
    },
    Phase {
        name: "3",
        what: "in the middle of the update; then entry and boot program are lost, and hold corrects them",
        expected: &[
            ("", STARTING),
            ("journal", "corrected: write the boot program"),
            ("journal", "corrected: make entry"),
            ("again", "Everything is as it was applied"),
        ],
        with_copy: false,
    },
    Phase {
        name: "4",
        what: "as corrected; then both slots are scrambled, the ESP is full, the default's kernel is gone",
        expected: &[
            ("", STARTING),
            // The unit that watches /boot may have come first.
            ("hold-slots", "Next start Debian GNU/Linux"),
            ("full", "Applied"),
            ("no-kernel!", "refused (default-gone)"),
            ("once", "from d1p3:"),
        ],
        with_copy: false,
    },
    Phase {
        name: SECOND_PHASE,
        what: "the second system, once: it drafts from the first one's menu, and takes it over",
        expected: &[
            ("", STARTING),
            ("start second", SUBVOLUME),
            ("draft", "which another system of this PC put there"),
            ("take-over!", "refused (other-system)"),
            ("taken-over", "Applied"),
        ],
        with_copy: false,
    },
    Phase {
        name: "5",
        what: "the first system by the second one's menu, beside a copy of the whole disk; it takes the menu back",
        expected: &[
            ("", STARTING),
            ("lost", "and hold leaves that"),
            ("take-over!", "refused (other-system)"),
            ("taken-over", "Applied"),
        ],
        with_copy: true,
    },
    Phase {
        name: "6",
        what: "as before; then the package is removed and purged",
        expected: &[
            ("", STARTING),
            ("remove", "goes on starting this machine"),
            ("left", "MENU-A.TML"),
            ("left", "/var/lib/signpost': No such file"),
        ],
        with_copy: false,
    },
    Phase {
        name: "7",
        what: "without the package, through the menu that it left",
        expected: &[("", STARTING)],
        with_copy: false,
    },
];

/// How much of it is lived through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Life {
    /// All.
    Whole,
    /// What one system goes through by itself: installed, updated halfway, hurt and corrected, and the package removed.
    Short,
}

impl Life {
    fn phases(self) -> impl Iterator<Item = &'static Phase> {
        const SHORT: [&str; 4] = ["1", "2", "3", "6"];
        PHASES.iter().filter(move |phase| self == Self::Whole || SHORT.contains(&phase.name))
    }

    /// The phases of the first system, as it takes one after the other.
    fn of_first_system(self) -> String {
        self.phases()
            .map(|phase| phase.name)
            .filter(|name| *name != SECOND_PHASE)
            .collect::<Vec<_>>()
            .join(" ")
    }
}

/// Makes what any machine begins with: the system as its distribution's own tool makes it, once.
pub fn prepare() -> Result<PathBuf> {
    packages::need(&NEEDS)?;
    base(&folder())
}

fn folder() -> PathBuf {
    target_folder().join("living")
}

/// Makes the machine and lives through it.
pub fn live(life: Life) -> Result<()> {
    let (base, folder) = (prepare()?, folder());
    let machine = folder.join("machine");
    if machine.exists() {
        fs::remove_dir_all(&machine).map_err(at(&machine))?;
    }
    fs::create_dir_all(&machine).map_err(at(&machine))?;
    let disk = disk(&base, &machine, life)?;
    let variables = machine.join("variables.fd");
    fs::copy(VARIABLES, &variables).map_err(at(&variables))?;
    for (number, phase) in (1..).zip(life.phases()) {
        let started = Instant::now();
        let mut spec = Spec {
            variables: variables.clone(),
            disks: vec![Disk::plain(disk.clone())],
            memory: 1024,
            is_bios: false,
            secure_boot: false,
            devices: Vec::new(),
        };
        if number == 1 {
            spec.devices = kernel_from_outside(&base)?;
        }
        if phase.with_copy {
            let copy = machine.join("copy.img");
            run(command("cp").arg("--sparse=always").arg(&disk).arg(&copy))?;
            spec.disks.push(Disk::plain(copy));
        }
        let serial = Vm::start(&spec, None)?.until_it_ends()?;
        let log = machine.join(format!("start-{number}.log"));
        fs::write(&log, &serial).map_err(at(&log))?;
        hold_against(&serial, phase).map_err(|why| format!("{why}; see {}", log.display()))?;
        println!("start {number}, {:>3} s: {}", started.elapsed().as_secs(), phase.what);
    }
    Ok(())
}

/// Every step that was framed ended as it should, and said what it should.
fn hold_against(serial: &str, phase: &Phase) -> Result<()> {
    let (text, start) = (serial.replace('\r', ""), phase.name);
    if !text.contains(&format!("=== start {start}\n")) || !text.contains("=== end\n") {
        return Err(format!("start {start} did not come to its end"));
    }
    for line in text.lines().filter_map(|line| line.strip_prefix("--- ")) {
        let (name, code) = line.rsplit_once(' ').unwrap_or((line, "?"));
        // What is looked for there is gone, as it should be.
        let is_right = name == "left" || code == if name.ends_with('!') { "3" } else { "0" };
        if !is_right {
            return Err(format!("start {start}: {name} ended with {code}"));
        }
    }
    for (step, part) in phase.expected {
        let said = match *step {
            "" => Some(text.as_str()),
            step => text
                .split_once(&format!("=== {step}\n"))
                .and_then(|(_, rest)| rest.split_once(&format!("--- {step} ")))
                .map(|(said, _)| said),
        };
        // A sentence may be broken at the end of the line.
        let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        if !said.is_some_and(|said| flat(said).contains(&flat(part))) {
            return Err(format!("start {start}: {step} did not say \"{part}\""));
        }
    }
    Ok(())
}

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
    named.map(str::to_string).ok_or_else(|| "this is not a release of Debian".into())
}

/// A disk with an empty ESP, the first system, and the second one where it is met.
fn disk(base: &Path, machine: &Path, life: Life) -> Result<PathBuf> {
    let (esp, system, disk) = (machine.join("esp"), machine.join("system"), machine.join("disk.img"));
    sized(&esp, ESP.1)?;
    run(command("mkfs.fat")
        .args(["-F", "32", "-i", "4F2A11C9"])
        .arg(&esp)
        .stdout(std::process::Stdio::null()))?;
    let root = machine.join("root");
    run(command("cp").arg("-a").arg(base).arg(&root))?;
    fill(&root, &life.of_first_system(), &format!("UUID={ROOT_UUID} / ext4 defaults 0 1"))?;
    sized(&system, ROOT.1)?;
    run(command("mke2fs").args(["-q", "-F", "-t", "ext4", "-U", ROOT_UUID, "-d"]).arg(&root).arg(&system))?;
    fs::remove_dir_all(&root).map_err(at(&root))?;
    let mut partitions = vec![(esp, ESP, "U"), (system, ROOT, "L")];
    if life == Life::Whole {
        partitions.push((second_system(base, machine)?, SECOND, "L"));
    }
    sized(&disk, SECOND.0 + SECOND.1 + 2048)?;
    let line = |(_, (start, length), kind): &(PathBuf, (u64, u64), &str)| {
        format!("start={start}, size={length}, type={kind}\\n")
    };
    let lines: String = partitions.iter().map(line).collect();
    let table = format!("printf 'label: gpt\\n{lines}' | sfdisk -q \"$0\"");
    run(command("sh").args(["-c", &table]).arg(&disk))?;
    for (from, (start, _), _) in &partitions {
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
    Ok(disk)
}

/// The volume of the second system.
fn second_system(base: &Path, machine: &Path) -> Result<PathBuf> {
    let (second, root) = (machine.join("second"), machine.join("root"));
    sized(&second, SECOND.1)?;
    run(command("mkfs.btrfs").args(["-q", "-U", SECOND_UUID]).arg(&second))?;
    fs::create_dir_all(&root).map_err(at(&root))?;
    run(command("mount").args(["-o", "loop"]).arg(&second).arg(&root))?;
    let filled = fill_second(base, &root.join(SUBVOLUME));
    run(command("umount").arg(&root))?;
    filled?;
    fs::remove_dir(&root).map_err(at(&root))?;
    Ok(second)
}

fn sized(path: &Path, sectors: u64) -> Result<()> {
    let file = fs::File::create(path).map_err(at(path))?;
    file.set_len(sectors * SECTOR).map_err(at(path))
}

/// The second system, in a subvolume of a mounted volume.
fn fill_second(base: &Path, root: &Path) -> Result<()> {
    run(command("btrfs").args(["--quiet", "subvolume", "create"]).arg(root))?;
    run(command("cp").arg("-a").arg(base.join(".")).arg(root))?;
    let options = format!("rootflags=subvol={SUBVOLUME}");
    fill(root, SECOND_PHASE, &format!("UUID={SECOND_UUID} / btrfs subvol={SUBVOLUME} 0 1"))?;
    let kept = root.join("etc/kernel/cmdline");
    make_parent(&kept)?;
    let args = format!("root=UUID={SECOND_UUID} {options} rw {ARGUMENTS} {SAME_ADDRESSES}\n");
    fs::write(&kept, args).map_err(at(&kept))
}

/// What a system has beside what its distribution's tool made: package, steps, its own phases and fstab.
fn fill(root: &Path, phases: &str, mount: &str) -> Result<()> {
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
    write("root/phases", &format!("{phases}\n"))?;
    let patient = "etc/systemd/system.conf.d/patient.conf";
    make_parent(&root.join(patient))?;
    write(patient, PATIENT)?;
    write("etc/fstab", &format!("{mount}\nUUID=4F2A-11C9 /boot/efi vfat defaults 0 2\n"))?;
    // Each system makes its own at its first start; one of another program would be taken.
    write("etc/machine-id", "uninitialized\n")?;
    let of_another = root.join("var/lib/dbus/machine-id");
    if of_another.exists() {
        fs::remove_file(&of_another).map_err(at(&of_another))?;
    }
    fs::create_dir_all(root.join("boot/efi")).map_err(at(root))
}

fn make_parent(path: &Path) -> Result<()> {
    let parent = path.parent().unwrap_or(path);
    fs::create_dir_all(parent).map_err(at(parent))
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
    let args = format!("root=UUID={ROOT_UUID} rw {ARGUMENTS} {SAME_ADDRESSES}");
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
