//! Images that the real tools make.

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use signpost_disk::block::{BlockDevice, ReadError, SharedDevice};
use signpost_disk::file_system::FileSystem;
use signpost_disk::open;
use signpost_disk::probe::{VolumeKind, identify};

/// Runs a tool of Debian's; a missing one is an error that says how to get it.
pub fn run(tool: &str, args: &[&str]) -> String {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new("timeout")
        .args(["120", tool])
        .args(args)
        .env("PATH", path)
        .output()
        .unwrap_or_else(|error| panic!("{tool} cannot be run ({error}); `cargo xtask test` installs it"));
    assert!(output.status.success(), "{tool} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

pub struct Image {
    _folder: tempfile::TempDir,
    pub path: PathBuf,
}

impl Image {
    /// An empty file of this many MiB.
    pub fn new(mebibytes: u64) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("volume.img");
        File::create(&path).unwrap().set_len(mebibytes << 20).unwrap();
        Self { _folder: folder, path }
    }

    pub fn made_by(mebibytes: u64, tool: &str, args: &[&str]) -> Self {
        let image = Self::new(mebibytes);
        let mut args = args.to_vec();
        args.push(image.name());
        run(tool, &args);
        image
    }

    pub fn name(&self) -> &str {
        self.path.to_str().unwrap()
    }

    pub fn device(&self) -> SharedDevice {
        let file = File::open(&self.path).unwrap();
        let size = file.metadata().unwrap().len();
        Arc::new(FileDevice { file, size })
    }

    pub fn file_system(&self) -> Box<dyn FileSystem> {
        let device = self.device();
        open::file_system(&device, &identify(device.as_ref()).0).unwrap().unwrap()
    }

    /// A value that `blkid` prints. It fails where there is nothing to print, so a name that is always
    /// there is asked for first.
    pub fn blkid(&self, key: &str) -> Option<String> {
        run("blkid", &["-p", "-o", "value", "-s", "TYPE", self.name()]);
        let output =
            Command::new("/usr/sbin/blkid").args(["-p", "-o", "value", "-s", key, self.name()]).output();
        let text = String::from_utf8(output.unwrap().stdout).unwrap();
        text.lines().next().map(str::to_string)
    }

    /// Our kind, with label and UUID held against `blkid`'s.
    pub fn check(&self) -> VolumeKind {
        let (identity, fault) = identify(self.device().as_ref());
        assert_eq!(fault, None, "{}", self.name());
        assert_eq!(identity.label, self.blkid("LABEL"), "label of {:?}", identity.kind);
        assert_eq!(identity.uuid, self.blkid("UUID"), "UUID of {:?}", identity.kind);
        identity.kind
    }
}

/// A folder with nested files, a link and a file of several hundred blocks.
pub fn source(folder: &Path) -> Vec<u8> {
    let big: Vec<u8> = (0..1_500_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    fs::create_dir_all(folder.join("etc/kernel")).unwrap();
    fs::write(folder.join("etc/kernel/cmdline"), "root=UUID=x quiet\n").unwrap();
    fs::create_dir(folder.join("boot")).unwrap();
    fs::write(folder.join("boot/vmlinuz-6.9"), &big).unwrap();
    std::os::unix::fs::symlink("boot/vmlinuz-6.9", folder.join("vmlinuz")).unwrap();
    big
}

/// An image in its file, so that large and empty ones cost nothing.
struct FileDevice {
    file: File,
    size: u64,
}

impl BlockDevice for FileDevice {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        self.file.read_exact_at(buffer, offset).map_err(|error| ReadError {
            offset,
            length: buffer.len(),
            why: error.to_string(),
        })
    }
}

/// Puts bytes into an image.
pub fn poke(path: &Path, offset: u64, bytes: &[u8]) {
    let file = File::options().write(true).open(path).unwrap();
    file.write_all_at(bytes, offset).unwrap();
}

/// Writes the metadata of the first of two mirrors, version 1.x, its data `length` bytes from `data` on. There is
/// no tool that does so without a kernel that runs it; `mdadm` judges what is written here.
pub fn make_mirror(image: &Path, metadata_at: u64, data: u64, length: u64) {
    let mut block = vec![0u8; 4096];
    let mut put = |at: usize, bytes: &[u8]| block[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, &0xa92b_4efcu32.to_le_bytes());
    put(4, &1u32.to_le_bytes());
    put(16, b"tide mirror UUID");
    put(32, b"kestrel:tide");
    put(72, &1u32.to_le_bytes());
    put(80, &(length / 512).to_le_bytes());
    put(92, &2u32.to_le_bytes());
    put(128, &(data / 512).to_le_bytes());
    put(136, &(length / 512).to_le_bytes());
    put(144, &(metadata_at / 512).to_le_bytes());
    put(168, b"member 1 of 2...");
    put(200, &7u64.to_le_bytes());
    put(220, &128u32.to_le_bytes());
    for slot in 2..128 {
        put(256 + slot * 2, &[0xff, 0xff]);
    }
    put(258, &[1, 0]);
    poke(image, metadata_at, &block);
    change_mirror(image, metadata_at, 0, &[]);
}

/// Puts bytes into the metadata of a mirror's member, and its checksum to rights.
pub fn change_mirror(image: &Path, metadata_at: u64, at: u64, bytes: &[u8]) {
    poke(image, metadata_at + at, bytes);
    poke(image, metadata_at + 216, &[0; 4]);
    let from = metadata_at as usize;
    let block = fs::read(image).unwrap()[from..from + 512].to_vec();
    let words = block.chunks(4).map(|word| u64::from(u32::from_le_bytes(word.try_into().unwrap())));
    let sum: u64 = words.sum();
    let sum = (sum as u32).wrapping_add((sum >> 32) as u32);
    poke(image, metadata_at + 216, &sum.to_le_bytes());
}

/// An image as a block device, for tools that take nothing else. Takes root.
pub struct LoopDevice {
    name: String,
}

impl LoopDevice {
    pub fn new(image: &Image) -> Self {
        Self::with_sectors(image, "512")
    }

    /// One whose sectors have this many bytes.
    pub fn with_sectors(image: &Image, bytes: &str) -> Self {
        let name =
            run("losetup", &["--find", "--show", "--sector-size", bytes, image.name()]).trim().to_string();
        Self { name }
    }

    pub fn name(&self) -> &str {
        &self.name
    }
}

impl Drop for LoopDevice {
    fn drop(&mut self) {
        run("losetup", &["--detach", &self.name]);
    }
}

/// An image, mounted as the kernel reads and writes it; taken off again when dropped. Takes root.
pub struct Mounted {
    folder: tempfile::TempDir,
}

impl Mounted {
    pub fn new(image: &Image, options: &str) -> Self {
        Self::of_type(image, "auto", options)
    }

    pub fn of_type(image: &Image, kind: &str, options: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let options = format!("loop,{options}");
        run("mount", &["-t", kind, "-o", &options, image.name(), folder.path().to_str().unwrap()]);
        Self { folder }
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // A program that another test is just starting holds what is open here, until it runs: then the volume is busy for a moment.
        const TRIES: usize = 500;
        let at = self.folder.path().to_str().unwrap();
        let once = || Command::new("umount").arg(at).output().is_ok_and(|output| output.status.success());
        if !(1..TRIES).any(|_| once()) {
            run("umount", &[at]);
        }
    }
}

/// Everything below a folder reads as the kernel reads it: names, kinds, sizes, and bytes at several places.
pub fn agrees(fs: &dyn FileSystem, mounted: &Path, folder: &str) -> usize {
    let mut names: Vec<(String, bool)> = fs::read_dir(mounted.join(folder.trim_start_matches('/')))
        .unwrap()
        .map(|entry| entry.unwrap())
        .map(|entry| {
            let is_folder = fs::metadata(entry.path()).is_ok_and(|found| found.is_dir());
            (entry.file_name().into_string().unwrap(), is_folder)
        })
        .collect();
    names.sort();
    let ours: Vec<(String, bool)> =
        fs.list(folder).unwrap().into_iter().map(|item| (item.name, item.is_folder)).collect();
    assert_eq!(ours, names, "{folder}");
    let mut seen = 0;
    for (name, is_folder) in names {
        let path = format!("{}/{name}", folder.trim_end_matches('/'));
        let there = mounted.join(path.trim_start_matches('/'));
        if is_folder {
            if !there.is_symlink() {
                seen += agrees(fs, mounted, &path);
            }
            continue;
        }
        let Ok(expected) = fs::read(&there) else { continue };
        assert_eq!(fs.metadata(&path).unwrap().size, expected.len() as u64, "{path}");
        assert!(fs.read(&path, 1 << 30).unwrap() == expected, "{path} differs");
        for (offset, length) in [(1usize, 3usize), (4095, 9000), (expected.len() / 2, 70_000)] {
            let mut buffer = vec![0; length];
            let there = fs.read_at(&path, offset as u64, &mut buffer).unwrap();
            let right = expected.get(offset..).unwrap_or_default();
            assert!(buffer[..there] == right[..length.min(right.len())], "{path} from {offset}");
        }
        seen += 1;
    }
    seen
}

/// Bytes that do not pack.
pub fn noise(length: usize) -> Vec<u8> {
    (0..length as u32).map(|i| (i.wrapping_mul(2_654_435_761).rotate_left(i % 29) >> 24) as u8).collect()
}

/// A tree with all that a system's root has: folders of many names, links, holes, files in pieces.
pub fn fill(root: &Path) {
    source(root);
    fs::write(root.join("large"), noise(5_000_000)).unwrap();
    fs::write(root.join("empty"), b"").unwrap();
    fs::create_dir_all(root.join("usr/lib/modules")).unwrap();
    std::os::unix::fs::symlink("usr/lib", root.join("lib")).unwrap();
    std::os::unix::fs::symlink("../boot/../boot/vmlinuz-6.9", root.join("etc/kernel/up")).unwrap();
    std::os::unix::fs::symlink("/usr/lib", root.join("usr/absolute")).unwrap();
    std::os::unix::fs::symlink("circle", root.join("circle")).unwrap();
    std::os::unix::fs::symlink(format!("boot/{}vmlinuz-6.9", "./".repeat(400)), root.join("long")).unwrap();
    fs::write(root.join("Größe ≈ 潮"), "Unicode").unwrap();
    let holes = File::create(root.join("holes")).unwrap();
    for index in 0..400u64 {
        holes.write_all_at(&noise(5000), index * 16384).unwrap();
    }
    holes.set_len(9_000_000).unwrap();
    holes.sync_all().unwrap();
    for (folder, count) in [("few", 20), ("some", 200), ("many", 6000)] {
        fs::create_dir(root.join(folder)).unwrap();
        for index in 0..count {
            let name = root.join(folder).join(format!("a name that is long enough to fill blocks {index}"));
            fs::write(name, format!("{index}")).unwrap();
        }
    }
}

/// A device with other bytes in one place, and perhaps cut short.
struct Spoiled {
    good: SharedDevice,
    at: u64,
    bytes: Vec<u8>,
    size: u64,
}

impl BlockDevice for Spoiled {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        if offset + buffer.len() as u64 > self.size {
            return Err(ReadError::past_end(offset, buffer.len(), self.size));
        }
        self.good.read_at(offset, buffer)?;
        for (place, byte) in (self.at..).zip(&self.bytes) {
            if let Some(slot) = place.checked_sub(offset).and_then(|at| buffer.get_mut(at as usize)) {
                *slot = *byte;
            }
        }
        Ok(())
    }
}

/// Spoiled copies: none makes a reader panic or run away, however it ends.
pub fn survives_spoiling(image: &Image, offsets: impl Iterator<Item = u64>, paths: &[&str]) {
    let good = image.device();
    let mut failed = 0;
    for (turn, at) in offsets.enumerate() {
        let high = if turn % 3 == 0 { 0xf0 } else { 0 };
        let bytes = (0..64).map(|index| (turn * 31 + index * 7) as u8 | high).collect();
        let size = if turn % 5 == 0 { good.size() / 2 + at / 3 } else { good.size() };
        let device: SharedDevice = Arc::new(Spoiled { good: good.clone(), at, bytes, size });
        let (identity, _) = identify(device.as_ref());
        let Some(Ok(fs)) = open::file_system(&device, &identity) else {
            failed += 1;
            continue;
        };
        for path in paths {
            let _ = fs.list(path);
            failed += usize::from(fs.read_head(path, 8 << 20).is_err());
        }
        let _ = fs.subvolumes();
    }
    assert!(failed > 0, "nothing was hit: the offsets are wrong");
}
