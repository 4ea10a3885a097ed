//! FAT and ext.

use std::fs;
use std::os::unix::fs::FileExt;
use std::process::Command;
use std::sync::Arc;

use signpost_disk::block::SharedDevice;
use signpost_disk::ext::ExtVolume;
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::FileSystem;
use signpost_disk::probe::{VolumeKind, identify};

use crate::harness::{Image, run, source};

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

/// Mirroring off, and the second FAT the active one: the first may be as old as it likes. On FAT16 two bytes of a folder's
/// entries are not part of a cluster's number.
#[test]
fn the_active_copy_counts_and_high_words_only_on_fat32() {
    let tree = tempfile::tempdir().unwrap();
    let file = tree.path().join("TIDE.TXT");
    fs::write(&file, vec![b'x'; 200_000]).unwrap();
    let image = Image::made_by(64, "mkfs.fat", &["-F", "32", "-s", "1"]);
    run("mcopy", &["-i", image.name(), file.to_str().unwrap(), "::"]);
    let mut bytes = fs::read(&image.path).unwrap();
    let number = |at: usize, width: usize| {
        bytes[at..at + width].iter().rev().fold(0usize, |sum, byte| sum << 8 | usize::from(*byte))
    };
    let (reserved, sectors) = (number(14, 2), number(36, 4));
    let first = reserved * 512..(reserved + sectors) * 512;
    bytes[40] = 0x81;
    bytes[first.start + 12..first.end].fill(0);
    let device: SharedDevice = Arc::new(bytes.clone());
    let volume = FatVolume::open(device).unwrap();
    assert_eq!(volume.read("/TIDE.TXT", 1 << 20).unwrap().len(), 200_000);
    bytes[40] = 0x82;
    let refused = FatVolume::open(Arc::new(bytes)).err().unwrap().to_string();
    assert!(refused.contains("BPB_ExtFlags is 2"), "{refused}");

    let image = Image::made_by(32, "mkfs.fat", &["-F", "16"]);
    run("mcopy", &["-i", image.name(), file.to_str().unwrap(), "::"]);
    let mut bytes = fs::read(&image.path).unwrap();
    let at = bytes.windows(11).position(|name| name == b"TIDE    TXT").unwrap();
    bytes[at + 20..at + 22].copy_from_slice(&[0x34, 0x12]);
    let volume = FatVolume::open(Arc::new(bytes)).unwrap();
    assert_eq!(volume.read("/TIDE.TXT", 1 << 20).unwrap().len(), 200_000);
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

/// A volume that the tool filled reads as the tree it was filled from, in every form that ext has had.
#[test]
fn every_form_of_ext_is_read() {
    let tree = tempfile::tempdir().unwrap();
    let big = source(tree.path());
    fs::create_dir(tree.path().join("many")).unwrap();
    for index in 0..1500 {
        fs::write(tree.path().join(format!("many/file {index}")), vec![index as u8; index % 90]).unwrap();
    }
    let long = format!("{}many/file 7", "./".repeat(60));
    std::os::unix::fs::symlink(&long, tree.path().join("by-a-long-link")).unwrap();
    let from = tree.path().to_str().unwrap();
    let forms: [(&str, u64, &[&str]); 14] = [
        ("no features at all", 40, &["-r", "0"]),
        ("a map of blocks", 40, &["-t", "ext2", "-b", "1024"]),
        ("data in inodes", 40, &["-t", "ext4", "-O", "inline_data", "-I", "256"]),
        ("data in large inodes", 40, &["-t", "ext4", "-O", "inline_data", "-I", "1024"]),
        ("names in any case", 40, &["-t", "ext4", "-O", "casefold", "-E", "encoding=utf8"]),
        ("attributes in inodes", 40, &["-t", "ext4", "-O", "ea_inode"]),
        ("large folders", 40, &["-t", "ext4", "-O", "large_dir"]),
        ("descriptors with their groups", 300, &["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode"]),
        (
            "the same of 32 bits, many copies",
            300,
            &["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode,^64bit,^sparse_super"],
        ),
        (
            "two copies of the superblock",
            300,
            &["-t", "ext4", "-b", "1024", "-O", "meta_bg,^resize_inode,sparse_super2"],
        ),
        ("protection against two mounts", 40, &["-t", "ext4", "-O", "mmp"]),
        ("clusters", 256, &["-t", "ext4", "-O", "bigalloc", "-C", "65536"]),
        ("clusters of small blocks", 128, &["-t", "ext4", "-b", "1024", "-O", "bigalloc", "-C", "16384"]),
        ("large blocks", 256, &["-t", "ext4", "-b", "65536"]),
    ];
    for (form, size, args) in forms {
        let image = Image::made_by(size, "mke2fs", &[&["-q", "-F", "-d", from], args].concat());
        image.check();
        let fs = image.file_system();
        assert_eq!(fs.read("/vmlinuz", 2_000_000).unwrap(), big, "{form}");
        assert_eq!(fs.read("/etc/kernel/cmdline", 100).unwrap(), b"root=UUID=x quiet\n", "{form}");
        let mut names: Vec<String> = fs.list("/many").unwrap().into_iter().map(|item| item.name).collect();
        names.sort_by_key(|name| name[5..].parse::<usize>().unwrap());
        assert_eq!(names, (0..1500).map(|index| format!("file {index}")).collect::<Vec<_>>(), "{form}");
        for index in [0, 7, 59, 60, 61, 89, 1499] {
            let path = format!("/many/file {index}");
            assert_eq!(fs.read(&path, 100).unwrap(), vec![index as u8; index % 90], "{form}: {path}");
        }
        assert_eq!(fs.read("/by-a-long-link", 100).unwrap(), [7; 7], "{form}");
        let folders: Vec<_> = fs.list("/").unwrap().into_iter().filter(|item| item.is_folder).collect();
        let folders: Vec<&str> = folders.iter().map(|item| item.name.as_str()).collect();
        assert_eq!(folders, ["boot", "etc", "lost+found", "many"], "{form}");
        let inside = fs.file_device("/boot/vmlinuz-6.9").unwrap().unwrap();
        let mut tail = vec![0; 5000];
        inside.read_at(big.len() as u64 - 5000, &mut tail).unwrap();
        assert_eq!(tail, big[big.len() - 5000..], "{form}");
    }
}

#[test]
fn names_are_found_in_any_case_where_the_folder_says_so() {
    let image =
        Image::made_by(40, "mke2fs", &["-q", "-F", "-t", "ext4", "-O", "casefold", "-E", "encoding=utf8"]);
    let commands = "mkdir /Boot\nset_inode_field /Boot flags 0x40080000\nwrite /etc/hostname /Boot/Kernel\n";
    let script = image.path.with_extension("commands");
    fs::write(&script, commands).unwrap();
    run("debugfs", &["-w", "-f", script.to_str().unwrap(), image.name()]);
    let volume = image.file_system();
    let kernel = fs::read("/etc/hostname").unwrap();
    assert_eq!(volume.read("/Boot/KERNEL", 100).unwrap(), kernel);
    assert!(volume.read("/boot/Kernel", 100).is_err(), "the top folder says nothing of the kind");
}

/// Moments before 1970 stand in no one's way: neither in a whole file nor in a folder.
#[test]
fn files_from_before_1970_are_read() {
    let tree = tempfile::tempdir().unwrap();
    let big = source(tree.path());
    for path in ["boot/vmlinuz-6.9", "boot"] {
        run("touch", &["-d", "1901-12-14 12:00", tree.path().join(path).to_str().unwrap()]);
    }
    let image =
        Image::made_by(32, "mke2fs", &["-q", "-F", "-t", "ext4", "-d", tree.path().to_str().unwrap()]);
    assert_eq!(image.file_system().read("/vmlinuz", 2_000_000).unwrap(), big);
    run("debugfs", &["-w", "-R", "feature needs_recovery", image.name()]);
    assert!(identify(image.device().as_ref()).0.is_unclean);
    assert_eq!(image.file_system().read("/vmlinuz", 2_000_000).unwrap(), big, "with a journal to take in");
}

#[test]
fn a_journal_of_its_own_is_named_and_the_volume_that_it_belongs_to_is_read() {
    let journal =
        Image::made_by(16, "mke2fs", &["-q", "-F", "-O", "journal_dev", "-b", "4096", "-L", "Ebbe"]);
    assert_eq!(journal.check(), VolumeKind::ExtJournal);
    assert_eq!(journal.blkid("TYPE").as_deref(), Some("jbd"));
}

/// Our reader and the reading crate give the same, on volumes of several layouts, and on spoiled ones ours never
/// panics.
#[test]
fn our_reader_reads_what_the_reading_crate_reads() {
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
            for (offset, length) in
                [(0, 0), (0, 1), (0, 2_000_000), (4095, 5000), (1_499_999, 9), (9 << 20, 1)]
            {
                let (mut ours, mut theirs) = (vec![1; length], vec![2; length]);
                let our_end = volume.read_at(path, offset, &mut ours).unwrap();
                let their_end = volume.careful().unwrap().read_at(path, offset, &mut theirs).unwrap();
                assert_eq!(ours[..our_end], theirs[..their_end], "{path}, {offset}, {layout:?}");
            }
        }
        for path in
            paths.iter().map(String::as_str).chain(["/", "/boot", "/boot/..", "/deep/er", "/deep/er/none"])
        {
            let careful = volume.careful().unwrap();
            assert_eq!(volume.metadata(path), careful.metadata(path), "{path}, {layout:?}");
            assert_eq!(volume.list(path), careful.list(path), "{path}, {layout:?}");
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

/// What we write passes the checker of file systems without a word, and others read it.
#[test]
fn what_is_written_into_a_fat_is_whole_for_others() {
    use signpost_disk::fat::{Change, Stamp};
    for (size, width) in [(4, "12"), (32, "16"), (64, "32")] {
        let image = Image::made_by(size, "mkfs.fat", &["-F", width]);
        let put = |path: &str, change: Change<'_>| {
            let bytes = fs::read(image.name()).unwrap();
            let volume = FatVolume::open(Arc::new(bytes) as SharedDevice).unwrap();
            let file = fs::OpenOptions::new().write(true).open(image.name()).unwrap();
            for (offset, bytes) in volume.change(path, change, Stamp::new((2026, 3, 20), (6, 40, 0))).unwrap()
            {
                file.write_all_at(&bytes, offset).unwrap();
            }
        };
        let silent = |after: &str| {
            let checked = Command::new("fsck.fat").args(["-n", image.name()]).output().unwrap();
            let said = String::from_utf8_lossy(&checked.stdout).lines().count();
            assert!(checked.status.success() && said == 2, "FAT{width}, {after}: {checked:?}");
        };
        for number in 0..40 {
            put(&format!("/EFI/Lärm und Lüge/Datei {number}.efi"), Change::Put(&vec![number; 3000]));
        }
        put("/EFI/signpost/1A2B3C4D.EFI", Change::Put(&[1; 70_000]));
        silent("files in folders");
        put("/EFI/signpost/1A2B3C4D.EFI", Change::Put(&[2; 90_000]));
        put("/EFI/Lärm und Lüge/Datei 7.efi", Change::Remove);
        silent("one longer, one gone");
        let read =
            Command::new("mtype").args(["-i", image.name(), "::EFI/signpost/1A2B3C4D.EFI"]).output().unwrap();
        assert!(read.stdout == vec![2; 90_000], "FAT{width}: {}", String::from_utf8_lossy(&read.stderr));
    }
}
