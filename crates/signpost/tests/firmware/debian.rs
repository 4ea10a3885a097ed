//! A real kernel through our menu to its init, from XFS, btrfs, and ext4 on a logical volume.

use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use signpost_demo::{Content, StoreKind};
use signpost_vm::{Spec, Vm};

use crate::harness::{TestMachine, lark_disk, menu, small};
use crate::vm::awake;

/// The kernel that Debian's package linux-image-cloud-amd64 has installed, and its version.
pub fn kernel() -> (String, Vec<u8>) {
    let kernels =
        std::fs::read_dir("/boot").unwrap().filter_map(|entry| entry.ok()?.file_name().into_string().ok());
    let name = kernels.filter(|name| name.starts_with("vmlinuz-") && name.ends_with("cloud-amd64")).max();
    let name = name.expect("no kernel in /boot; `cargo xtask test` installs linux-image-cloud-amd64");
    let bytes = std::fs::read(Path::new("/boot").join(&name)).unwrap();
    (name.trim_start_matches("vmlinuz-").to_string(), bytes)
}

/// An archive with a shell and an init that says what it was handed, then powers off.
fn initrd(work: &Path) -> Vec<u8> {
    let root = work.join("initrd");
    let init = "#!/bin/busybox sh\n/bin/busybox mount -t proc proc /proc\n\
                echo \"INIT RUNS WITH $(/bin/busybox cat /proc/cmdline)\"\n/bin/busybox poweroff -f\n";
    archive(&root, init)
}

/// An archive with a shell, this init, and what lies in the folder already.
pub fn archive(root: &Path, init: &str) -> Vec<u8> {
    std::fs::create_dir_all(root.join("bin")).unwrap();
    std::fs::create_dir_all(root.join("proc")).unwrap();
    let shell =
        std::fs::read("/bin/busybox").expect("no /bin/busybox; `cargo xtask test` installs busybox-static");
    std::fs::write(root.join("bin/busybox"), shell).unwrap();
    std::fs::write(root.join("init"), init).unwrap();
    let script = "chmod 755 init bin/* && find . | cpio -o -H newc --quiet";
    let output = Command::new("sh").arg("-c").arg(script).current_dir(root).output().unwrap();
    assert!(
        output.status.success(),
        "{}; `cargo xtask test` installs cpio",
        String::from_utf8_lossy(&output.stderr)
    );
    output.stdout
}

pub const UUID: &str = "5eed0000-0000-4000-8000-00000000cafe";

/// Runs a tool, which must end well.
pub fn run(tool: &str, args: &[&str]) -> String {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new("timeout").args(["120", tool]).args(args).env("PATH", path).output().unwrap();
    let errors = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{tool} {args:?}: {errors}; `cargo xtask test` installs it");
    String::from_utf8_lossy(&output.stdout).trim().to_string()
}

/// A folder with the kernel and its initrd; the version.
pub fn tree(work: &Path) -> (PathBuf, String) {
    let (version, kernel) = kernel();
    let tree = work.join("tree");
    std::fs::create_dir_all(tree.join("boot")).unwrap();
    std::fs::write(tree.join(format!("boot/vmlinuz-{version}")), kernel).unwrap();
    std::fs::write(tree.join(format!("boot/initrd-{version}")), initrd(work)).unwrap();
    (tree, version)
}

pub fn sized(work: &Path, mebibytes: u64) -> String {
    let path = work.join(format!("{mebibytes}.img"));
    std::fs::File::create(&path).unwrap().set_len(mebibytes << 20).unwrap();
    path.to_str().unwrap().to_string()
}

/// Fills a volume by mounting it; `folder` is where the tree goes.
fn fill(work: &Path, image: &str, options: &str, prepare: impl FnOnce(&str), folder: &str) {
    let (tree, _) = tree(work);
    let mounted = work.join("mounted");
    std::fs::create_dir_all(&mounted).unwrap();
    let root = mounted.to_str().unwrap();
    run("mount", &["-o", &format!("loop,{options}"), image, root]);
    prepare(root);
    run("cp", &["-r", tree.join("boot").to_str().unwrap(), &format!("{root}{folder}")]);
    run("umount", &[root]);
}

/// Starts the kernel from this volume through the menu, and waits for its init to say the arguments that the
/// rehearsal told.
fn reaches_its_init(image: &str, volume: &str, folder: &str) {
    let machine = machine_with(image);
    let entry = format!(
        "id = \"debian\"\nstarts = \"linux\"\nvolume = \"{volume}\"\nkernel = \"newest:{folder}/boot/vmlinuz-*\"\n\
         initrd = \"{folder}/boot/initrd-{{version}}\"\nroot = \"{volume}\"\n\
         args = \"root={{root}} console=ttyS0 tide=high\""
    );
    machine.write("menu.toml", &menu("timeout = 0", &[&entry]).replace("\"firmware\"", "\"signpost\""));
    machine.ok(&["apply", "--yes"]);
    let rehearsed = machine.json(&["rehearse"]);
    let arguments = rehearsed["outcome"]["notes"][1].as_str().unwrap().trim_start_matches("arguments: ");
    let mut vm = started(&machine);
    vm.wait_for(&format!("INIT RUNS WITH {arguments}")).unwrap();
    vm.until_it_ends().unwrap();
}

/// A machine of one disk: an ESP, and this volume.
fn machine_with(image: &str) -> TestMachine {
    let mut spec = small(StoreKind::Fd);
    let mut disk = lark_disk(vec![]);
    let bytes = std::fs::read(image).unwrap();
    disk.partitions[1].mebibytes = (bytes.len() >> 20) as u64;
    disk.partitions[1].content = Content::Bytes(bytes);
    spec.disks = vec![disk];
    spec.variables.clear();
    TestMachine::new(&spec)
}

fn started(machine: &TestMachine) -> Vm {
    let spec = Spec { memory: 512, ..Spec::of_bench(machine.folder(), &["lark.img"]) };
    awake(&spec, None)
}

/// The system in a subvolume, by hand at the prompt: nobody types where it lies.
fn is_composed_at_the_prompt(image: &str) {
    let machine = machine_with(image);
    let setup = "id = \"setup\"\ntitle = \"Setup\"\nstarts = \"setup-screen\"";
    let text = menu("timeout = \"never\"", &[setup]).replace("\"firmware\"", "\"signpost\"");
    machine.write("menu.toml", &text);
    machine.ok(&["apply", "--yes", "--despite", "nothing-starts"]);
    let said = machine.ok(&["prompt", "--do", "compose linux on d1p2"]);
    assert!(said.contains("Larkspur Linux 14") && said.contains("kernel: /@/boot/vmlinuz-"), "{said}");
    let mut vm = started(&machine);
    vm.wait_for("? help").unwrap();
    vm.type_keys(":").unwrap();
    vm.wait_for("Enter runs the line").unwrap();
    vm.type_keys("compose linux on d1p2\rargs +console=ttyS0\rstart\r").unwrap();
    vm.wait_for(&format!("INIT RUNS WITH root=UUID={UUID} rootflags=subvol=@ ro console=ttyS0")).unwrap();
    vm.until_it_ends().unwrap();
}

#[test]
fn debians_kernel_reaches_its_init_from_xfs() {
    let work = tempfile::tempdir().unwrap();
    let image = sized(work.path(), 320);
    run("mkfs.xfs", &["-q", "-m", &format!("uuid={UUID}"), &image]);
    fill(work.path(), &image, "defaults", |_| {}, "");
    reaches_its_init(&image, &format!("uuid:{UUID}"), "");
}

/// In a subvolume, packed.
#[test]
fn debians_kernel_reaches_its_init_from_btrfs() {
    let work = tempfile::tempdir().unwrap();
    let image = sized(work.path(), 160);
    run("mkfs.btrfs", &["-q", "-U", UUID, &image]);
    let make = |root: &str| {
        run("btrfs", &["subvolume", "create", &format!("{root}/@")]);
        std::fs::create_dir(format!("{root}/@/etc")).unwrap();
        std::fs::write(format!("{root}/@/etc/os-release"), "PRETTY_NAME=\"Larkspur Linux 14\"\n").unwrap();
    };
    fill(work.path(), &image, "compress-force=zstd", make, "/@");
    reaches_its_init(&image, &format!("uuid:{UUID}"), "/@");
    is_composed_at_the_prompt(&image);
}

/// A physical volume with one logical volume, which holds a file system with these files; and the group's name.
pub fn logical_volume(work: &Path, tree: &Path) -> (String, String) {
    const CONFIG: &str = "devices{use_devicesfile=0 filter=[\"a|^/dev/loop|\",\"r|.*|\"]}";
    let root = sized(work, 64);
    run("mke2fs", &["-q", "-t", "ext4", "-U", UUID, "-d", tree.to_str().unwrap(), &root]);
    let disk = sized(work, 80);
    // A name of its own: the tools see the groups of all loop devices.
    let own: String =
        work.file_name().unwrap().to_string_lossy().chars().filter(char::is_ascii_alphanumeric).collect();
    let group = format!("boot{own}");
    let device = run("losetup", &["--find", "--show", &disk]);
    let lvm = |tool: &str, args: &[&str]| {
        let mut all = vec!["-qq", "--config", CONFIG, "--driverloaded", "n"];
        all.extend(args);
        run(tool, &all);
    };
    lvm("vgcreate", &["-y", &group, &device]);
    lvm("lvcreate", &["-an", "-Zn", "-Wn", "-y", "-L", "64m", "-n", "root", &group]);
    run("losetup", &["--detach", &device]);
    // The one logical volume starts with the first extent, 1 MiB from the start.
    let file = std::fs::File::options().write(true).open(&disk).unwrap();
    file.write_all_at(&std::fs::read(&root).unwrap(), 1 << 20).unwrap();
    (disk, group)
}

#[test]
fn debians_kernel_reaches_its_init_from_ext4_on_a_logical_volume() {
    let work = tempfile::tempdir().unwrap();
    let (tree, _) = tree(work.path());
    let (disk, group) = logical_volume(work.path(), &tree);
    reaches_its_init(&disk, &format!("lv:{group}/root"), "");
}
