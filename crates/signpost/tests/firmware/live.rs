//! The program on the machine that it runs on: a real kernel in the virtual machine, started from a rescue disk beside a
//! bench's own, with the program in its initrd.

use std::path::Path;
use std::process::Command;

use serde_json::Value;
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::guid;
use signpost_firmware::boot_variables::{boot_next, boot_option};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::ucs2::Ucs2;
use signpost_vm::{SAME_ADDRESSES, Spec};

use crate::debian::{archive, kernel, run};
use crate::harness::{TestMachine, file, program, small};
use crate::vm::{awake, start};

const RESCUE: u16 = 9;
const IMAGES: [&str; 3] = ["lark.img", "meridian.img", "rescue.img"];
/// What the kernel is taught before anything runs; each with what it needs.
const MODULES: [&str; 9] = [
    "virtio_pci",
    "virtio_blk",
    "vfat",
    "nls_cp437",
    "nls_ascii",
    "nls_iso8859-1",
    "efivarfs",
    "dm_mod",
    "edd",
];
/// Makes a device of another one.
const MAPPER: &str = "/sbin/dmsetup";
/// Runs a command between two lines that name it; the second ends with its exit code.
const INIT: &str = "#!/bin/busybox sh
export PATH=/bin
/bin/busybox --install -s /bin
mkdir -p /sys /dev /run /tmp /etc /var/lib /esp /root
mount -t proc proc /proc
mount -t sysfs sysfs /sys
mount -t devtmpfs devtmpfs /dev
# One of them, on firmware that tells it nothing, refuses to be taught.
modprobe -a $(cat /modules) 2>/dev/null
variables() { mount -t efivarfs efivarfs /sys/firmware/efi/efivars; }
said() { name=$1; shift; echo \"=== $name\"; \"$@\" 2>&1; echo \"--- $name $?\"; }
";

/// The bench: Larkspur's system with its root on ext4, Meridian's loader, and the rescue disk, which starts next.
struct Rescue {
    machine: TestMachine,
}

/// What a command said, and its exit code.
pub struct Said {
    pub text: String,
    pub code: i32,
}

impl Rescue {
    /// With this script as what the rescue system does, before it powers off.
    fn new(script: &str) -> Self {
        let work = tempfile::tempdir().unwrap();
        let machine = TestMachine::new(&bench(&work.path().join("rescue"), script));
        // Virtual disks say no model, and are all of one kind.
        let text = machine.read("machine.toml");
        let lines = text.lines().filter(|line| !line.starts_with("model"));
        let lines: Vec<&str> =
            lines.map(|line| if line.starts_with("bus") { "bus = \"virtio\"" } else { line }).collect();
        machine.write("machine.toml", &lines.join("\n"));
        Self { machine }
    }

    /// Starts the rescue system, and waits until it has done its work.
    fn works(&self) -> Heard {
        let mut spec = Spec { memory: 768, ..Spec::of_bench(self.machine.folder(), &IMAGES) };
        for (disk, serial) in spec.disks.iter_mut().zip(["PTR-1", "CRM-1", "RSC-1"]) {
            disk.serial = Some(serial.into());
        }
        Heard(awake(&spec, None).until_it_ends().unwrap().replace('\r', ""))
    }

    /// Titles of what starts after that.
    fn starts(&self) -> Vec<String> {
        start(self.machine.folder(), &IMAGES[..2]).started
    }
}

/// Everything on the serial console.
pub struct Heard(pub String);

impl Heard {
    pub fn said(&self, name: &str) -> Said {
        let all = &self.0;
        let find = || {
            let (_, rest) = all.split_once(&format!("=== {name}\n"))?;
            let (text, rest) = rest.split_once(&format!("--- {name} "))?;
            let code = rest.lines().next()?.trim().parse().ok()?;
            Some(Said { text: text.to_string(), code })
        };
        find().unwrap_or_else(|| panic!("{name} was not said:\n{all}"))
    }

    /// What a command said that ended well.
    pub fn ok(&self, name: &str) -> String {
        let said = self.said(name);
        assert_eq!(said.code, 0, "{name}: {}", said.text);
        said.text
    }

    pub fn json(&self, name: &str) -> Value {
        let text = self.ok(name);
        let start = text.find('{').unwrap_or_default();
        let document: Value =
            serde_json::from_str(&text[start..]).unwrap_or_else(|error| panic!("{name}: {error}\n{text}"));
        document["result"].clone()
    }
}

fn bench(work: &Path, script: &str) -> BenchSpec {
    let mut spec = small(StoreKind::Fd);
    spec.disks[0].partitions[1].mebibytes = 16;
    spec.disks[0].partitions[1].content = Content::Bytes(root(work));
    let esp = PartitionSpec::esp(
        guid!("cccccccc-0001-4000-8000-000000000001"),
        "RESCUE",
        0x0c0c_0001,
        96,
        vec![file("/EFI/rescue/linux.efi", kernel().1), file("/EFI/rescue/initrd", initrd(work, script))],
    );
    let disk = DiskSpec {
        image: "rescue.img",
        bus: "virtio",
        model: "Rescue",
        serial: "RSC-1",
        guid: guid!("cccccccc-0000-4000-8000-000000000000"),
        partitions: vec![esp],
    };
    let arguments =
        format!("initrd=\\EFI\\rescue\\initrd console=ttyS0 quiet loglevel=1 panic=-1 {SAME_ADDRESSES}");
    let data = Ucs2::from(arguments.as_str()).to_bytes_terminated();
    let option = LoadOption::new("Rescue", disk.path_to(1, "\\EFI\\rescue\\linux.efi"), data);
    spec.variables.extend([boot_option(RESCUE, &option), boot_next(RESCUE)]);
    spec.disks.push(disk);
    spec.more.push_str("\n[running]\nentry = \"0009\"\n");
    spec
}

/// Larkspur's root: its name, a kernel of its own, a table of mounts.
fn root(work: &Path) -> Vec<u8> {
    let tree = work.join("root");
    let put = |path: &str, contents: &[u8]| {
        std::fs::create_dir_all(tree.join(path).parent().unwrap()).unwrap();
        std::fs::write(tree.join(path), contents).unwrap();
    };
    put("etc/os-release", b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n");
    put("etc/fstab", b"UUID=5eed0000-0000-4000-8000-00000000cafe / ext4 defaults 0 1\n");
    put("boot/vmlinuz-6.11.0", &signpost_demo::program::Kernel::new("6.11.0").build("Larkspur"));
    put("boot/initrd-6.11.0", b"initrd");
    // What the running system of a test is given by binding.
    for folder in ["bin", "lib", "lib64", "proc", "sys", "dev"] {
        std::fs::create_dir_all(tree.join(folder)).unwrap();
    }
    let image = work.join("root.img");
    std::fs::File::create(&image).unwrap().set_len(16 << 20).unwrap();
    let (tree, image) = (tree.to_str().unwrap(), image.to_str().unwrap());
    run("mke2fs", &["-q", "-t", "ext4", "-U", "5eed0000-0000-4000-8000-00000000cafe", "-d", tree, image]);
    std::fs::read(image).unwrap()
}

/// The rescue system: a shell, the program with its libraries, the boot program, the kernel's modules.
pub fn initrd(work: &Path, script: &str) -> Vec<u8> {
    let root = work.join("initrd");
    let put = |from: &str, to: &str| {
        let to = root.join(to.trim_start_matches('/'));
        std::fs::create_dir_all(to.parent().unwrap()).unwrap();
        std::fs::copy(from, to).unwrap_or_else(|error| panic!("{from}: {error}"));
    };
    let binary = program().get_program().to_str().unwrap().to_string();
    put(&binary, "bin/signpost");
    run("strip", &[root.join("bin/signpost").to_str().unwrap()]);
    put(MAPPER, "bin/dmsetup");
    for program in [&binary, MAPPER] {
        for word in run("ldd", &[program]).split_whitespace().filter(|word| word.starts_with('/')) {
            put(word, word);
        }
    }
    for name in ["signpost-x64.efi", "signpost-bios.img"] {
        let boot = Path::new(&binary).parent().unwrap().join("../boot").join(name);
        put(boot.to_str().unwrap(), &format!("bin/{name}"));
    }
    let version = kernel().0;
    for module in MODULES {
        // Each line is a command and the file that it takes.
        let files = run("modprobe", &["-S", &version, "--show-depends", module]);
        for path in files.split_whitespace().filter(|word| word.starts_with('/')) {
            put(path, path);
        }
    }
    run("depmod", &["-b", root.to_str().unwrap(), &version]);
    std::fs::write(root.join("modules"), MODULES.join(" ")).unwrap();
    archive(&root, &format!("{INIT}{script}\nsync\npoweroff -f\n"))
}

/// Device names and mount points differ between the inside and the outside, and what the running system is.
fn comparable(mut survey: Value) -> Value {
    for key in ["machine", "changes"] {
        survey[key] = Value::Null;
    }
    for disk in survey["disks"].as_array_mut().unwrap() {
        disk["name"] = Value::Null;
        disk["path"] = Value::Null;
    }
    for volume in survey["volumes"].as_array_mut().unwrap() {
        volume["device"] = Value::Null;
        volume["disk_path"] = Value::Null;
        volume["mounted"] = Value::Null;
    }
    // They stand beside volumes in words too.
    let mut text = survey.to_string();
    while let Some(start) = text.find(" (/dev/") {
        let end = text[start..].find(')').unwrap();
        text.replace_range(start..=start + end, "");
    }
    serde_json::from_str(&text).unwrap()
}

#[test]
fn inside_and_outside_see_the_same_machine() {
    let rescue = Rescue::new(
        "variables
         said unmounted signpost --json survey
         mount /dev/vda1 /esp; mkdir /lark; mount -o ro /dev/vda2 /lark
         said mounted signpost --json survey
         said text signpost survey
         for part in bin lib lib64 proc sys dev; do mount --bind /$part /lark/$part; done
         said installed chroot /lark signpost --json survey
         for part in bin lib lib64 proc sys dev; do umount /lark/$part; done
         umount /esp /lark",
    );
    let heard = rescue.works();
    // Where each disk is plugged in only the inside sees; the bench gets it in its file, as its owner could.
    let inside = heard.json("unmounted");
    let mut plugged = inside["disks"].as_array().unwrap().iter().map(|disk| disk["path"].as_str().unwrap());
    let told = rescue.machine.read("machine.toml").lines().fold(String::new(), |told, line| {
        let path = line.starts_with("image").then(|| format!("path = \"{}\"\n", plugged.next().unwrap()));
        told + line + "\n" + &path.unwrap_or_default()
    });
    rescue.machine.write("machine.toml", &told);
    let mut outside = comparable(rescue.machine.json(&["survey"]));
    for name in ["unmounted", "mounted"] {
        let inside = heard.json(name);
        assert_eq!(inside["volumes"][1]["device"], "/dev/vda2", "{inside}");
        let plugged = inside["disks"][0]["path"].as_str().unwrap();
        assert!(
            plugged.starts_with("PciRoot(0x0)/Pci(0x"),
            "where it is plugged in is known inside: {plugged}"
        );
        let mounted = if name == "mounted" { serde_json::json!(["/lark"]) } else { serde_json::json!([]) };
        assert_eq!(inside["volumes"][1]["mounted"], mounted);
        // The firmware's own picture of what it started is gone with the machine.
        outside["firmware"]["current"] = inside["firmware"]["current"].clone();
        assert_eq!(comparable(inside), outside, "{name}");
    }
    let installed = heard.json("installed");
    assert_eq!(installed["machine"]["is_rescue"], false);
    let running = &installed["systems"][0];
    assert_eq!((&running["id"], &running["is_running"]), (&Value::from("larkspur"), &Value::from(true)));
    let text = heard.ok("text");
    for part in ["/dev/vda1 at /esp", "a rescue system is running", "entry 0009 \"Rescue\""] {
        assert!(text.contains(part), "{part}: {text}");
    }
}

/// The disks are root's alone, and described as the device manager does it; the volume is the kernel's own.
#[test]
fn a_mounted_logical_volume_is_shown_to_everybody() {
    let rescue = Rescue::new(
        "mkdir -p /run/udev/data /lark
         echo E:ID_PART_TABLE_TYPE=gpt > /run/udev/data/b$(cat /sys/block/vda/dev)
         echo E:ID_FS_TYPE=LVM2_member > /run/udev/data/b$(cat /sys/block/vda/vda2/dev)
         uuid=LVM-$(printf '%064d' 7)
         dmsetup create tide--bench-root --uuid $uuid --table \"0 $(cat /sys/block/vda/vda2/size) linear /dev/vda2 0\"
         echo E:ID_FS_TYPE=ext4 > /run/udev/data/b$(cat /sys/block/dm-0/dev)
         mount -o ro /dev/dm-0 /lark
         echo 'anna:x:1000:1000::/:/bin/sh' > /etc/passwd
         said survey su anna -c 'signpost --json survey'",
    );
    let survey = rescue.works().json("survey");
    let volumes = survey["volumes"].as_array().unwrap();
    let made = volumes.iter().find(|volume| volume["name"] == "tide-bench/root").unwrap();
    assert_eq!((&made["kind"], &made["size"]), (&Value::from("ext4"), &Value::from(16 << 20)), "{survey}");
    assert_eq!(made["mounted"], serde_json::json!(["/lark"]));
    let member = &volumes[made["members"][0].as_u64().unwrap() as usize - 1];
    assert_eq!(member["name"], "d1p2");
    assert_eq!(survey["systems"][0]["id"], "larkspur");
    assert!(!survey["machine"]["notes"].to_string().contains("dm-0"), "it is shown");
    let codes: Vec<_> = survey["findings"].as_array().unwrap().iter().map(|found| &found["code"]).collect();
    assert!(!codes.contains(&&Value::from("volume-broken")), "{codes:?}");
}

#[test]
fn a_menu_is_drafted_applied_and_sent_on_from_inside() {
    let rescue = Rescue::new(
        "variables
         said draft signpost draft --host signpost
         said plan signpost plan
         said apply signpost apply --yes
         said again signpost apply --yes
         said once signpost once meridian
         said rehearse signpost --json rehearse
         said mounts cat /proc/self/mountinfo",
    );
    let heard = rescue.works();
    for name in ["draft", "plan", "apply", "again", "once"] {
        heard.ok(name);
    }
    assert!(!heard.ok("mounts").contains("vfat"), "nothing stays mounted");
    let planned = heard.json("rehearse");
    let inside = planned["outcome"]["system"].clone();
    assert_eq!(inside, "meridian", "{planned}");
    assert_eq!(rescue.machine.json(&["rehearse"])["outcome"]["system"], inside);
    assert_eq!(rescue.starts(), ["Meridian"]);
}

#[test]
fn what_was_applied_on_a_mounted_volume_is_taken_back() {
    let rescue = Rescue::new(
        "variables
         mount /dev/vda1 /esp
         said draft signpost draft --host signpost
         said apply signpost apply --yes
         said files find /esp/EFI/signpost -type f
         said undo signpost undo --yes
         said left find /esp/EFI
         rm /etc/signpost/menu.toml; signpost draft
         said firmware-host signpost apply --yes
         said rehearse signpost --json rehearse",
    );
    let heard = rescue.works();
    heard.ok("draft");
    heard.ok("apply");
    assert!(heard.ok("files").contains("MENU-A.TML"));
    heard.ok("undo");
    assert!(!heard.ok("left").contains("signpost"), "{}", heard.ok("left"));
    heard.ok("firmware-host");
    assert_eq!(heard.json("rehearse")["outcome"]["system"], "larkspur");
    assert_eq!(rescue.starts(), ["Larkspur"]);
}

/// Each is named by itself, with what helps; then a second run, which waits a while for the first.
#[test]
fn what_stands_against_writing_is_told_before_anything_is_written() {
    let rescue = Rescue::new(
        "mount /dev/vda1 /esp; cp /esp/EFI/larkspur/lkload.efi /tmp/before
         said no-variables signpost survey
         said plan-without sh -c 'signpost draft; signpost plan'
         rm /etc/signpost/menu.toml
         variables
         said draft signpost draft --host signpost
         mount -o remount,ro /sys/firmware/efi/efivars
         said read-only-variables signpost apply --yes
         mount -o remount,rw /sys/firmware/efi/efivars; mount -o remount,ro /esp
         said read-only-volume signpost apply --yes
         mount -o remount,rw /esp
         said untouched sh -c 'ls /esp/EFI; ls /var/lib/signpost'
         echo 'anna:x:1000:1000::/:/bin/sh' > /etc/passwd
         said not-root su anna -c 'signpost apply --yes'
         said not-root-survey su anna -c 'signpost survey'
         signpost apply --yes & first=$!; while ! grep -q . /run/signpost/lock; do :; done 2>/dev/null; kill -STOP $first
         said second signpost apply --yes
         kill -9 $first",
    );
    let heard = rescue.works();
    let refused = |name: &str, part: &str| {
        let said = heard.said(name);
        assert_eq!(said.code, 4, "{name}: {}", said.text);
        assert!(said.text.contains(part), "{name}: {}", said.text);
    };
    let survey = heard.ok("no-variables").split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(survey.contains("mount -t efivarfs efivarfs /sys/firmware/efi/efivars"), "{survey}");
    refused("plan-without", "mount -t efivarfs");
    refused("read-only-variables", "mount -o remount,rw /sys/firmware/efi/efivars");
    refused("read-only-volume", "mount -o remount,rw /esp");
    refused("not-root", "as root");
    refused("second", "another run");
    assert!(heard.ok("not-root-survey").contains("without root"));
    let untouched = heard.said("untouched").text;
    assert!(!untouched.contains("signpost\n"), "{untouched}");
}

/// Stopped, then killed three times, as soon as something new is there; whatever was reached starts, and the next run
/// goes on from it.
#[test]
fn stopped_or_killed_between_writes_the_machine_starts_and_the_next_run_goes_on() {
    let rescue = Rescue::new(
        "variables
         mount /dev/vda1 /esp
         there() { set -- $1; [ -e \"$1\" ]; }
         once_there() { signpost apply --yes & run=$!; while kill -0 $run 2>/dev/null && ! there \"$2\"; do :; done; kill -$1 $run 2>/dev/null; wait $run; }
         said draft signpost draft --host signpost
         said stopped once_there TERM '/esp/EFI/signpost/*.EFI'
         said after-stop signpost --json rehearse
         said first once_there KILL /esp/EFI/signpost/MENU-B.TML
         said after-first signpost --json rehearse
         said second once_there KILL /esp/EFI/signpost/MENU-A.TML
         said after-second signpost --json rehearse
         said third once_there KILL '/sys/firmware/efi/efivars/Boot0007-*'
         said after-third signpost --json rehearse
         said apply signpost apply --yes
         said last signpost --json rehearse",
    );
    let heard = rescue.works();
    let stopped = heard.said("stopped");
    assert_eq!(stopped.code, 4, "{}", stopped.text);
    assert!(stopped.text.contains("stopped after") && stopped.text.contains("goes on"), "{}", stopped.text);
    const KILLED: i32 = 128 + 9;
    for name in ["first", "second", "third"] {
        assert_eq!(heard.said(name).code, KILLED, "{name}: {}", heard.said(name).text);
    }
    for name in ["after-stop", "after-first", "after-second", "after-third"] {
        assert_eq!(heard.json(name)["outcome"]["system"], "meridian", "{name}: as before");
    }
    assert!(heard.ok("apply").contains("Applied"));
    assert_eq!(heard.json("last")["outcome"]["system"], "larkspur");
    assert_eq!(rescue.starts(), ["Larkspur"]);
}

#[test]
fn the_shell_has_the_tools_that_the_scripts_use() {
    let output = Command::new("/bin/busybox").arg("--list").output().unwrap();
    let list = String::from_utf8(output.stdout).unwrap();
    for tool in ["modprobe", "su", "mount", "find", "grep", "sed", "kill", "poweroff"] {
        assert!(list.lines().any(|line| line == tool), "{tool}");
    }
}

/// A PC whose ESPs and firmware entries were wiped: a rescue medium finds on its disk what was applied, and puts that back.
#[test]
fn a_rescue_medium_mends_a_machine_of_which_everything_that_starts_was_wiped() {
    let rescue = Rescue::new(
        "variables
         mkdir /lark; mount /dev/vda2 /lark; mkdir -p /lark/var/lib /lark/esp; mount /dev/vda1 /lark/esp
         cat /proc/sys/kernel/random/uuid | tr -d - > /lark/etc/machine-id
         for part in bin lib lib64 proc sys dev; do mount --bind /$part /lark/$part; done
         mount -t efivarfs efivarfs /lark/sys/firmware/efi/efivars
         said draft chroot /lark signpost draft --host signpost
         said apply chroot /lark signpost apply --yes
         said seen chroot /lark signpost survey
         rm -r /lark/esp/EFI
         for part in bin lib lib64 proc sys/firmware/efi/efivars sys dev esp; do umount /lark/$part; done
         umount /lark
         mount /dev/vdb1 /esp; rm -r /esp/EFI; umount /esp
         cd /sys/firmware/efi/efivars
         for file in Boot000[0-8]* BootOrder*; do chattr -i $file; rm $file; done; cd /
         said wiped signpost rehearse
         said check signpost check
         said mend signpost mend --yes
         said again signpost check",
    );
    let heard = rescue.works();
    for name in ["draft", "apply", "seen"] {
        heard.ok(name);
    }
    // Meridian's loader is on no disk any more: that is named, and left.
    let mended = heard.said("mend");
    assert!(mended.code == 1 && mended.text.contains("Mended: 5 writes"), "{}", mended.text);
    assert!(mended.text.contains("it was there on 20"), "{}", mended.text);
    assert_eq!(heard.said("wiped").code, 1, "{}", heard.said("wiped").text);
    let check = heard.said("check");
    assert!(check.code == 1 && check.text.contains("Nothing starts by itself"), "{}", check.text);
    assert!(check.text.contains("boot-program-gone"), "{}", check.text);
    assert_eq!(rescue.starts(), ["Larkspur"]);
}
