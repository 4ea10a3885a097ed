//! Root volumes of the kinds that systems have, made by the real tools.

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Mutex;

/// A kind of root volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Root {
    Ext4,
    Xfs,
    Ntfs,
    /// ext4 on a logical volume.
    Lvm,
    /// ext4 on one member of a mirror, the other of which is away.
    Mirror,
}

pub const MEBIBYTES: u64 = 24;
/// Where the data of a mirror's member, and the first extent of a physical volume, starts.
const DATA: usize = 1 << 20;

/// The contents of a partition with such a root in it; `name` tells group or mirror from others.
pub fn made(root: Root, name: &str, uuid: &str, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let work = tempfile::tempdir().unwrap();
    match root {
        Root::Ext4 => ext4(work.path(), uuid, MEBIBYTES, files),
        Root::Xfs => xfs(work.path(), files),
        Root::Ntfs => ntfs(work.path(), files),
        Root::Lvm => lvm(work.path(), name, &ext4(work.path(), uuid, 8, files)),
        Root::Mirror => mirror(name, &ext4(work.path(), uuid, 16, files)),
    }
}

fn run(command: &mut Command) {
    let name = command.get_program().to_string_lossy().into_owned();
    let output = command
        .stdin(Stdio::null())
        .output()
        .unwrap_or_else(|error| panic!("{name}: {error}; `cargo xtask test` installs it"));
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
}

fn tree(work: &Path, files: &[(String, Vec<u8>)]) -> std::path::PathBuf {
    let tree = work.join("tree");
    std::fs::create_dir_all(&tree).unwrap();
    for (path, contents) in files {
        let path = tree.join(path.trim_start_matches('/'));
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, contents).unwrap();
    }
    tree
}

fn blank(work: &Path, mebibytes: u64) -> std::path::PathBuf {
    let image = work.join("root.img");
    std::fs::File::create(&image).unwrap().set_len(mebibytes << 20).unwrap();
    image
}

fn ext4(work: &Path, uuid: &str, mebibytes: u64, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let image = work.join("root.img");
    run(Command::new("/sbin/mke2fs")
        .args(["-q", "-t", "ext4", "-U", uuid, "-d"])
        .arg(tree(work, files))
        .arg(&image)
        .arg(format!("{mebibytes}M")));
    std::fs::read(image).unwrap()
}

/// The tool's own description of a tree.
fn description(tree: &Path) -> String {
    let mut entries: Vec<_> = std::fs::read_dir(tree).unwrap().map(|entry| entry.unwrap().path()).collect();
    entries.sort();
    let line = |path: &std::path::PathBuf| {
        let name = path.file_name().unwrap().to_str().unwrap();
        if path.is_dir() {
            format!("{name} d--755 0 0\n{}", description(path))
        } else {
            format!("{name} ---644 0 0 {}\n", path.display())
        }
    };
    entries.iter().map(line).collect::<String>() + "$\n"
}

fn xfs(work: &Path, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let proto = work.join("proto");
    std::fs::write(&proto, format!("/dev/null\n0 0\nd--755 0 0\n{}", description(&tree(work, files))))
        .unwrap();
    let image = blank(work, MEBIBYTES);
    // The tool wants 300 MB for anything that is used; this is only read.
    run(Command::new("/sbin/mkfs.xfs").args(["-q", "-f", "--unsupported", "-p"]).arg(proto).arg(&image));
    std::fs::read(image).unwrap()
}

/// The tool that copies files makes no folders, so all lie in the top one.
fn ntfs(work: &Path, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let image = blank(work, MEBIBYTES);
    run(Command::new("/sbin/mkntfs").args(["-F", "-Q", "-q"]).arg(&image));
    for (path, contents) in files {
        let file = work.join("file");
        std::fs::write(&file, contents).unwrap();
        run(Command::new("ntfscp").arg("-q").arg(&image).arg(&file).arg(path));
    }
    std::fs::read(image).unwrap()
}

/// A physical volume with one linear volume on it. The tools take loop devices alone, and look at all of them.
fn lvm(work: &Path, group: &str, inner: &[u8]) -> Vec<u8> {
    static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());
    let _held = ONE_AT_A_TIME.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let image = work.join("physical.img");
    std::fs::File::create(&image).unwrap().set_len(MEBIBYTES << 20).unwrap();
    let made = Command::new("losetup").args(["--find", "--show"]).arg(&image).output().unwrap();
    assert!(made.status.success(), "losetup: {}", String::from_utf8_lossy(&made.stderr));
    let device = String::from_utf8(made.stdout).unwrap().trim().to_string();
    let config = format!("devices{{use_devicesfile=0 filter=[\"a|^{device}$|\",\"r|.*|\"]}}");
    let tool = |name: &str, args: &[&str]| {
        run(Command::new(name).args(["-qq", "--config", &config, "--driverloaded", "n"]).args(args));
    };
    tool("vgcreate", &["-y", "-s", "4m", group, &device]);
    tool("lvcreate", &["-an", "-Zn", "-Wn", "-y", "-l", "2", "-n", "root", group]);
    run(Command::new("losetup").args(["--detach", &device]));
    let mut bytes = std::fs::read(image).unwrap();
    bytes[DATA..DATA + inner.len()].copy_from_slice(inner);
    bytes
}

/// A member of a mirror (the kernel's `md_p.h`, metadata 1.2).
fn mirror(name: &str, inner: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0; (MEBIBYTES as usize) << 20];
    let mut metadata = vec![0u8; 512];
    let mut put = |at: usize, bytes: &[u8]| metadata[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, &0xa92b_4efcu32.to_le_bytes());
    put(4, &1u32.to_le_bytes());
    put(16, format!("{name:>16}").as_bytes());
    put(32, name.as_bytes());
    put(72, &1u32.to_le_bytes());
    put(80, &(inner.len() as u64 / 512).to_le_bytes());
    put(92, &2u32.to_le_bytes());
    put(128, &(DATA as u64 / 512).to_le_bytes());
    put(136, &(inner.len() as u64 / 512).to_le_bytes());
    put(144, &8u64.to_le_bytes());
    put(200, &7u64.to_le_bytes());
    put(220, &128u32.to_le_bytes());
    put(260, &[0xff; 252]);
    put(258, &[1, 0]);
    let sum: u64 =
        metadata.chunks(4).map(|word| u64::from(u32::from_le_bytes(word.try_into().unwrap()))).sum();
    let sum = (sum as u32).wrapping_add((sum >> 32) as u32);
    metadata[216..220].copy_from_slice(&sum.to_le_bytes());
    bytes[4096..4096 + 512].copy_from_slice(&metadata);
    bytes[DATA..DATA + inner.len()].copy_from_slice(inner);
    bytes
}
