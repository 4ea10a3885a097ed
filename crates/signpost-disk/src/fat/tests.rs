use alloc::string::ToString;
use alloc::sync::Arc;
use alloc::vec::Vec;
use alloc::{format, vec};

use super::*;
use crate::error::VolumeError;
use crate::file_system::{FileSystem, Metadata};
use proptest::prelude::*;
use std::io::{Cursor, Write};

extern crate std;

/// A volume of this many bytes, made by the crate that benches are written with.
fn volume(size: usize) -> Vec<u8> {
    let mut cursor = Cursor::new(vec![0; size]);
    let mut options = fatfs::FormatVolumeOptions::new().volume_id(0x4f2a_11c9).volume_label(*b"TIDE ESP   ");
    if size > 64 << 20 {
        options = options.fat_type(fatfs::FatType::Fat32).bytes_per_cluster(512);
    }
    fatfs::format_volume(&mut cursor, options).unwrap();
    let fs = fatfs::FileSystem::new(&mut cursor, fatfs::FsOptions::new()).unwrap();
    let folder = fs.root_dir().create_dir("EFI").unwrap().create_dir("Larkspur").unwrap();
    folder.create_file("start.efi").unwrap().write_all(&pattern(70_000)).unwrap();
    folder.create_file("A rather long name – naïve.txt").unwrap().write_all(b"x").unwrap();
    folder.create_file("EMPTY").unwrap();
    drop(folder);
    fs.unmount().unwrap();
    cursor.into_inner()
}

fn pattern(length: usize) -> Vec<u8> {
    (0..length).map(|i| (i % 253) as u8).collect()
}

fn open(bytes: Vec<u8>) -> Result<FatVolume, VolumeError> {
    FatVolume::open(Arc::new(bytes))
}

#[test]
fn all_three_types_are_read() {
    for (size, fat_type) in
        [(2 << 20, FatType::Fat12), (16 << 20, FatType::Fat16), (80 << 20, FatType::Fat32)]
    {
        let bytes = volume(size);
        let identity = identify(&bytes).unwrap().unwrap();
        assert_eq!(identity.uuid.as_deref(), Some("4F2A-11C9"));
        assert_eq!(identity.label.as_deref(), Some("TIDE ESP"), "{fat_type:?}");
        let volume = open(bytes).unwrap();
        assert_eq!(volume.geometry.fat_type, fat_type);
        assert_eq!(volume.read("/efi/LARKSPUR/Start.efi", 70_000), Ok(pattern(70_000)));
        assert_eq!(volume.read_head("/EFI/Larkspur/start.efi", 10), Ok(pattern(10)));
        assert_eq!(volume.read("/EFI/Larkspur/EMPTY", 10), Ok(vec![]));
        let names: Vec<_> = volume.list("/EFI/Larkspur").unwrap().into_iter().map(|item| item.name).collect();
        assert_eq!(names, ["A rather long name – naïve.txt", "EMPTY", "start.efi"]);
        assert_eq!(volume.metadata("/"), Ok(Metadata { size: 0, is_folder: true }));
    }
}

#[test]
fn mistakes_are_told_apart() {
    let volume = open(volume(2 << 20)).unwrap();
    let path = "/EFI/Larkspur/start.efi";
    assert_eq!(volume.read("/EFI/none", 1), Err(VolumeError::NotFound("/EFI/none".into())));
    assert_eq!(
        volume.read("/EFI", 1),
        Err(VolumeError::WrongKind { path: "/EFI".into(), found: "a folder" })
    );
    assert_eq!(volume.list(path), Err(VolumeError::WrongKind { path: path.into(), found: "no folder" }));
    assert_eq!(volume.read(path, 9), Err(VolumeError::TooLarge { path: path.into(), most: 9 }));
}

#[test]
fn each_lie_of_the_boot_sector_is_named() {
    let cases: [(usize, &[u8], &str); 8] = [
        (11, &[1, 3], "BPB_BytsPerSec"),
        (13, &[3], "BPB_SecPerClus"),
        (13, &[0], "BPB_SecPerClus"),
        (14, &[0, 0], "BPB_RsvdSecCnt"),
        (16, &[9], "BPB_NumFATs"),
        (19, &[0, 0], "BPB_TotSec"),
        (22, &[0xff, 0xff], "BPB_FATSz"),
        (22, &[1, 0], "BPB_FATSz"),
    ];
    for (offset, value, field) in cases {
        let mut bytes = volume(16 << 20);
        bytes[offset..offset + value.len()].copy_from_slice(value);
        if field == "BPB_TotSec" {
            bytes[32..36].fill(0);
        }
        match open(bytes) {
            Err(VolumeError::Corrupt(what)) => assert!(what.contains(field), "{field}: {what}"),
            other => panic!("{field}: {:?}", other.err()),
        }
    }
}

/// What firmware reads, and is not whole, is read and known for it.
#[test]
fn a_volume_with_a_flaw_is_read_and_the_flaw_is_named() {
    let cases: [(usize, &[u8], &str); 3] =
        [(510, &[0, 0], "55AA"), (0, &[0, 0, 0], "jump"), (21, &[0], "media byte")];
    for (offset, value, word) in cases {
        let mut bytes = volume(16 << 20);
        bytes[offset..offset + value.len()].copy_from_slice(value);
        let geometry = Geometry::read(&bytes).unwrap().unwrap();
        assert!(geometry.flaw.unwrap().contains(word) && geometry.firmware_refuses.is_none(), "{word}");
        assert!(open(bytes).unwrap().metadata("/EFI/Larkspur/start.efi").is_ok());
    }
    let mut longer = volume(16 << 20);
    longer.truncate((16 << 20) - 512);
    assert!(Geometry::read(&longer).unwrap().unwrap().flaw.unwrap().contains("longer than its partition"));
    assert_eq!(Geometry::read(&vec![0x6e; 4096]).unwrap(), None, "without its marks, numbers are not FAT");
}

#[test]
fn files_that_share_a_cluster_are_found() {
    let good = volume(16 << 20);
    assert_eq!(open(good.clone()).unwrap().check(), Ok(()));
    let geometry = Geometry::read(&good).unwrap().unwrap();
    let start = open(good.clone()).unwrap().find("/EFI/Larkspur/start.efi").unwrap().unwrap().first_cluster;
    let entry = geometry.fat_offset as usize + start as usize * 2;
    // Its second cluster is the root's neighbour, the first that any folder has.
    let mut shared = good;
    shared[entry..entry + 2].copy_from_slice(&2u16.to_le_bytes());
    let error = open(shared).unwrap().check().unwrap_err().to_string();
    assert!(error.contains("is another file's too") || error.contains("end before its size"), "{error}");
}

#[test]
fn a_chain_that_ends_early_loops_or_leaves_the_volume_is_named() {
    let good = volume(16 << 20);
    let geometry = Geometry::read(&good).unwrap().unwrap();
    let start = open(good.clone()).unwrap().find("/EFI/Larkspur/start.efi").unwrap().unwrap().first_cluster;
    let entry = geometry.fat_offset as usize + start as usize * 2;
    let around = format!("comes back to cluster {start}");
    let cases = [
        (0xffffu16, "its clusters end 68976 bytes before"),
        (0xfff0, "leads to cluster 65520"),
        (start as u16, around.as_str()),
    ];
    for (value, words) in cases {
        let mut bytes = good.clone();
        bytes[entry..entry + 2].copy_from_slice(&value.to_le_bytes());
        let error = open(bytes).unwrap().read("/EFI/Larkspur/start.efi", 70_000).unwrap_err().to_string();
        assert!(error.contains(words), "{value:#x}: {error}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn spoiled_volumes_never_panic(spoiled in prop::collection::vec((0usize..60_000, any::<u8>()), 1..60)) {
        let mut bytes = volume(2 << 20);
        for (at, value) in spoiled {
            bytes[at] = value;
        }
        let _ = identify(&bytes);
        if let Ok(volume) = open(bytes) {
            let listed = volume.list("/EFI/Larkspur").map(|items| items.len());
            prop_assert!(listed.is_ok_and(|count| count <= 65536) || volume.list("/EFI/Larkspur").is_err());
            let read = volume.read("/EFI/Larkspur/start.efi", 1 << 20);
            prop_assert!(read.is_err() || read.is_ok_and(|bytes| bytes.len() <= 1 << 20));
        }
    }
}
