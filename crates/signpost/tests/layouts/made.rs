//! Making the volumes of a layout, by the tools of their kinds.

use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, partition_type};

use super::layout::{Kind, Layout, Step, Volume};
use crate::harness::{TestMachine, small};

/// What kernels and initrds are, where they are to be real; and how large that makes volumes.
pub struct Real {
    pub kernel: Vec<u8>,
    pub initrd: Vec<u8>,
    /// An archive with nothing for this processor.
    pub microcode: Vec<u8>,
    pub mebibytes: u64,
}

/// The machine of a layout, its kernels and initrds stand-ins.
pub fn machine(layout: &Layout) -> TestMachine {
    machine_with(layout, StoreKind::Folder, None)
}

/// The machine of a layout: its volumes in their order, on one disk or two.
pub fn machine_with(layout: &Layout, store: StoreKind, real: Option<&Real>) -> TestMachine {
    let mut spec = small(store);
    spec.variables.clear();
    let disk = |index: u8, image, serial| DiskSpec {
        image,
        bus: "sata",
        model: "Made-up disk",
        serial,
        guid: guid(0xd0 + index),
        partitions: Vec::new(),
    };
    let mut disks = [disk(0, "first.img", "ONE-1"), disk(1, "second.img", "TWO-2")];
    for (index, volume) in layout.volumes.iter().enumerate() {
        disks[usize::from(volume.is_elsewhere)].partitions.push(partition(index, volume, real));
    }
    spec.disks = disks.into_iter().filter(|disk| !disk.partitions.is_empty()).collect();
    TestMachine::new(&spec)
}

fn guid(last: u8) -> Guid {
    format!("aaaaaaaa-0001-4000-8000-0000000000{last:02x}").parse().unwrap()
}

fn partition(index: usize, volume: &Volume, real: Option<&Real>) -> PartitionSpec {
    let more = real.map_or(0, |real| real.mebibytes);
    let (mebibytes, content) = match volume.kind {
        Kind::Esp | Kind::Fat => (8 + more, fat(index, volume, real)),
        Kind::Ext4 => (16 + more, Content::Bytes(ext4(index, volume, real))),
        Kind::Btrfs => (160, Content::Bytes(btrfs(index, volume, real))),
        Kind::Encrypted => (1, Content::Bytes(luks(index))),
    };
    PartitionSpec {
        guid: guid(u8::try_from(index + 1).unwrap()),
        type_guid: if volume.kind == Kind::Esp {
            partition_type::EFI_SYSTEM
        } else {
            partition_type::LINUX_DATA
        },
        name: "made",
        mebibytes,
        content,
    }
}

/// UUID of a volume.
fn uuid(index: usize, kind: Kind) -> String {
    match kind {
        Kind::Esp | Kind::Fat => format!("00FA-{:04X}", index + 1),
        _ => format!("00000000-0000-4000-8000-0000000000{:02x}", index + 1),
    }
}

/// A text with the identities of the layout's volumes: `{NAME}` is a UUID, `{NAME.part}` that of the partition.
pub fn with_identities(layout: &Layout, text: &str) -> String {
    let mut text = text.to_string();
    for (index, volume) in layout.volumes.iter().enumerate() {
        let part = guid(u8::try_from(index + 1).unwrap()).to_string();
        text = text.replace(&format!("{{{}.part}}", volume.name), &part);
        text = text.replace(&format!("{{{}}}", volume.name), &uuid(index, volume.kind));
    }
    text
}

/// Texts of files may name other volumes, which are numbered as in the layout: `{1}` is the UUID of the first FAT, as `{1e}`
/// is that of another kind.
fn filled(text: &str) -> Vec<u8> {
    let mut text = text.to_string();
    for index in 0..9 {
        text = text.replace(&format!("{{{}}}", index + 1), &uuid(index, Kind::Fat));
        text = text.replace(&format!("{{{}e}}", index + 1), &uuid(index, Kind::Ext4));
    }
    // Bytes that are not UTF-8 are written as in C.
    let mut parts = text.split("\\x");
    let mut bytes = parts.next().unwrap_or_default().as_bytes().to_vec();
    for part in parts {
        bytes.push(u8::from_str_radix(&part[..2], 16).unwrap());
        bytes.extend(part[2..].bytes());
    }
    bytes
}

/// The bytes of a file that a step makes.
fn bytes<'s>(step: &'s Step, real: Option<&Real>) -> Option<(&'s String, Vec<u8>)> {
    match (step, real) {
        (Step::Kernel { path, .. }, Some(real)) => return Some((path, real.kernel.clone())),
        (Step::File { path, text }, Some(real)) if text == "made" => {
            let is_microcode = path.ends_with("ucode.img");
            return Some((path, if is_microcode { &real.microcode } else { &real.initrd }.clone()));
        }
        _ => {}
    }
    match step {
        Step::File { path, text } => Some((path, filled(text))),
        Step::Block { path, text } => {
            let mut bytes = filled(text);
            bytes.resize(1024, b'#');
            Some((path, bytes))
        }
        Step::Kernel { path, version } => Some((path, Kernel::new(version).build("Larkspur"))),
        Step::Loader { path, name } => Some((path, Program::new(name).build())),
        _ => None,
    }
}

fn fat(index: usize, volume: &Volume, real: Option<&Real>) -> Content {
    let files = volume.steps.iter().map(|step| bytes(step, real).expect("FAT has files alone"));
    Content::Fat {
        label: "MADE",
        serial: 0x00fa_0000 + u32::try_from(index + 1).unwrap(),
        files: files.map(|(path, bytes)| (path.clone(), bytes)).collect(),
    }
}

fn put(top: &Path, step: &Step, real: Option<&Real>) {
    let below = |path: &String| -> PathBuf {
        let path = top.join(path.trim_start_matches('/'));
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        path
    };
    match step {
        Step::Link { path, to } => symlink(to, below(path)).unwrap(),
        Step::Subvolume(path) => run("btrfs", &["-q", "subvolume", "create", below(path).to_str().unwrap()]),
        Step::Image { path, label } => {
            let tree = tempfile::tempdir().unwrap();
            std::fs::create_dir(tree.path().join("live")).unwrap();
            std::fs::write(tree.path().join("live/filler"), vec![7; 2 << 20]).unwrap();
            let (image, tree) = (below(path), tree.path().to_str().unwrap());
            run("genisoimage", &["-quiet", "-R", "-V", label, "-o", image.to_str().unwrap(), tree]);
        }
        Step::Packed(path) => {
            let folder = below(&format!("{path}/within"));
            let folder = folder.parent().unwrap().to_str().unwrap();
            run("btrfs", &["property", "set", folder, "compression", "zstd"]);
        }
        Step::Snapshot { from, to } => {
            let (from, to) = (top.join(from.trim_start_matches('/')), below(to));
            run("btrfs", &["-q", "subvolume", "snapshot", from.to_str().unwrap(), to.to_str().unwrap()]);
        }
        Step::Default(path) => run("btrfs", &["subvolume", "set-default", below(path).to_str().unwrap()]),
        _ => {
            let (path, bytes) = bytes(step, real).unwrap();
            std::fs::write(below(path), bytes).unwrap();
        }
    }
}

fn ext4(index: usize, volume: &Volume, real: Option<&Real>) -> Vec<u8> {
    let work = tempfile::tempdir().unwrap();
    let (top, image) = (work.path().join("top"), work.path().join("image"));
    std::fs::create_dir(&top).unwrap();
    volume.steps.iter().for_each(|step| put(&top, step, real));
    let size = format!("{}M", 16 + real.map_or(0, |real| real.mebibytes));
    let uuid = uuid(index, volume.kind);
    let (top, name) = (top.to_str().unwrap(), image.to_str().unwrap());
    run("mke2fs", &["-q", "-t", "ext4", "-O", "^has_journal", "-U", &uuid, "-d", top, name, &size]);
    std::fs::read(&image).unwrap()
}

/// A volume that is filled while it is mounted, since subvolumes are made so.
fn btrfs(index: usize, volume: &Volume, real: Option<&Real>) -> Vec<u8> {
    let work = tempfile::tempdir().unwrap();
    let (top, image) = (work.path().join("top"), work.path().join("image"));
    std::fs::create_dir(&top).unwrap();
    std::fs::File::create(&image).unwrap().set_len(160 << 20).unwrap();
    let (at, name) = (top.to_str().unwrap(), image.to_str().unwrap());
    run("mkfs.btrfs", &["-q", "-U", &uuid(index, volume.kind), name]);
    run("mount", &["-o", "loop", name, at]);
    let filled = std::panic::catch_unwind(|| volume.steps.iter().for_each(|step| put(&top, step, real)));
    run("umount", &[at]);
    filled.unwrap();
    std::fs::read(&image).unwrap()
}

/// The head of an encrypted volume (LUKS1 On-Disk Format, 2.3).
fn luks(index: usize) -> Vec<u8> {
    let mut head = vec![0; 4096];
    head[..8].copy_from_slice(b"LUKS\xba\xbe\0\x01");
    let uuid = uuid(index, Kind::Encrypted);
    head[168..168 + uuid.len()].copy_from_slice(uuid.as_bytes());
    head
}

fn run(tool: &str, args: &[&str]) {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new(tool).args(args).env("PATH", path).output();
    let output = output.unwrap_or_else(|error| panic!("{tool}: {error}; `cargo xtask test` installs it"));
    assert!(output.status.success(), "{tool} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
}
