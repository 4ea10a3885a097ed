//! What the mkfs tools make and `blkid` prints is the reference for what we read.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use signpost_disk::block::SharedDevice;
use signpost_disk::ext::ExtVolume;
use signpost_disk::file_system::{FileSystem, open};
use signpost_disk::probe::{VolumeKind, identify};

/// Runs a tool of Debian's; a missing one is an error that says how to get it.
fn run(tool: &str, args: &[&str]) -> String {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new(tool)
        .args(args)
        .env("PATH", path)
        .output()
        .unwrap_or_else(|error| panic!("{tool} cannot be run ({error}); `cargo xtask test` installs it"));
    assert!(output.status.success(), "{tool} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

struct Image {
    _folder: tempfile::TempDir,
    path: PathBuf,
}

impl Image {
    /// An empty file of this many MiB.
    fn new(mebibytes: u64) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("volume.img");
        File::create(&path).unwrap().set_len(mebibytes << 20).unwrap();
        Self { _folder: folder, path }
    }

    fn made_by(mebibytes: u64, tool: &str, args: &[&str]) -> Self {
        let image = Self::new(mebibytes);
        let mut args = args.to_vec();
        args.push(image.name());
        run(tool, &args);
        image
    }

    fn name(&self) -> &str {
        self.path.to_str().unwrap()
    }

    fn device(&self) -> SharedDevice {
        Arc::new(fs::read(&self.path).unwrap())
    }

    fn file_system(&self) -> Box<dyn FileSystem> {
        let device = self.device();
        open(&device, &identify(device.as_ref()).0).unwrap().unwrap()
    }

    /// A value that `blkid` prints. It fails where there is nothing to print, so a name that is always
    /// there is asked for first.
    fn blkid(&self, key: &str) -> Option<String> {
        run("blkid", &["-p", "-o", "value", "-s", "TYPE", self.name()]);
        let output =
            Command::new("/usr/sbin/blkid").args(["-p", "-o", "value", "-s", key, self.name()]).output();
        let text = String::from_utf8(output.unwrap().stdout).unwrap();
        text.lines().next().map(str::to_string)
    }

    /// Our kind, with label and UUID held against `blkid`'s.
    fn check(&self) -> VolumeKind {
        let (identity, fault) = identify(self.device().as_ref());
        assert_eq!(fault, None, "{}", self.name());
        assert_eq!(identity.label, self.blkid("LABEL"), "label of {:?}", identity.kind);
        assert_eq!(identity.uuid, self.blkid("UUID"), "UUID of {:?}", identity.kind);
        identity.kind
    }
}

#[test]
fn fat_label_and_serial_are_those_of_blkid() {
    let cases: [(u64, &[&str], VolumeKind); 6] = [
        (4, &["-F", "12", "-n", "TIDE ESP"], VolumeKind::Fat12),
        (32, &["-F", "16", "-n", "GAUGES", "-i", "0000a1b2"], VolumeKind::Fat16),
        (64, &["-F", "32", "-n", "lower"], VolumeKind::Fat32),
        (300, &["-F", "32"], VolumeKind::Fat32),
        (40, &["-F", "32", "-s", "1", "-S", "4096"], VolumeKind::Fat32),
        (8, &[], VolumeKind::Fat12),
    ];
    for (size, args, kind) in cases {
        assert_eq!(Image::made_by(size, "mkfs.fat", args).check(), kind, "{args:?}");
    }
}

#[test]
fn ext_kind_label_and_uuid_are_those_of_blkid() {
    let cases: [(&[&str], VolumeKind); 5] = [
        (&["-t", "ext2", "-L", "Ebbe"], VolumeKind::Ext2),
        (&["-t", "ext3", "-L", "Flut mit 16 Zei."], VolumeKind::Ext3),
        (&["-t", "ext4", "-L", "Größe"], VolumeKind::Ext4),
        (&["-t", "ext4", "-b", "1024"], VolumeKind::Ext4),
        (&["-t", "ext4", "-O", "^has_journal,^metadata_csum"], VolumeKind::Ext4),
    ];
    for (args, kind) in cases {
        let mut all = vec!["-q", "-F"];
        all.extend(args);
        let image = Image::made_by(32, "mke2fs", &all);
        assert_eq!(image.check(), kind, "{args:?}");
        assert_eq!(image.blkid("TYPE"), Some(kind.to_string()));
    }
}

#[test]
fn other_volumes_are_known_by_their_signature() {
    let cases: [(u64, &str, &[&str], VolumeKind); 6] = [
        (320, "mkfs.xfs", &["-q"], VolumeKind::Xfs),
        (128, "mkfs.btrfs", &["-q"], VolumeKind::Btrfs),
        (16, "mkntfs", &["-q", "-F", "-f"], VolumeKind::Ntfs),
        (16, "mkfs.exfat", &[], VolumeKind::ExFat),
        (16, "mkswap", &[], VolumeKind::Swap),
        (16, "mkfs.ext4", &["-q", "-F"], VolumeKind::Ext4),
    ];
    for (size, tool, args, kind) in cases {
        let image = Image::made_by(size, tool, args);
        assert_eq!(identify(image.device().as_ref()).0.kind, kind, "{tool}");
    }
}

/// A folder with nested files, a link and a file of several hundred blocks.
fn source(folder: &Path) -> Vec<u8> {
    let big: Vec<u8> = (0..1_500_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    fs::create_dir_all(folder.join("etc/kernel")).unwrap();
    fs::write(folder.join("etc/kernel/cmdline"), "root=UUID=x quiet\n").unwrap();
    fs::create_dir(folder.join("boot")).unwrap();
    fs::write(folder.join("boot/vmlinuz-6.9"), &big).unwrap();
    std::os::unix::fs::symlink("boot/vmlinuz-6.9", folder.join("vmlinuz")).unwrap();
    big
}

#[test]
fn files_on_ext_are_read_as_the_tool_wrote_them() {
    for kind in ["ext2", "ext3", "ext4"] {
        let tree = tempfile::tempdir().unwrap();
        let big = source(tree.path());
        let image =
            Image::made_by(32, "mke2fs", &["-q", "-F", "-t", kind, "-d", tree.path().to_str().unwrap()]);
        let fs = image.file_system();
        assert_eq!(fs.read("/vmlinuz", 2_000_000).unwrap(), big, "{kind}: a file by its link");
        assert_eq!(fs.metadata("/boot/vmlinuz-6.9").unwrap().size, 1_500_000);
        assert_eq!(fs.read("/etc/kernel/cmdline", 100).unwrap(), b"root=UUID=x quiet\n");
        let names: Vec<String> = fs.list("/").unwrap().into_iter().map(|item| item.name).collect();
        assert_eq!(names, ["boot", "etc", "lost+found", "vmlinuz"]);
        assert!(fs.read("/boot/none", 9).is_err());
    }
}

/// The fast way and the reading crate's give the same, on volumes of several layouts, and on spoiled ones the fast
/// way never panics.
#[test]
fn the_fast_way_reads_what_the_reading_crate_reads() {
    let tree = tempfile::tempdir().unwrap();
    source(tree.path());
    fs::create_dir_all(tree.path().join("deep/er")).unwrap();
    for index in 0..700 {
        let contents = vec![index as u8; index * 13];
        fs::write(tree.path().join(format!("deep/er/a file with a long enough name {index}")), contents)
            .unwrap();
    }
    let from = tree.path().to_str().unwrap();
    let layouts: [&[&str]; 3] = [&["-b", "1024"], &["-b", "4096"], &["-O", "^64bit,^metadata_csum"]];
    for layout in layouts {
        let mut args = vec!["-q", "-F", "-t", "ext4", "-d", from];
        args.extend(layout);
        let image = Image::made_by(64, "mke2fs", &args);
        let volume = ExtVolume::open(&image.device()).unwrap();
        let mut paths =
            vec!["/boot/vmlinuz-6.9".to_string(), "/vmlinuz".into(), "/etc/kernel/cmdline".into()];
        paths.extend((0..700).step_by(41).map(|i| format!("/deep/er/a file with a long enough name {i}")));
        for path in &paths {
            for most in [0, 1, 5000, 2_000_000] {
                assert_eq!(
                    volume.read_head(path, most),
                    volume.read_slowly(path, most),
                    "{path}, {most}, {layout:?}"
                );
            }
        }
        assert!(volume.read_head("/boot/none", 9).is_err() && volume.read_head("/boot", 9).is_err());
        let good = fs::read(&image.path).unwrap();
        for at in (1024..400_000usize).step_by(9973) {
            let mut spoiled = good.clone();
            spoiled[at..at + 4].fill(0xff);
            let device: SharedDevice = Arc::new(spoiled);
            if let Ok(volume) = ExtVolume::open(&device) {
                let read = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                    volume.read_head(&paths[0], 2_000_000)
                }));
                assert!(
                    read.is_ok_and(|read| read.is_err() || read.is_ok_and(|bytes| bytes.len() <= 2_000_000))
                );
            }
        }
    }
}

#[test]
fn files_on_fat_are_read_as_the_tool_wrote_them() {
    for width in ["12", "16", "32"] {
        let size = if width == "12" { 4 } else { 64 };
        let image = Image::made_by(size, "mkfs.fat", &["-F", width]);
        let tree = tempfile::tempdir().unwrap();
        let big = source(tree.path());
        for folder in ["::EFI", "::EFI/Lärm und Lüge"] {
            run("mmd", &["-i", image.name(), folder]);
        }
        let from = tree.path().join("boot/vmlinuz-6.9");
        run("mcopy", &["-i", image.name(), from.to_str().unwrap(), "::EFI/Lärm und Lüge/vmlinuz-6.9 big"]);
        let fs = image.file_system();
        assert_eq!(fs.list("/efi").unwrap()[0].name, "Lärm und Lüge", "FAT{width}");
        assert_eq!(fs.read("/efi/lärm UND lüge/VMLINUZ-6.9 BIG", 2_000_000).unwrap(), big, "FAT{width}");
    }
}
