//! ISO 9660 and UDF as the tools make them, NTFS and exFAT as their user-space drivers write them.

use std::fs;
use std::path::Path;

use signpost_disk::file_system::VolumeError;
use signpost_disk::probe::VolumeKind;
use signpost_disk::table::TableKind;
use signpost_disk::volumes::{Disk, Volumes};

use crate::harness::{Image, Mounted, agrees, fill, noise, poke, run, survives_spoiling};

fn iso(tree: &Path, tool: &str, args: &[&str]) -> Image {
    let image = Image::new(1);
    fs::remove_file(&image.path).unwrap();
    let mut all = args.to_vec();
    all.extend(["-o", image.name(), tree.to_str().unwrap()]);
    run(tool, &all);
    image
}

#[test]
fn rock_ridge_reads_as_the_tree_it_was_made_from() {
    let tree = tempfile::tempdir().unwrap();
    fill(tree.path());
    // The tool that makes images never ends over a link of so many parts.
    fs::remove_file(tree.path().join("long")).unwrap();
    // Each path is looked up from the start: thousands in one folder take minutes here, and show no more.
    for index in 600..6000 {
        let name = format!("many/a name that is long enough to fill blocks {index}");
        fs::remove_file(tree.path().join(name)).unwrap();
    }
    // Deeper than plain ISO 9660 allows, so that folders are moved; and a link of several parts.
    fs::write(tree.path().join("usr/lib/x"), "x").unwrap();
    fs::create_dir_all(tree.path().join("1/2/3/4/5/6/7/8/9/10")).unwrap();
    fs::write(tree.path().join("1/2/3/4/5/6/7/8/9/10/deep"), "deep").unwrap();
    std::os::unix::fs::symlink(format!("/boot/{}", "x".repeat(250)), tree.path().join("gone")).unwrap();
    let genisoimage = iso(tree.path(), "genisoimage", &["-quiet", "-R", "-hide-rr-moved"]);
    let xorriso = iso(tree.path(), "xorriso", &["-as", "mkisofs", "-quiet", "-R", "-J"]);
    assert!(agrees(xorriso.file_system().as_ref(), tree.path(), "/") > 800);
    // This one shows the folder that it moves the deep ones to.
    for folder in ["/1", "/boot", "/etc", "/many", "/usr"] {
        assert!(agrees(genisoimage.file_system().as_ref(), tree.path(), folder) > 0, "{folder}");
    }
}

#[test]
fn wide_and_plain_names_are_read_without_rock_ridge() {
    let tree = tempfile::tempdir().unwrap();
    fs::create_dir_all(tree.path().join("boot")).unwrap();
    fs::write(tree.path().join("boot/Größe ≈ 潮.txt"), noise(70_000)).unwrap();
    let wide = iso(tree.path(), "genisoimage", &["-quiet", "-J", "-input-charset", "utf-8"]);
    assert_eq!(agrees(wide.file_system().as_ref(), tree.path(), "/"), 1);
    fs::rename(tree.path().join("boot/Größe ≈ 潮.txt"), tree.path().join("boot/TIDE.TXT")).unwrap();
    let plain = iso(tree.path(), "genisoimage", &["-quiet"]);
    assert_eq!(plain.file_system().read("/boot/tide.txt", 1 << 20).unwrap(), noise(70_000));
}

/// What media of installers are: UDF, with an ISO 9660 beside it that says less.
#[test]
fn udf_reads_as_the_tree_it_was_made_from() {
    let tree = tempfile::tempdir().unwrap();
    fs::create_dir_all(tree.path().join("sources/of many")).unwrap();
    fs::write(tree.path().join("sources/Größe ≈ 潮.wim"), noise(3_000_000)).unwrap();
    fs::write(tree.path().join("setup.exe"), noise(700)).unwrap();
    for index in 0..300 {
        fs::write(tree.path().join(format!("sources/of many/file {index}")), format!("{index}")).unwrap();
    }
    let image = iso(tree.path(), "genisoimage", &["-quiet", "-udf", "-input-charset", "utf-8"]);
    assert_eq!(image.check(), VolumeKind::Udf);
    let volume = image.file_system();
    assert_eq!(agrees(volume.as_ref(), tree.path(), "/"), 302);
    assert_eq!(volume.read("/SOURCES/of many/FILE 7", 9).unwrap(), b"7");
    assert_eq!(volume.file_device("/setup.exe").unwrap().unwrap().size(), 700);
    let end = fs::metadata(&image.path).unwrap().len();
    let offsets = (0..end.min(1 << 20)).step_by(3001).map(|at| at / 4 * 4);
    survives_spoiling(&image, offsets, &["/", "/sources", "/sources/of many", "/setup.exe"]);
}

#[test]
fn exfat_reads_as_its_driver_wrote_it() {
    for cluster in ["512", "4K", "128K"] {
        let image = Image::made_by(96, "mkfs.exfat", &["-c", cluster, "-L", "Pegel"]);
        assert_eq!(image.check(), VolumeKind::ExFat);
        let mounted = Mounted::of_type(&image, "exfat-fuse", "defaults");
        let path = mounted.path();
        fs::create_dir_all(path.join("Systeme/many")).unwrap();
        fs::write(path.join("Systeme/Größe ≈ 潮.iso"), noise(2_000_000)).unwrap();
        fs::write(path.join("empty"), b"").unwrap();
        for index in 0..300 {
            let name = format!("Systeme/many/a name that is long enough for several entries {index}");
            fs::write(path.join(name), format!("{index}")).unwrap();
        }
        in_pieces(path);
        drop(mounted);
        let mounted = Mounted::of_type(&image, "exfat-fuse", "ro");
        let volume = image.file_system();
        assert!(agrees(volume.as_ref(), mounted.path(), "/") > 300, "clusters of {cluster}");
        assert!(volume.read("/SYSTEME/größe ≈ 潮.ISO", 1 << 22).is_ok(), "clusters of {cluster}");
        assert!(matches!(volume.read("/none", 9), Err(VolumeError::NotFound(_))));
        let mut tail = vec![0; 100_000];
        let inside = volume.file_device("/image").unwrap().unwrap();
        inside.read_at(inside.size() - 100_000, &mut tail).unwrap();
        let whole = fs::read(mounted.path().join("image")).unwrap();
        assert_eq!(tail, whole[whole.len() - 100_000..], "clusters of {cluster}");
        drop(mounted);
        if cluster == "4K" {
            let offsets = (64..128).step_by(4).chain((0..3_000_000).step_by(9973));
            survives_spoiling(&image, offsets, &["/", "/Systeme/many", "/image"]);
        }
    }
}

/// A GPT whose one partition is the firmware's, in the middle of an image.
#[test]
fn an_image_that_no_partition_covers_is_a_volume_and_one_left_over_is_none() {
    let tree = tempfile::tempdir().unwrap();
    fs::create_dir(tree.path().join("live")).unwrap();
    fs::write(tree.path().join("live/kernel"), noise(70_000)).unwrap();
    let esp = Image::made_by(4, "mkfs.fat", &["-F", "12"]);
    let args = [
        "-as",
        "mkisofs",
        "-quiet",
        "-R",
        "-appended_part_as_gpt",
        "-append_partition",
        "2",
        "0xef",
        esp.name(),
    ];
    let image = iso(tree.path(), "xorriso", &args);
    let disk = Disk::look(&image.device(), 512);
    assert_eq!(disk.table.kind, TableKind::Gpt);
    let kinds = |disk: Disk| {
        let found = Volumes::find(&[disk]).list;
        let kinds = found.iter().map(|volume| volume.identity.kind);
        // The tool makes partitions of the gaps too.
        kinds.filter(|kind| *kind != VolumeKind::Unknown).collect::<Vec<_>>()
    };
    assert_eq!(kinds(disk), [VolumeKind::Iso9660, VolumeKind::Fat12]);
    let parts = Disk::look(&image.device(), 512).parts;
    let start = parts.iter().find(|part| part.identity().kind.is_fat()).unwrap().start();
    let other = Image::made_by(4, "mke2fs", &["-q", "-F", "-t", "ext4"]);
    poke(&image.path, start, &fs::read(&other.path).unwrap());
    assert_eq!(kinds(Disk::look(&image.device(), 512)), [VolumeKind::Ext4]);
}

#[test]
fn spoiled_images_end_in_errors() {
    let tree = tempfile::tempdir().unwrap();
    fill(tree.path());
    // The tool that makes images never ends over a link of so many parts.
    fs::remove_file(tree.path().join("long")).unwrap();
    let image = iso(tree.path(), "genisoimage", &["-quiet", "-R"]);
    let offsets = (32768..36864).step_by(40).chain((36864..400_000).step_by(1999));
    survives_spoiling(&image, offsets, &["/", "/many", "/boot/vmlinuz-6.9", "/circle"]);
}

#[test]
fn ntfs_reads_as_its_driver_wrote_it() {
    for cluster in ["512", "2048", "4096", "8192", "65536"] {
        let image = Image::made_by(96, "mkntfs", &["-q", "-F", "-f", "-c", cluster, "-L", "Meridian"]);
        assert_eq!(image.check(), VolumeKind::Ntfs, "clusters of {cluster}");
        {
            let mounted = Mounted::of_type(&image, "ntfs-3g", "defaults");
            let path = mounted.path();
            fs::create_dir_all(path.join("Windows/System32")).unwrap();
            fs::write(path.join("Windows/System32/kernel.exe"), noise(3_000_000)).unwrap();
            fs::write(path.join("Windows/Größe und Ähre.txt"), "Ebbe").unwrap();
            for index in 0..1500 {
                fs::write(
                    path.join(format!("Windows/a long name for a file {index}.dll")),
                    format!("{index}"),
                )
                .unwrap();
            }
            in_pieces(path);
        }
        let mounted = Mounted::of_type(&image, "ntfs-3g", "ro");
        let volume = image.file_system();
        for folder in ["/", "/Windows", "/Windows/System32"] {
            assert!(agrees(volume.as_ref(), mounted.path(), folder) >= 1, "{folder}, clusters of {cluster}");
        }
        assert_eq!(volume.read("/windows/SYSTEM32/Kernel.EXE", 4_000_000).unwrap(), noise(3_000_000));
        assert_eq!(volume.read("/WINDOWS/GRÖSSE UND ÄHRE.TXT", 9).ok(), None, "no ß in capitals");
        assert_eq!(volume.read("/WINDOWS/GRÖßE UND ÄHRE.TXT", 9).unwrap(), b"Ebbe", "clusters of {cluster}");
        assert!(matches!(volume.read("/none", 9), Err(VolumeError::NotFound(_))));
        let inside = volume.file_device("/image").unwrap().unwrap();
        let mut bytes = vec![0; len_of(inside.size())];
        inside.read_at(0, &mut bytes).unwrap();
        assert_eq!(bytes, fs::read(mounted.path().join("image")).unwrap(), "clusters of {cluster}");
        drop(mounted);
        if cluster != "65536" {
            let offsets = (0..512).step_by(24).chain((16384..90_000).step_by(499));
            survives_spoiling(&image, offsets, &["/", "/Windows", "/Windows/System32/kernel.exe", "/image"]);
        }
    }
}

fn len_of(size: u64) -> usize {
    size.try_into().unwrap()
}

/// A file in the gaps between others, in so many runs that no one record holds them.
fn in_pieces(folder: &Path) {
    let name = |index: usize| folder.join(format!("small {index}"));
    let fit = (0..2000).take_while(|index| fs::write(name(*index), [0xee; 60_000]).is_ok()).count();
    for index in (0..fit).step_by(2) {
        fs::remove_file(name(index)).unwrap();
    }
    fs::write(folder.join("image"), noise(fit / 2 * 50_000)).unwrap();
    for index in (1..=fit).step_by(2) {
        let _ = fs::remove_file(name(index));
    }
}
