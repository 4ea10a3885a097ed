use super::*;
use crate::block::SharedDevice;
use crate::fat::Geometry;
use crate::file_system::FileSystem;
use alloc::format;
use alloc::string::ToString;
use alloc::sync::Arc;
use proptest::prelude::*;
use std::io::Cursor;

extern crate std;

/// MiB of the volumes that are FAT32.
const FAT_32: usize = 36;
const KEEP: &str = "/EFI/other/keep.efi";

/// An empty volume, formatted by another program's hand, with a file in two folders by ours.
fn volume(mebibytes: usize) -> Vec<u8> {
    let mut cursor = Cursor::new(vec![0; mebibytes << 20]);
    let mut options = fatfs::FormatVolumeOptions::new();
    if mebibytes == FAT_32 {
        options = options.fat_type(fatfs::FatType::Fat32).bytes_per_cluster(512);
    }
    fatfs::format_volume(&mut cursor, options).unwrap();
    let mut bytes = cursor.into_inner();
    let steps = writes(&bytes, KEEP, Change::Put(&[7; 9000]));
    apply(&mut bytes, &steps);
    bytes
}

fn open(bytes: &[u8]) -> FatVolume {
    FatVolume::open(Arc::new(bytes.to_vec()) as SharedDevice).unwrap()
}

fn writes(bytes: &[u8], path: &str, change: Change<'_>) -> Vec<(u64, Vec<u8>)> {
    open(bytes).change(path, change, Stamp::new((2026, 3, 20), (6, 40, 0))).unwrap()
}

fn apply(bytes: &mut [u8], steps: &[(u64, Vec<u8>)]) {
    for (offset, piece) in steps {
        bytes[*offset as usize..*offset as usize + piece.len()].copy_from_slice(piece);
    }
}

/// Every cut leaves a volume that holds together, with what was there before, and the file as before or as after.
fn cuts(before: &[u8], path: &str, change: Change<'_>) -> Vec<u8> {
    let was = open(before).read(path, 1 << 20).ok();
    let is = match change {
        Change::Put(bytes) => Some(bytes.to_vec()),
        Change::Remove => None,
    };
    let steps = writes(before, path, change);
    let mut now = before.to_vec();
    for cut in 0..=steps.len() {
        if let Some(step) = cut.checked_sub(1).and_then(|last| steps.get(last)) {
            apply(&mut now, core::slice::from_ref(step));
        }
        let volume = open(&now);
        assert_eq!(volume.check(), Ok(()), "cut {cut} of {}", steps.len());
        if path != KEEP {
            assert_eq!(volume.read(KEEP, 9000), Ok(vec![7; 9000]), "cut {cut}");
        }
        let read = volume.read(path, 1 << 20).ok();
        let in_place = was.as_ref().is_some_and(|was| is.as_ref().is_some_and(|is| was.len() == is.len()));
        assert!(
            read == was || read == is || in_place,
            "cut {cut}: the file is neither as before nor as after"
        );
        if cut == steps.len() {
            assert_eq!(read, is, "in the end");
        }
    }
    now
}

#[test]
fn every_cut_of_a_new_file_leaves_a_volume_that_reads() {
    let content: Vec<u8> = (0..9_000u32).map(|i| (i % 251) as u8).collect();
    for mebibytes in [2, 16, FAT_32] {
        let before = volume(mebibytes);
        let after = cuts(&before, "/EFI/signpost/1A2B3C4D.EFI", Change::Put(&content));
        let longer = cuts(&after, "/EFI/signpost/1A2B3C4D.EFI", Change::Put(&[1; 12_000]));
        let gone = cuts(&longer, "/EFI/signpost/1A2B3C4D.EFI", Change::Remove);
        assert_eq!(
            open(&gone).free_bytes().unwrap(),
            open(&before).free_bytes().unwrap() - open(&before).cluster_size()
        );
        cuts(&before, "/A/rather deep/folder/with a long name in it/and more/x", Change::Put(b"x"));
        cuts(&before, "/empty", Change::Put(b""));
    }
}

/// Some formatters leave what was there before behind the end mark of a folder.
#[test]
fn what_stands_behind_the_end_mark_never_shows() {
    for entries in 0..20 {
        let mut before = volume(2);
        for number in 0..entries {
            let steps = writes(&before, &format!("/F{number}"), Change::Put(b"x"));
            apply(&mut before, &steps);
        }
        let geometry = Geometry::read(&before).unwrap().unwrap();
        let root = geometry.root_offset as usize..(geometry.root_offset + geometry.root_length) as usize;
        let end = before[root.clone()].chunks(32).position(|entry| entry[0] == 0).unwrap();
        before[root][end * 32 + 1..].fill(b'A');
        assert_eq!(open(&before).list("/").unwrap().len(), entries + 1);
        let after = cuts(&before, "/a name that takes several entries.efi", Change::Put(b"y"));
        assert_eq!(open(&after).list("/").unwrap().len(), entries + 2, "{entries}");
    }
}

#[test]
fn a_file_of_the_same_length_is_overwritten_in_place_and_nothing_else() {
    let before = volume(2);
    let steps = writes(&before, KEEP, Change::Put(&[8; 9000]));
    let geometry = Geometry::read(&before).unwrap().unwrap();
    assert!(steps.iter().all(|(offset, _)| *offset >= geometry.cluster_offset(2)));
    let mut after = before;
    apply(&mut after, &steps);
    assert_eq!(open(&after).read(KEEP, 9000), Ok(vec![8; 9000]));
    assert!(writes(&after, KEEP, Change::Put(&[8; 9000])).is_empty(), "what is so already is not written");
    assert!(writes(&after, "/EFI/none.efi", Change::Remove).is_empty());
}

#[test]
fn what_cannot_be_written_says_why() {
    let before = volume(2);
    let error = |path: &str, bytes: &[u8]| {
        open(&before).change(path, Change::Put(bytes), Stamp::default()).unwrap_err().to_string()
    };
    assert!(error("/big", &vec![0; 3 << 20]).contains("no room"));
    assert!(error("/EFI", b"").contains("a folder"));
    assert!(error("/EFI/other/keep.efi/x", b"").contains("no folder"));
    assert!(error("/a:b", b"").contains("no file of a FAT can be called a:b"));
    // The root folder of a small volume has room for so many and no more.
    let mut full = before.clone();
    let mut count = 0;
    let refused = loop {
        match open(&full).change(
            &format!("/A file with a long name, number {count}"),
            Change::Put(b"x"),
            Stamp::default(),
        ) {
            Ok(steps) => apply(&mut full, &steps),
            Err(error) => break error.to_string(),
        }
        count += 1;
    };
    assert!(count > 100 && refused.contains("no room"), "{count}: {refused}");
    assert!(open(&full).root_room().unwrap().unwrap() < 4);
    assert_eq!(open(&full).check(), Ok(()));
}

/// Many files in one folder, so that it grows, and names that share their short ones.
#[test]
fn folders_grow_and_every_name_is_found() {
    for mebibytes in [2, FAT_32] {
        let mut bytes = volume(mebibytes);
        let name = |number: usize| match number % 3 {
            0 => format!("/EFI/many/A long name that is shared, number {number}.efi"),
            1 => format!("/EFI/many/F{number}.EFI"),
            _ => format!("/EFI/many/gröer {number}"),
        };
        for number in 0..60 {
            bytes = if number % 20 == 0 {
                cuts(&bytes, &name(number), Change::Put(&[number as u8; 600]))
            } else {
                let steps = writes(&bytes, &name(number), Change::Put(&[number as u8; 600]));
                apply(&mut bytes, &steps);
                bytes
            };
        }
        let volume = open(&bytes);
        assert_eq!(volume.list("/EFI/many").unwrap().len(), 60);
        assert!(
            (0..60)
                .all(|number| volume.read(&name(number).to_uppercase(), 600) == Ok(vec![number as u8; 600]))
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn random_changes_read_back(
        changes in prop::collection::vec((0usize..6, prop::option::of(0usize..5000)), 1..24),
        mebibytes in prop::sample::select(vec![2usize, 16]),
    ) {
        const PATHS: [&str; 6] = ["/a", "/EFI/B.EFI", "/EFI/c c c", "/EFI/x/d", "/EFI/x/y/E", "/loader/entries/f.conf"];
        let mut bytes = volume(mebibytes);
        let mut model: [Option<Vec<u8>>; 6] = Default::default();
        for (index, length) in changes {
            let content = length.map(|length| vec![length as u8; length]);
            let change = content.as_deref().map_or(Change::Remove, Change::Put);
            let steps = writes(&bytes, PATHS[index], change);
            apply(&mut bytes, &steps);
            model[index] = content;
            let volume = open(&bytes);
            prop_assert_eq!(volume.check(), Ok(()));
            for (path, held) in PATHS.iter().zip(&model) {
                prop_assert_eq!(volume.read(path, 5000).ok(), held.clone());
            }
        }
    }
}
