//! btrfs, as the kernel writes it.

use std::fs;

use signpost_disk::file_system::{Subvolume, VolumeError};
use signpost_disk::probe::identify;

use crate::harness::{Image, Mounted, agrees, fill, poke, run, survives_spoiling};

fn filled(mkfs: &[&str], options: &str) -> Image {
    let mut all = vec!["-q"];
    all.extend(mkfs);
    let image = Image::made_by(320, "mkfs.btrfs", &all);
    let mounted = Mounted::new(&image, options);
    fill(mounted.path());
    // What packs well, so that it is packed.
    let text: String = (0..200_000).map(|line| format!("line {line} of the tide table\n")).collect();
    fs::write(mounted.path().join("text"), &text[..3_000_001]).unwrap();
    fs::write(mounted.path().join("small"), &text[..3000]).unwrap();
    drop(mounted);
    image
}

#[test]
fn every_file_and_folder_reads_as_the_kernel_reads_it() {
    let layouts: [(&[&str], &str); 5] = [
        (&[], "defaults"),
        (&["-m", "single"], "compress-force=zlib"),
        (&["-n", "4096", "-m", "dup"], "compress-force=lzo"),
        (&["-O", "^no-holes"], "compress-force=zstd"),
        (&["--csum", "xxhash", "-M"], "compress=zstd"),
    ];
    for (mkfs, options) in layouts {
        let image = filled(mkfs, options);
        let mounted = Mounted::new(&image, "ro");
        let fs = image.file_system();
        assert!(agrees(fs.as_ref(), mounted.path(), "/") > 6200, "{mkfs:?} {options}");
        let (packed, whole) =
            (fs.file_device("/text").unwrap().unwrap(), fs.read("/text", 4_000_000).unwrap());
        assert_eq!(packed.size(), 3_000_001);
        for (offset, length) in [(0, 9), (131_000, 300_000), (2_999_990, 11)] {
            let mut piece = vec![0; length];
            packed.read_at(offset as u64, &mut piece).unwrap();
            assert_eq!(piece, whole[offset..offset + length], "{mkfs:?} {options}");
        }
        assert!(packed.read_at(3_000_000, &mut [0; 2]).is_err());
        assert!(matches!(fs.read("/boot/none", 9), Err(VolumeError::NotFound(_))));
        assert!(matches!(fs.read("/circle", 9), Err(VolumeError::Corrupt(_))));
    }
}

#[test]
fn subvolumes_are_folders_and_the_default_one_is_known() {
    let image = Image::made_by(160, "mkfs.btrfs", &["-q"]);
    {
        let mounted = Mounted::new(&image, "defaults");
        let path = |name: &str| mounted.path().join(name).to_str().unwrap().to_string();
        for name in ["@", "@home", "@/var"] {
            run("btrfs", &["-q", "subvolume", "create", &path(name)]);
        }
        fs::create_dir_all(path("@/etc/deep")).unwrap();
        run("btrfs", &["-q", "subvolume", "create", &path("@/etc/deep/inner")]);
        fs::write(path("@/etc/os-release"), "ID=larkspur\n").unwrap();
        fs::write(path("@/etc/deep/inner/x"), "inside").unwrap();
        run("btrfs", &["-q", "subvolume", "snapshot", "-r", &path("@"), &path("kept")]);
        run("btrfs", &["-q", "subvolume", "snapshot", &path("@"), &path("@/copy")]);
        run("btrfs", &["subvolume", "set-default", &path("@")]);
    }
    let fs = image.file_system();
    let mut found = fs.subvolumes().unwrap();
    let copy = found.pop().unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    assert_eq!(copy.path, "/@/copy");
    assert!((now - 60..=now).contains(&copy.copied.unwrap().cast_unsigned()), "{copy:?} at {now}");
    let subvolume = |path: &str| Subvolume { path: path.into(), is_default: path == "/@", copied: None };
    assert_eq!(found, ["/@", "/@home", "/@/var", "/@/etc/deep/inner"].map(subvolume));
    assert_eq!(fs.read("/@/etc/os-release", 99).unwrap(), b"ID=larkspur\n");
    assert_eq!(fs.read("/@/etc/deep/inner/x", 99).unwrap(), b"inside");
    assert_eq!(fs.read("/kept/etc/os-release", 99).unwrap(), b"ID=larkspur\n");
    let mounted = Mounted::new(&image, "ro,subvolid=5");
    agrees(fs.as_ref(), mounted.path(), "/");
}

/// A node whose first copy is spoiled is read from its second.
#[test]
fn the_second_copy_is_taken_where_the_first_is_broken() {
    let image = Image::made_by(320, "mkfs.btrfs", &["-q", "-m", "dup", "-d", "single"]);
    fs::write(Mounted::new(&image, "defaults").path().join("tide"), "high").unwrap();
    let printed = run("btrfs", &["inspect-internal", "dump-tree", "-t", "chunk", image.name()]);
    let stripes: Vec<u64> = printed
        .lines()
        .filter_map(|line| line.trim().strip_prefix("stripe 0 devid 1 offset "))
        .map(|offset| offset.parse().unwrap())
        .collect();
    let of = |what: &str| {
        let at = printed.lines().position(|line| line.contains(what)).unwrap();
        let before = printed.lines().take(at).filter(|line| line.contains("stripe 0 devid")).count();
        stripes[before]
    };
    for start in [of("METADATA|DUP"), of("SYSTEM|DUP")] {
        for node in 0..64 {
            poke(&image.path, start + node * 16384 + 200, &[0xa5; 32]);
        }
    }
    assert_eq!(image.file_system().read("/tide", 9).unwrap(), b"high");
}

#[test]
fn a_volume_over_several_devices_is_named_as_what_it_is() {
    let (first, second) = (Image::new(160), Image::new(160));
    run("mkfs.btrfs", &["-q", "-d", "raid1", "-m", "raid1", first.name(), second.name()]);
    let device = first.device();
    let opened = signpost_disk::open::file_system(&device, &identify(device.as_ref()).0).unwrap();
    assert!(matches!(opened.err(), Some(VolumeError::Unsupported(why)) if why.contains("2 devices")));
}

#[test]
fn spoiled_volumes_end_in_errors() {
    for csum in ["crc32c", "xxhash"] {
        let image = filled(&["-m", "single", "--csum", csum], "compress-force=zstd");
        let printed = run("btrfs", &["inspect-internal", "dump-tree", "-t", "chunk", image.name()]);
        let first = printed.lines().filter_map(|line| line.trim().strip_prefix("stripe 0 devid 1 offset "));
        let chunks: Vec<u64> = first.map(|offset| offset.parse().unwrap()).collect();
        let metadata = chunks.iter().flat_map(|chunk| (*chunk..chunk + 3_000_000).step_by(79_973));
        let offsets = (65536..65536 + 0x500).step_by(24).chain(metadata);
        survives_spoiling(&image, offsets, &["/", "/many", "/holes", "/text", "/long"]);
    }
}
