use super::*;
use crate::gpt::{Layout, NewPartition, encode};
use crate::partition_type;
use alloc::vec;
use uguid::guid;

const DISK: Guid = guid!("5e1f0c9a-1d1b-4f5b-9f0e-70b1d7c3a001");

fn gpt_disk() -> Vec<u8> {
    let partition = |first_lba, last_lba| NewPartition {
        type_guid: partition_type::LINUX_DATA,
        guid: DISK,
        first_lba,
        last_lba,
        name: "Gezeiten",
    };
    let partitions = vec![partition(900, 1000), partition(64, 127)];
    let mut disk = vec![0; 2048 * 512];
    for (offset, bytes) in encode(&Layout { disk_guid: DISK, sectors: 2048, partitions }) {
        disk[offset as usize..offset as usize + bytes.len()].copy_from_slice(&bytes);
    }
    disk
}

#[test]
fn a_broken_first_copy_is_read_from_its_backup_and_said() {
    let whole = Table::read(&gpt_disk(), 512);
    assert_eq!((whole.kind, whole.faults.len(), whole.oddities.len()), (TableKind::Gpt, 0, 0));
    for at in [512, 512 + 60, 1024 + 20] {
        let mut disk = gpt_disk();
        disk[at] ^= 0xff;
        let table = Table::read(&disk, 512);
        assert_eq!(table.partitions, whole.partitions, "byte {at}");
        assert!(table.faults[0].contains("backup at the disk's end was read instead"), "{:?}", table.faults);
    }
    let mut disk = gpt_disk();
    disk[2047 * 512] = 0;
    let table = Table::read(&disk, 512);
    assert_eq!(table.partitions, whole.partitions);
    assert!(table.faults[0].contains("the backup GPT at the disk's end: no GPT header"));
    disk[512] = 0;
    let table = Table::read(&disk, 512);
    assert_eq!((table.kind, table.partitions.len()), (TableKind::None, 0));
    assert!(table.faults[0].contains("neither copy"));
}

#[test]
fn a_hybrid_mbr_is_told_from_a_protective_one() {
    let mut disk = gpt_disk();
    disk[446 + 16 + 4] = 0x0c;
    disk[446 + 16 + 8] = 64;
    disk[446 + 16 + 12] = 64;
    let table = Table::read(&disk, 512);
    assert_eq!(table.kind, TableKind::Gpt);
    assert!(table.oddities[0].contains("hybrid MBR: it shows partition 2"), "{:?}", table.oddities);
    // Real partitions without a protective entry: what the header says is a leftover.
    disk[446 + 4] = 0x83;
    let table = Table::read(&disk, 512);
    assert_eq!((table.kind, table.guid), (TableKind::Mbr, None));
    let uuid = table.partitions[1].uuid.as_deref();
    assert_eq!(uuid, None, "no signature, no identity");
    disk[440..444].copy_from_slice(&[0x0b, 0x90, 0x51, 0x7a]);
    let table = Table::read(&disk, 512);
    assert_eq!(table.partitions[1].uuid.as_deref(), Some("7a51900b-02"));
}

#[test]
fn a_bare_disk_has_no_table_and_no_fault() {
    for disk in [vec![], vec![0; 512], vec![0; 1 << 20]] {
        assert_eq!(Table::read(&disk, 512), Table::new(TableKind::None));
    }
}
