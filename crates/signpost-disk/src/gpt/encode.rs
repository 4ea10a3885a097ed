//! Writing a table: for benches made from nothing.

use alloc::vec;
use alloc::vec::Vec;

use uguid::Guid;
use zerocopy::IntoBytes;

use super::structures::{Entry, HEADER_SIZE, Header, SIGNATURE};
use crate::checksum::crc32;

/// Sector size of the tables made here, in bytes.
const SECTOR: usize = 512;
const ENTRIES: usize = 128;
const ENTRY_SECTORS: u64 = 32;

/// A disk to be laid out.
#[derive(Clone, Debug)]
pub struct Layout {
    /// The disk's GUID.
    pub disk_guid: Guid,
    /// Its length in 512-byte sectors.
    pub sectors: u64,
    /// Its partitions, numbered from 1 in this order.
    pub partitions: Vec<NewPartition>,
}

/// A partition to be made.
#[derive(Clone, Debug)]
pub struct NewPartition {
    /// What it is for.
    pub type_guid: Guid,
    /// Its own GUID.
    pub guid: Guid,
    /// First sector.
    pub first_lba: u64,
    /// Last sector, itself included.
    pub last_lba: u64,
    /// Its name, at most 36 characters.
    pub name: &'static str,
}

/// The bytes of a table, each run with its offset in bytes: protective MBR with the primary table, and
/// the backup table at the disk's end.
pub fn encode(layout: &Layout) -> [(u64, Vec<u8>); 2] {
    let array = entry_array(&layout.partitions);
    let last = layout.sectors.saturating_sub(1);
    let backup_entries = last.saturating_sub(ENTRY_SECTORS);
    let header = |my_lba: u64, alternate_lba: u64, entries: u64| {
        let mut header = Header {
            signature: SIGNATURE,
            revision: 0x0001_0000.into(),
            header_size: HEADER_SIZE.into(),
            header_crc32: 0.into(),
            reserved: 0.into(),
            my_lba: my_lba.into(),
            alternate_lba: alternate_lba.into(),
            first_usable_lba: ENTRY_SECTORS.saturating_add(2).into(),
            last_usable_lba: backup_entries.saturating_sub(1).into(),
            disk_guid: layout.disk_guid.to_bytes(),
            partition_entry_lba: entries.into(),
            number_of_partition_entries: u32::try_from(ENTRIES).unwrap_or_default().into(),
            size_of_partition_entry: u32::try_from(size_of::<Entry>()).unwrap_or_default().into(),
            partition_entry_array_crc32: crc32([array.as_slice()]).into(),
        };
        header.header_crc32 = crc32([header.as_bytes()]).into();
        let mut sector = Vec::from(header.as_bytes());
        sector.resize(SECTOR, 0);
        sector
    };
    let mut primary = protective_mbr(layout.sectors);
    primary.extend(header(1, last, 2));
    primary.extend(&array);
    let mut backup = array.clone();
    backup.extend(header(last, 1, backup_entries));
    [(0, primary), (backup_entries.saturating_mul(512), backup)]
}

fn entry_array(partitions: &[NewPartition]) -> Vec<u8> {
    let mut array = Vec::new();
    for partition in partitions.iter().take(ENTRIES) {
        let mut partition_name = [0; 72];
        for (slot, unit) in
            partition_name.as_chunks_mut::<2>().0.iter_mut().zip(partition.name.encode_utf16())
        {
            *slot = unit.to_le_bytes();
        }
        let entry = Entry {
            partition_type_guid: partition.type_guid.to_bytes(),
            unique_partition_guid: partition.guid.to_bytes(),
            starting_lba: partition.first_lba.into(),
            ending_lba: partition.last_lba.into(),
            attributes: 0.into(),
            partition_name,
        };
        array.extend(entry.as_bytes());
    }
    array.resize(ENTRIES.saturating_mul(size_of::<Entry>()), 0);
    array
}

fn protective_mbr(sectors: u64) -> Vec<u8> {
    let mut mbr = vec![0; SECTOR];
    if let Some(end) = mbr.get_mut(446..) {
        end.copy_from_slice(&protective_record(sectors));
    }
    mbr
}

/// The end of an MBR with one partition of type 0xEE over the whole disk (UEFI 2.10, 5.2.3).
pub(super) fn protective_record(sectors: u64) -> Vec<u8> {
    let size = u32::try_from(sectors.saturating_sub(1)).unwrap_or(u32::MAX);
    let mut record = vec![0, 0, 2, 0, 0xee, 0xff, 0xff, 0xff, 1, 0, 0, 0];
    record.extend(size.to_le_bytes());
    record.resize(64, 0);
    record.extend([0x55, 0xaa]);
    record
}
