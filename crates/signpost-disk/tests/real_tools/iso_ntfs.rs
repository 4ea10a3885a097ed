//! ISO 9660 as the tools make it, and NTFS as its user-space driver writes it.

use std::fs;
use std::path::Path;

use signpost_disk::file_system::VolumeError;
use signpost_disk::probe::VolumeKind;

use crate::harness::{Image, Mounted, agrees, fill, noise, run, survives_spoiling};

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
