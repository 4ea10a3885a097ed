//! A real kernel, from ext4, through our menu, to its init.

use std::path::Path;
use std::process::Command;

use signpost_demo::vm::{Spec, Vm};
use signpost_demo::{Content, StoreKind};

use crate::harness::{TestMachine, lark_disk, menu, small};

/// The kernel that Debian's package linux-image-cloud-amd64 has installed, and its version.
fn kernel() -> (String, Vec<u8>) {
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
    std::fs::create_dir_all(root.join("bin")).unwrap();
    std::fs::create_dir_all(root.join("proc")).unwrap();
    let shell =
        std::fs::read("/bin/busybox").expect("no /bin/busybox; `cargo xtask test` installs busybox-static");
    std::fs::write(root.join("bin/busybox"), shell).unwrap();
    let init = "#!/bin/busybox sh\n/bin/busybox mount -t proc proc /proc\n\
                echo \"INIT RUNS WITH $(/bin/busybox cat /proc/cmdline)\"\n/bin/busybox poweroff -f\n";
    std::fs::write(root.join("init"), init).unwrap();
    let script = "chmod 755 init bin/busybox && find . | cpio -o -H newc --quiet";
    let output = Command::new("sh").arg("-c").arg(script).current_dir(&root).output().unwrap();
    assert!(
        output.status.success(),
        "{}; `cargo xtask test` installs cpio",
        String::from_utf8_lossy(&output.stderr)
    );
    output.stdout
}

#[test]
fn debians_kernel_reaches_its_init_with_the_right_arguments() {
    let work = tempfile::tempdir().unwrap();
    let (version, kernel) = kernel();
    let boot = work.path().join("tree/boot");
    std::fs::create_dir_all(&boot).unwrap();
    std::fs::write(boot.join(format!("vmlinuz-{version}")), kernel).unwrap();
    std::fs::write(boot.join(format!("initrd-{version}")), initrd(work.path())).unwrap();
    let image = work.path().join("root.img");
    let made = Command::new("/sbin/mke2fs")
        .args(["-q", "-t", "ext4", "-U", "5eed0000-0000-4000-8000-00000000cafe", "-d"])
        .arg(work.path().join("tree"))
        .arg(&image)
        .arg("64M")
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let mut spec = small(StoreKind::Fd);
    let mut disk = lark_disk(vec![]);
    disk.partitions[1].content = Content::Bytes(std::fs::read(&image).unwrap());
    disk.partitions[1].mebibytes = 64;
    spec.disks = vec![disk];
    spec.variables.clear();
    let machine = TestMachine::new(&spec);
    let entry = "id = \"debian\"\nstarts = \"linux\"\nvolume = \"uuid:5eed0000-0000-4000-8000-00000000cafe\"\n\
                 kernel = \"newest:/boot/vmlinuz-*\"\ninitrd = \"/boot/initrd-{version}\"\n\
                 root = \"uuid:5eed0000-0000-4000-8000-00000000cafe\"\nargs = \"root={root} console=ttyS0 tide=high\"";
    machine.write("menu.toml", &menu("timeout = 0", &[entry]).replace("\"firmware\"", "\"signpost\""));
    machine.ok(&["apply", "--yes"]);
    let rehearsed = machine.json(&["rehearse"]);
    let arguments = rehearsed["outcome"]["notes"][1].as_str().unwrap().trim_start_matches("arguments: ");
    let spec = Spec { memory: 512, ..Spec::of_bench(machine.folder(), &["lark.img"]) };
    let mut vm = Vm::start(&spec, None).unwrap();
    vm.wait_for(&format!("INIT RUNS WITH {arguments}")).unwrap();
    vm.until_it_ends().unwrap();
}
