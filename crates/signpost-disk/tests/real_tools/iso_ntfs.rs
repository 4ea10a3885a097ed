//! ISO 9660 as the tools make it, and NTFS as its user-space driver writes it.

use std::fs;

use signpost_disk::file_system::VolumeError;

use crate::harness::{Image, Mounted, agrees, fill, noise, run, survives_spoiling};

fn iso(tree: &std::path::Path, tool: &str, args: &[&str]) -> Image {
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
    let image = Image::made_by(64, "mkntfs", &["-q", "-F", "-f", "-L", "Meridian"]);
    {
        let mounted = Mounted::of_type(&image, "ntfs-3g", "defaults");
        let path = mounted.path();
        fs::create_dir_all(path.join("Windows/System32")).unwrap();
        fs::write(path.join("Windows/System32/kernel.exe"), noise(3_000_000)).unwrap();
        for index in 0..1500 {
            fs::write(path.join(format!("Windows/a long name for a file {index}.dll")), format!("{index}"))
                .unwrap();
        }
    }
    let mounted = Mounted::of_type(&image, "ntfs-3g", "ro");
    let fs = image.file_system();
    for folder in ["/Windows", "/Windows/System32"] {
        assert!(agrees(fs.as_ref(), mounted.path(), folder) >= 1, "{folder}");
    }
    assert_eq!(fs.read("/windows/SYSTEM32/Kernel.EXE", 4_000_000).unwrap(), noise(3_000_000));
    assert!(matches!(fs.read("/none", 9), Err(VolumeError::NotFound(_))));
    drop(mounted);
    let offsets = (0..512).step_by(24).chain((16384..90_000).step_by(499));
    // The reading crate may give up with a panic: the survey guards it.
    let spoiled = std::panic::catch_unwind(|| {
        survives_spoiling(&image, offsets, &["/", "/Windows", "/Windows/System32/kernel.exe"]);
    });
    spoiled.unwrap();
}
