use super::*;
use alloc::vec;
use proptest::prelude::*;
use uguid::guid;

const DATA: Guid = guid!("0fc63daf-8483-4772-8e79-3d69d8477de4");
const DISK: Guid = guid!("5e1f0c9a-1d1b-4f5b-9f0e-70b1d7c3a001");

fn new_partition(first_lba: u64, last_lba: u64) -> NewPartition {
    NewPartition { type_guid: DATA, guid: DISK, first_lba, last_lba, name: "Gezeiten ≈ data" }
}

fn disk(partitions: Vec<NewPartition>) -> Vec<u8> {
    let mut disk = vec![0; 2048 * 512];
    for (offset, bytes) in encode(&Layout { disk_guid: DISK, sectors: 2048, partitions }) {
        disk[offset as usize..offset as usize + bytes.len()].copy_from_slice(&bytes);
    }
    disk
}

fn two() -> Vec<u8> {
    disk(vec![new_partition(64, 127), new_partition(128, 1000)])
}

/// Puts a value into the header and mends the header's CRC.
fn with_field(mut disk: Vec<u8>, offset: usize, value: u32) -> Vec<u8> {
    disk[512 + offset..512 + offset + 4].copy_from_slice(&value.to_le_bytes());
    disk[512 + 16..512 + 20].fill(0);
    let crc = crc32([&disk[512..512 + 92]]);
    disk[512 + 16..512 + 20].copy_from_slice(&crc.to_le_bytes());
    disk
}

#[test]
fn what_is_written_is_read() {
    let gpt = Gpt::read(&two(), 512).unwrap();
    assert_eq!((gpt.disk_guid, gpt.partitions.len(), gpt.oddities.len()), (DISK, 2, 0));
    let second = &gpt.partitions[1];
    assert_eq!((second.number, second.first_lba, second.sectors()), (2, 128, 873));
    assert_eq!(second.name, "Gezeiten ≈ data");
}

#[test]
fn longer_entries_are_read_at_their_own_step() {
    let mut disk = two();
    let old = disk[1024..1024 + 256].to_vec();
    let mut array = vec![0; 64 * 256];
    array[..128].copy_from_slice(&old[..128]);
    array[256..384].copy_from_slice(&old[128..]);
    disk[1024..1024 + array.len()].copy_from_slice(&array);
    for (offset, value) in [(80, 64), (84, 256), (88, crc32([array.as_slice()]))] {
        disk = with_field(disk, offset, value);
    }
    assert_eq!(Gpt::read(&disk, 512).unwrap().partitions, Gpt::read(&two(), 512).unwrap().partitions);
}

#[test]
fn a_disk_without_a_table_or_without_bytes_has_none() {
    for disk in [vec![], vec![0; 700], vec![0; 4096]] {
        assert_eq!(Gpt::read(&disk, 512), Err(GptFault::Absent));
    }
}

#[test]
fn a_wrong_crc_is_named_with_both_values() {
    let mut header = two();
    header[512 + 40] ^= 1;
    assert!(matches!(Gpt::read(&header, 512), Err(GptFault::Crc { what: "header", .. })));
    let mut entries = two();
    entries[1024 + 40] ^= 1;
    assert!(matches!(Gpt::read(&entries, 512), Err(GptFault::Crc { what: "partition entries", .. })));
}

#[test]
fn absurd_fields_are_named_and_nothing_is_read_by_them() {
    let cases = [
        (12, 40, "HeaderSize"),
        (12, 0xffff_ffff, "HeaderSize"),
        (24, 9, "MyLBA"),
        (72, 1, "PartitionEntryLBA"),
        (80, 0xffff_ffff, "NumberOfPartitionEntries"),
        (80, 0, "NumberOfPartitionEntries"),
        (84, 0x8000_0000, "SizeOfPartitionEntry"),
        (84, 129, "SizeOfPartitionEntry"),
    ];
    for (offset, value, name) in cases {
        match Gpt::read(&with_field(two(), offset, value), 512) {
            Err(GptFault::Field { lba: _, offset: at, field, .. }) => assert_eq!((at, field), (offset, name)),
            other => panic!("{name} = {value:#x}: {other:?}"),
        }
    }
}

#[test]
fn entries_past_the_end_are_named_with_both_ends() {
    let cut = Gpt::read(&two()[..2048].to_vec(), 512);
    assert_eq!(cut, Err(GptFault::EntriesPastEnd { end: 17408, size: 2048 }));
    let far = Gpt::read(&with_field(two(), 72, 0x7fff_ffff), 512);
    assert!(matches!(far, Err(GptFault::EntriesPastEnd { size: 1_048_576, .. })), "{far:?}");
}

#[test]
fn overlaps_and_bounds_are_oddities_of_a_table_that_is_still_read() {
    let gpt = Gpt::read(
        &disk(vec![new_partition(64, 500), new_partition(400, 450), new_partition(490, 4000)]),
        512,
    );
    let gpt = gpt.unwrap();
    assert_eq!(gpt.partitions.len(), 3);
    assert_eq!(
        gpt.oddities[1..],
        [
            Oddity::Overlap { first: 1, second: 2, sector: 400 },
            Oddity::Overlap { first: 1, second: 3, sector: 490 },
        ]
    );
    assert!(matches!(gpt.oddities[0], Oddity::Bounds { number: 3, last_lba: 4000, .. }));
}

proptest! {
    #[test]
    fn spoiled_tables_never_panic(spoiled in prop::collection::vec((512usize..2048, any::<u8>()), 1..20)) {
        let mut disk = two();
        for (at, value) in spoiled {
            disk[at] = value;
        }
        if let Ok(gpt) = Gpt::read(&disk, 512) {
            prop_assert!(gpt.partitions.len() <= 128);
        }
    }

    #[test]
    fn spoiled_headers_with_a_right_crc_never_panic(fields in prop::collection::vec((20usize..88, any::<u32>()), 1..4)) {
        let disk = fields.into_iter().fold(two(), |disk, (offset, value)| with_field(disk, offset, value));
        if let Ok(gpt) = Gpt::read(&disk, 512) {
            prop_assert!(gpt.partitions.len() <= 1024);
        }
    }

    #[test]
    fn random_bytes_never_panic(bytes in prop::collection::vec(any::<u8>(), 0..3000)) {
        prop_assert!(Gpt::read(&bytes, 512).is_err());
    }
}

#[test]
fn the_backup_of_a_disk_that_has_grown_is_whole_and_not_at_the_end() {
    let mut grown = two();
    let gpt = Gpt::read(&grown, 512).unwrap();
    assert_eq!(backup_before_the_end(&grown, 512, &gpt), None);
    grown.resize(4096 * 512, 0);
    assert!(check_backup_header(&grown, 512).is_err());
    assert_eq!(backup_before_the_end(&grown, 512, &gpt), Some(2047));
    grown[2047 * 512 + 60] ^= 1;
    assert_eq!(backup_before_the_end(&grown, 512, &gpt), None, "it must be whole");
}
