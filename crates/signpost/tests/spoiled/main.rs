//! Images of every kind that a tool of Debian's makes, spoiled and cut short, all in one machine: the survey ends,
//! in little memory, and shows what is whole.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use signpost_demo::{StoreKind, tide};

/// Most that a survey may use, in KiB.
const MOST_MEMORY: u64 = 64 * 1024;
/// Rounds of spoiling, each at other places.
const ROUNDS: u64 = 6;

/// Name, MiB, the tool with its arguments; `IMAGE` and `TREE` stand for paths. Size 0: the tool makes the file.
const KINDS: [(&str, u64, &[&str]); 17] = [
    ("fat", 40, &["mkfs.fat", "-F", "32", "IMAGE"]),
    ("ext4", 64, &["mke2fs", "-q", "-F", "-t", "ext4", "-d", "TREE", "IMAGE"]),
    ("xfs", 320, &["mkfs.xfs", "-q", "-p", "PROTO", "IMAGE"]),
    ("btrfs", 160, &["mkfs.btrfs", "-q", "--rootdir", "TREE", "IMAGE"]),
    ("ntfs", 32, &["mkntfs", "-q", "-F", "-f", "-L", "Meridian", "IMAGE"]),
    ("exfat", 16, &["mkfs.exfat", "-L", "PEGEL", "IMAGE"]),
    ("f2fs", 64, &["mkfs.f2fs", "-q", "-l", "tide", "IMAGE"]),
    ("swap", 16, &["mkswap", "IMAGE"]),
    ("luks1", 32, &["cryptsetup", "luksFormat", "-q", "--type", "luks1", "--iter-time", "1", "IMAGE", "KEY"]),
    (
        "luks2",
        32,
        &[
            "cryptsetup",
            "luksFormat",
            "-q",
            "--pbkdf",
            "pbkdf2",
            "--pbkdf-force-iterations",
            "1000",
            "IMAGE",
            "KEY",
        ],
    ),
    ("udf", 16, &["mkudffs", "--media-type=hd", "-l", "Flut", "IMAGE"]),
    ("apfs", 640, &["mkapfs", "-L", "Kestrel", "IMAGE"]),
    ("iso", 0, &["genisoimage", "-quiet", "-R", "-J", "-o", "IMAGE", "TREE"]),
    ("hfsplus", 0, &["xorriso", "-as", "mkisofs", "-quiet", "-hfsplus", "-o", "IMAGE", "TREE"]),
    ("squashfs", 0, &["mksquashfs", "TREE", "IMAGE", "-quiet", "-no-progress"]),
    ("erofs", 0, &["mkfs.erofs", "IMAGE", "TREE"]),
    ("ufs", 0, &["makefs", "-t", "ffs", "-s", "8m", "-o", "version=2", "IMAGE", "TREE"]),
];

fn run(tool: &str, args: &[&str]) {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new("timeout").args(["120", tool]).args(args).env("PATH", path).output().unwrap();
    let errors = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{tool}: {errors}; `cargo xtask test` installs it");
}

/// An image of each kind, whole.
fn images(work: &Path) -> Vec<PathBuf> {
    let tree = work.join("tree");
    fs::create_dir_all(tree.join("etc")).unwrap();
    fs::create_dir_all(tree.join("boot")).unwrap();
    fs::write(tree.join("etc/os-release"), "ID=tidewater\nPRETTY_NAME=\"Tidewater RT 5\"\n").unwrap();
    fs::write(tree.join("boot/vmlinuz-6.6"), vec![0x7f; 900_000]).unwrap();
    for index in 0..300 {
        fs::write(tree.join(format!("boot/file-{index}")), "tide").unwrap();
    }
    let (proto, key) = (work.join("proto"), work.join("key"));
    let line = |name: &str| format!("{name} ---644 0 0 {}\n", tree.join(name).display());
    let text = format!(
        "/dev/null\n0 0\nd--755 0 0\netc d--755 0 0\n{}$\n$\n",
        line("etc/os-release").replacen("etc/", "", 1)
    );
    fs::write(&proto, text).unwrap();
    fs::write(&key, "tide").unwrap();
    let mut images = Vec::new();
    for (name, mebibytes, command) in KINDS {
        let image = work.join(format!("{name}.img"));
        if mebibytes > 0 {
            File::create(&image).unwrap().set_len(mebibytes << 20).unwrap();
        }
        let named = |arg: &&str| match *arg {
            "IMAGE" => image.to_str().unwrap().to_string(),
            "TREE" => tree.to_str().unwrap().to_string(),
            "PROTO" => proto.to_str().unwrap().to_string(),
            "KEY" => key.to_str().unwrap().to_string(),
            other => other.to_string(),
        };
        let args: Vec<String> = command[1..].iter().map(named).collect();
        run(command[0], &args.iter().map(String::as_str).collect::<Vec<_>>());
        images.push(image);
    }
    images
}

/// Bytes over an image's metadata, and half of the images cut short.
fn spoil(image: &Path, round: u64) {
    let file = OpenOptions::new().read(true).write(true).open(image).unwrap();
    let size = file.metadata().unwrap().len();
    // Near the start, where superblocks are, and in steps all over the first MiB.
    let places =
        (0..24).map(|step| step * 389 + round * 97).chain((0..200).map(|step| step * 5407 + round * 811));
    for (turn, place) in places.enumerate().filter(|(_, place)| *place + 16 < size) {
        let mut bytes = [0; 12];
        file.read_exact_at(&mut bytes, place).unwrap();
        // Marks stay: what claims to be of a kind is looked into.
        if bytes.iter().all(|byte| *byte == 0) || turn as u64 % 3 == round % 3 {
            let value = (turn as u64 * 37 + round * 101) as u8;
            let spoiled: Vec<u8> =
                bytes.iter().map(|byte| byte ^ value | if turn % 2 == 0 { 0x80 } else { 0 }).collect();
            file.write_all_at(&spoiled, place).unwrap();
        }
    }
    if round % 2 == 1 {
        file.set_len(size / 3 * 2 + 100).unwrap();
    }
}

/// Surveys these images beside a whole disk, and checks them: what the survey says, and the memory that took, in KiB.
fn survey(work: &Path, images: &[PathBuf]) -> (serde_json::Value, u64) {
    let (checked, of_check) = looked_at(work, images, "check");
    assert!(checked["causes"].is_array() && checked["unseen"].is_array(), "{checked}");
    let (facts, of_survey) = looked_at(work, images, "survey");
    let titles = facts["systems"].to_string();
    assert!(titles.contains("Larkspur Linux 14"), "{titles}");
    assert_eq!(facts["disks"].as_array().unwrap().len(), images.len() + 1);
    (facts, of_survey.max(of_check))
}

/// What a command says of them, and the memory that took, in KiB.
fn looked_at(work: &Path, images: &[PathBuf], command_word: &str) -> (serde_json::Value, u64) {
    let report = work.join("report");
    let mut command = Command::new("timeout");
    command.args(["60", "/usr/bin/time", "-f", "%M", "-o"]).arg(&report).arg(env!("CARGO_BIN_EXE_signpost"));
    command.args(["--json", command_word, "--disk"]).arg(work.join("tide/disk1.img"));
    for image in images {
        command.arg("--disk").arg(image);
    }
    let output = command.output().unwrap();
    let errors = String::from_utf8_lossy(&output.stderr);
    // That something is wrong with them is 1.
    assert!(matches!(output.status.code(), Some(0 | 1)), "{:?}: {errors}", output.status);
    let facts = serde_json::from_slice::<serde_json::Value>(&output.stdout).unwrap()["result"].take();
    // A line before it says that the command ended with 1.
    let report = fs::read_to_string(&report).unwrap();
    (facts, report.trim().lines().last().unwrap().parse().unwrap())
}

/// The findings with a code, of which each belongs to one disk.
fn found(facts: &serde_json::Value, code: &str) -> Vec<String> {
    let findings = facts["findings"].as_array().unwrap().iter();
    let of_code = findings.filter(|finding| finding["code"] == code);
    of_code.map(|finding| finding["message"].as_str().unwrap().to_string()).collect()
}

#[test]
fn spoiled_images_of_every_kind_leave_the_rest_shown() {
    let work = tempfile::tempdir().unwrap();
    let work = work.path();
    tide::bench(StoreKind::Folder).write(&work.join("tide")).unwrap();
    let mut images = images(work);
    // A physical volume, which no tool makes without a block device: the demo's own.
    let pool = work.join("lvm.img");
    fs::copy(work.join("tide/disk3.img"), &pool).unwrap();
    images.push(pool);
    let (facts, whole) = survey(work, &images);
    assert_eq!(found(&facts, "volume-broken"), [""; 0]);
    assert_eq!(found(&facts, "volume-unread"), [""; 0]);
    assert!(whole < MOST_MEMORY, "whole images took {whole} KiB");
    for round in 0..ROUNDS {
        images.iter().for_each(|image| spoil(image, round));
        let (_, memory) = survey(work, &images);
        assert!(memory < MOST_MEMORY, "round {round} took {memory} KiB");
        for image in &images {
            let (_, memory) = survey(work, std::slice::from_ref(image));
            assert!(memory < MOST_MEMORY, "{}, round {round}: {memory} KiB", image.display());
        }
    }
}

/// The start of a FAT32 whose root folder's chain leads back to its own cluster, all of whose entries are in use.
fn endless_folder(work: &Path) -> Vec<u8> {
    let image = work.join("endless");
    File::create(&image).unwrap().set_len(40 << 20).unwrap();
    run("mkfs.fat", &["-F", "32", "-s", "1", image.to_str().unwrap()]);
    let mut bytes = fs::read(image).unwrap();
    let reserved = usize::from(u16::from_le_bytes(bytes[14..16].try_into().unwrap())) * 512;
    let fat_length = u32::from_le_bytes(bytes[36..40].try_into().unwrap()) as usize * 512;
    let root = reserved + usize::from(bytes[16]) * fat_length;
    bytes[reserved + 8..reserved + 12].copy_from_slice(&2u32.to_le_bytes());
    for (index, entry) in bytes[root..root + 512].as_chunks_mut::<32>().0.iter_mut().enumerate() {
        entry[..11].copy_from_slice(format!("TIDE{index:04}TXT").as_bytes());
    }
    bytes.truncate(root + 512);
    bytes
}

#[test]
fn many_folders_without_an_end_take_little_memory() {
    let work = tempfile::tempdir().unwrap();
    let work = work.path();
    tide::bench(StoreKind::Folder).write(&work.join("tide")).unwrap();
    let start = endless_folder(work);
    let image = |index: usize| {
        let path = work.join(format!("endless-{index}.img"));
        let file = File::create(&path).unwrap();
        file.set_len(40 << 20).unwrap();
        file.write_all_at(&start, 0).unwrap();
        path
    };
    let images: Vec<PathBuf> = (0..16).map(image).collect();
    let (facts, memory) = survey(work, &images);
    assert!(memory < MOST_MEMORY, "{memory} KiB");
    let broken = found(&facts, "volume-broken");
    assert_eq!(broken.len(), images.len(), "{broken:?}");
    assert!(broken.iter().all(|message| message.ends_with("a chain of clusters comes back to cluster 2")));
}

/// Bytes at the start of an image that say what it is; behind them is what says where its files are.
const KEPT: [(&str, u64); 6] =
    [("fat", 16384), ("ext4", 2048), ("xfs", 512), ("btrfs", 0x1_1000), ("ntfs", 512), ("iso", 0x8800)];

#[test]
fn what_cannot_be_read_is_said_with_the_reason() {
    let work = tempfile::tempdir().unwrap();
    let work = work.path();
    tide::bench(StoreKind::Folder).write(&work.join("tide")).unwrap();
    images(work);
    let spoiled = KEPT.map(|(name, kept)| {
        let path = work.join(format!("{name}.img"));
        let file = OpenOptions::new().write(true).open(&path).unwrap();
        let rest = file.metadata().unwrap().len() - kept;
        file.write_all_at(&vec![0xa5; usize::try_from(rest).unwrap()], kept).unwrap();
        path
    });
    let (facts, _) = survey(work, &spoiled);
    let broken = found(&facts, "volume-broken");
    assert_eq!(broken.len(), KEPT.len(), "{broken:#?}");
    let with_fault = facts["volumes"].as_array().unwrap().iter().filter(|volume| !volume["fault"].is_null());
    assert_eq!(with_fault.count(), KEPT.len());
    // One file system over two devices, neither of which is broken.
    let pair = ["a", "b"].map(|name| work.join(format!("pair-{name}.img")));
    for image in &pair {
        File::create(image).unwrap().set_len(160 << 20).unwrap();
    }
    run("mkfs.btrfs", &["-q", "-d", "single", pair[0].to_str().unwrap(), pair[1].to_str().unwrap()]);
    let (facts, _) = survey(work, &pair);
    let unread = found(&facts, "volume-unread");
    assert_eq!(unread.len(), 2, "{unread:?}");
    assert!(unread.iter().all(|message| message.contains("btrfs over 2 devices; one is read")), "{unread:?}");
    assert_eq!(found(&facts, "volume-broken"), [""; 0]);
}
