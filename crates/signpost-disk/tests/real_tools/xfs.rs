//! XFS, as the kernel writes it.

use std::fs;
use std::path::Path;

use signpost_disk::file_system::VolumeError;
use signpost_disk::probe::identify;

use crate::harness::{Image, Mounted, agrees, fill, noise, run, survives_spoiling};

fn filled(args: &[&str]) -> Image {
    let mut all = vec!["-q"];
    all.extend(args);
    let image = Image::made_by(320, "mkfs.xfs", &all);
    fill(Mounted::new(&image, "defaults").path());
    image
}

fn format_of(image: &Image, path: &str) -> String {
    let printed = run("xfs_db", &["-r", "-c", &format!("path {path}"), "-c", "p core.format", image.name()]);
    printed.trim().to_string()
}

#[test]
fn every_file_and_folder_reads_as_the_kernel_reads_it() {
    let layouts: [&[&str]; 2] = [&[], &["-b", "size=1024", "-n", "size=4096", "-i", "size=512"]];
    for layout in layouts {
        let image = filled(layout);
        let mounted = Mounted::new(&image, "ro");
        let fs = image.file_system();
        assert!(agrees(fs.as_ref(), mounted.path(), "/") > 6200, "{layout:?}");
        assert_eq!(fs.read("/boot/../etc/kernel/cmdline", 100).unwrap(), b"root=UUID=x quiet\n");
        assert!(matches!(fs.read("/boot/none", 9), Err(VolumeError::NotFound(_))));
        assert!(matches!(fs.read("/circle", 9), Err(VolumeError::Corrupt(_))));
        assert!(matches!(fs.read("/boot", 9), Err(VolumeError::WrongKind { .. })));
        assert!(format_of(&image, "/holes").contains("btree"), "{}", format_of(&image, "/holes"));
    }
}

/// The tool's own description of a tree: version 4, which newer kernels no longer mount, can be filled by it alone.
fn description(tree: &Path) -> String {
    let mut text = String::new();
    let mut entries: Vec<_> = fs::read_dir(tree).unwrap().map(|entry| entry.unwrap().path()).collect();
    entries.sort();
    for path in entries {
        let name = path.file_name().unwrap().to_str().unwrap();
        let line = if path.is_symlink() {
            format!("{name} l--777 0 0 {}\n", fs::read_link(&path).unwrap().display())
        } else if path.is_dir() {
            format!("{name} d--755 0 0\n{}", description(&path))
        } else {
            format!("{name} ---644 0 0 {}\n", path.display())
        };
        text.push_str(&line);
    }
    text + "$\n"
}

#[test]
fn version_4_reads_as_the_tool_filled_it() {
    let work = tempfile::tempdir().unwrap();
    let tree = work.path().join("tree");
    fs::create_dir_all(tree.join("boot")).unwrap();
    fs::write(tree.join("boot/vmlinuz-6.9"), noise(3_000_000)).unwrap();
    for (folder, count) in [("few", 3), ("some", 150), ("many", 4000)] {
        fs::create_dir(tree.join(folder)).unwrap();
        for index in 0..count {
            fs::write(tree.join(format!("{folder}/a-long-name-for-a-file-{index}")), format!("{index}"))
                .unwrap();
        }
    }
    std::os::unix::fs::symlink("boot/vmlinuz-6.9", tree.join("short")).unwrap();
    std::os::unix::fs::symlink(format!("boot/{}vmlinuz-6.9", "./".repeat(400)), tree.join("long")).unwrap();
    let proto = work.path().join("proto");
    fs::write(&proto, format!("/dev/null\n0 0\nd--755 0 0\n{}", description(&tree))).unwrap();
    for more in [&["-n", "ftype=0"][..], &["-n", "ftype=1,size=8192", "-b", "size=1024"]] {
        let mut args = vec!["-q", "-m", "crc=0", "-p", proto.to_str().unwrap()];
        args.extend(more);
        let image = Image::made_by(320, "mkfs.xfs", &args);
        assert_eq!(agrees(image.file_system().as_ref(), &tree, "/"), 4156, "{more:?}");
    }
}

/// A folder in so many pieces that a tree must say where they are.
#[test]
fn folders_in_many_pieces_are_read() {
    let image = Image::made_by(320, "mkfs.xfs", &["-q", "-b", "size=1024"]);
    {
        let mounted = Mounted::new(&image, "defaults");
        fs::create_dir(mounted.path().join("many")).unwrap();
        for index in 0..1500 {
            let name = format!("many/a name that is long enough to fill its blocks soon {index}");
            fs::write(mounted.path().join(&name), noise(1024)).unwrap();
            if index % 8 == 0 {
                fs::File::open(mounted.path().join(&name)).unwrap().sync_all().unwrap();
            }
        }
    }
    assert!(format_of(&image, "/many").contains("btree"), "{}", format_of(&image, "/many"));
    let mounted = Mounted::new(&image, "ro");
    assert_eq!(agrees(image.file_system().as_ref(), mounted.path(), "/"), 1500);
}

/// A copy taken while it is mounted has changes in its log alone.
#[test]
fn a_log_that_was_not_written_out_is_told() {
    let is_unclean = |image: &Image| identify(image.device().as_ref()).0.is_unclean;
    let image = Image::made_by(320, "mkfs.xfs", &["-q"]);
    assert!(!is_unclean(&image), "just made");
    let copy = Image::new(320);
    {
        let mounted = Mounted::new(&image, "defaults");
        for index in 0..300 {
            fs::write(mounted.path().join(format!("tide {index}")), noise(2000)).unwrap();
        }
        fs::File::open(mounted.path()).unwrap().sync_all().unwrap();
        run("sync", &["-f", mounted.path().to_str().unwrap()]);
        fs::copy(&image.path, &copy.path).unwrap();
    }
    assert!(is_unclean(&copy), "copied while it was in use");
    assert!(!is_unclean(&image), "unmounted");
    let printed = run("xfs_logprint", &["-t", copy.name()]);
    assert!(printed.contains("<DIRTY>"), "the tool says the same: {printed}");
}

#[test]
fn spoiled_volumes_end_in_errors() {
    let image = filled(&["-b", "size=1024"]);
    // The superblock, then metadata of the first group.
    let offsets = (0..512).step_by(16).chain((1024..2_000_000).step_by(9973));
    survives_spoiling(&image, offsets, &["/", "/many", "/holes", "/boot/vmlinuz-6.9", "/long"]);
}
