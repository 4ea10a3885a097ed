//! Kind, label and UUID of every kind that a tool of Debian's makes, held against what `blkid` prints.

use std::fs;

use signpost_disk::probe::{VolumeKind, identify};

use crate::harness::{Image, LoopDevice, make_mirror, poke, run, source};

/// Size in MiB, tool, arguments before the image, the kind.
type Case = (u64, &'static str, &'static [&'static str], VolumeKind);

const CASES: [Case; 21] = [
    (320, "mkfs.xfs", &["-q", "-L", "Größe"], VolumeKind::Xfs),
    (320, "mkfs.xfs", &["-q", "-m", "crc=0"], VolumeKind::Xfs),
    (128, "mkfs.btrfs", &["-q", "-L", "Tiden und Pegel ≈ 潮"], VolumeKind::Btrfs),
    (128, "mkfs.btrfs", &["-q", "--csum", "xxhash"], VolumeKind::Btrfs),
    (16, "mkntfs", &["-q", "-F", "-f", "-L", "Ebbe 潮 Flut"], VolumeKind::Ntfs),
    (16, "mkntfs", &["-q", "-F", "-f", "-c", "65536"], VolumeKind::Ntfs),
    (16, "mkfs.exfat", &["-L", "Pegel 潮"], VolumeKind::ExFat),
    (64, "mkfs.exfat", &["-c", "32K"], VolumeKind::ExFat),
    (64, "mkfs.f2fs", &["-q", "-l", "Gezeiten 潮"], VolumeKind::F2fs),
    (16, "mkswap", &["-L", "tide swap"], VolumeKind::Swap),
    (16, "mkswap", &["-p", "65536"], VolumeKind::Swap),
    (16, "mkudffs", &["--media-type=hd", "-b", "512", "-l", "Flut Ω"], VolumeKind::Udf),
    (16, "mkudffs", &["--media-type=hd", "-b", "2048", "-l", "plain"], VolumeKind::Udf),
    (16, "mkudffs", &["--media-type=dvdram", "-l", "Ünlü"], VolumeKind::Udf),
    (640, "mkapfs", &["-L", "Kestrel Data"], VolumeKind::Apfs),
    (16, "mkfs.ext4", &["-q", "-F", "-L", "Ebbe"], VolumeKind::Ext4),
    (
        32,
        "pvcreate",
        &["-qq", "-y", "--config", "devices{use_devicesfile=0 filter=[\"a|.*|\"]}"],
        VolumeKind::Lvm2,
    ),
    (32, "cryptsetup", &["luksFormat", "-q", "--type", "luks1", "--iter-time", "1"], VolumeKind::Luks1),
    (
        32,
        "cryptsetup",
        &[
            "luksFormat",
            "-q",
            "--type",
            "luks2",
            "--pbkdf",
            "pbkdf2",
            "--pbkdf-force-iterations",
            "1000",
            "--label",
            "Tresor 潮",
        ],
        VolumeKind::Luks2,
    ),
    (40, "mkfs.fat", &["-F", "32", "-n", "PEGEL"], VolumeKind::Fat32),
    (16, "mkfs.ext2", &["-q", "-F", "-L", "sixteen letters!"], VolumeKind::Ext2),
];

#[test]
fn label_and_uuid_are_those_of_blkid() {
    for (size, tool, args, kind) in CASES {
        let image = Image::new(size);
        let mut args = args.to_vec();
        let key = image.path.with_file_name("key");
        fs::write(&key, "tide").unwrap();
        args.push(image.name());
        if tool == "cryptsetup" {
            args.push(key.to_str().unwrap());
        }
        if tool == "pvcreate" {
            let device = LoopDevice::new(&image);
            let on_device: Vec<&str> =
                args.iter().map(|arg| if *arg == image.name() { device.name() } else { arg }).collect();
            run(tool, &on_device);
        } else {
            run(tool, &args);
        }
        assert_eq!(image.check(), kind, "{tool} {args:?}");
    }
}

#[test]
fn raid_members_are_known_wherever_their_metadata_lies() {
    let size = 24u64 << 20;
    for (name, metadata_at, data) in [("1.0", size - 8192, 0), ("1.1", 0, 1 << 20), ("1.2", 4096, 1 << 20)] {
        let image = Image::new(24);
        make_mirror(&image.path, metadata_at, data, 16 << 20);
        let examined = run("mdadm", &["--examine", image.name()]);
        assert!(examined.contains(&format!("Version : {name}")) && examined.contains("raid1"), "{examined}");
        assert!(examined.contains("- correct"), "the checksum: {examined}");
        assert_eq!(image.check(), VolumeKind::MdRaid, "{name}");
    }
}

#[test]
fn images_of_whole_trees_are_known() {
    let tree = tempfile::tempdir().unwrap();
    source(tree.path());
    let from = tree.path().to_str().unwrap();
    let make = |tool: &str, args: &[&str], last: &[&str]| {
        let image = Image::new(1);
        fs::remove_file(&image.path).unwrap();
        let mut all = args.to_vec();
        all.extend(last.iter().map(|part| if *part == "IMAGE" { image.name() } else { *part }));
        run(tool, &all);
        image
    };
    let iso = ["-quiet", "-R", "-J", "-V"];
    let cases = [
        (make("mksquashfs", &[from], &["IMAGE", "-quiet", "-no-progress"]), VolumeKind::Squashfs),
        (make("mkfs.erofs", &[], &["IMAGE", from]), VolumeKind::Erofs),
        (make("genisoimage", &iso, &["LANTERN_LIVE", "-o", "IMAGE", from]), VolumeKind::Iso9660),
        (
            make("genisoimage", &iso, &["Lantern Live 3, Kestrel Point", "-o", "IMAGE", from]),
            VolumeKind::Iso9660,
        ),
        (make("genisoimage", &["-quiet", "-V"], &["plain", "-o", "IMAGE", from]), VolumeKind::Iso9660),
        (make("genisoimage", &["-quiet", "-udf", "-V"], &["Bridge", "-o", "IMAGE", from]), VolumeKind::Udf),
        (make("makefs", &["-t", "ffs", "-s", "8m", "-o", "version=2"], &["IMAGE", from]), VolumeKind::Ufs2),
        (make("makefs", &["-t", "ffs", "-s", "8m", "-o", "version=1"], &["IMAGE", from]), VolumeKind::Ufs1),
        (
            make("makefs", &["-t", "ffs", "-B", "be", "-s", "8m", "-o", "version=2"], &["IMAGE", from]),
            VolumeKind::Ufs2,
        ),
    ];
    for (image, kind) in cases {
        assert_eq!(image.check(), kind);
        if kind == VolumeKind::Ufs2 {
            // This tool puts the superblock where version 1 has it, and takes no label.
            poke(&image.path, 8192 + 680, b"skerry root");
            assert_eq!(image.check(), kind);
            assert_eq!(identify(image.device().as_ref()).0.label.as_deref(), Some("skerry root"));
        }
    }
}

#[test]
fn a_container_names_the_volumes_in_it() {
    let image = Image::made_by(640, "mkapfs", &["-L", "Kestrel Data"]);
    assert_eq!(identify(image.device().as_ref()).0.inside, ["Kestrel Data"]);
}

/// A hybrid image holds HFS+ behind an older partition map.
#[test]
fn hfs_plus_inside_of_a_hybrid_image_is_known() {
    let tree = tempfile::tempdir().unwrap();
    source(tree.path());
    let image = Image::new(1);
    fs::remove_file(&image.path).unwrap();
    run(
        "xorriso",
        &[
            "-as",
            "mkisofs",
            "-quiet",
            "-hfsplus",
            "-V",
            "Kestrel",
            "-o",
            image.name(),
            tree.path().to_str().unwrap(),
        ],
    );
    let bytes = fs::read(&image.path).unwrap();
    let at = bytes.chunks(512).position(|sector| sector.starts_with(b"H+\0\x04")).unwrap() * 512 - 1024;
    let volume = Image::new(1);
    fs::write(&volume.path, &bytes[at..]).unwrap();
    assert_eq!(volume.check(), VolumeKind::HfsPlus);
}

#[test]
fn states_left_behind_are_told() {
    let state = |image: &Image| {
        let identity = identify(image.device().as_ref()).0;
        (identity.is_unclean, identity.is_hibernated)
    };
    let swap = Image::made_by(16, "mkswap", &[]);
    assert_eq!(state(&swap), (false, false));
    poke(&swap.path, 4086, b"S1SUSPEND\0");
    assert_eq!(state(&swap), (false, true));
    let ext = Image::made_by(32, "mkfs.ext4", &["-q", "-F"]);
    assert_eq!(state(&ext), (false, false));
    run("debugfs", &["-w", "-R", "feature needs_recovery", ext.name()]);
    assert_eq!(state(&ext), (true, false));
    let fat = Image::made_by(40, "mkfs.fat", &["-F", "32"]);
    assert_eq!(state(&fat), (false, false));
    poke(&fat.path, 65, &[1]);
    assert_eq!(state(&fat), (true, false));
}
