//! What makes the first copy of a table whole again: taken from the backup at the disk's end, which holds the same entries (UEFI
//! 2.10, 5.3.2), and the protective MBR (5.2.3). Nothing is written here.

use alloc::string::ToString;
use alloc::vec;
use alloc::vec::Vec;

use zerocopy::{FromBytes, IntoBytes};

use super::encode::protective_record;
use super::structures::{HEADER_SIZE, Header};
use super::{Gpt, GptFault, last_lba};
use crate::block::{BlockDevice, ReadError, read_vec};
use crate::checksum::crc32;

/// The first entry array and the first header as the backup says them: runs of bytes with their offsets, the header last.
///
/// # Errors
/// Where the backup is not whole, or has no room at the disk's start.
pub fn first_copy(device: &dyn BlockDevice, sector_size: u32) -> Result<[(u64, Vec<u8>); 2], GptFault> {
    const ENTRIES_AT: u64 = 2;
    Gpt::read_backup(device, sector_size)?;
    let (sector, last) = (u64::from(sector_size), last_lba(device, sector_size));
    let sector_len = usize::try_from(sector_size).unwrap_or(usize::MAX);
    let bytes = read_vec(device, last.saturating_mul(sector), sector_len)?;
    let (mut header, _) = Header::read_from_prefix(&bytes).map_err(|_| GptFault::Absent)?;
    let entry_size = header.size_of_partition_entry.get();
    let length = u64::from(header.number_of_partition_entries.get()).saturating_mul(u64::from(entry_size));
    let first_usable = header.first_usable_lba.get();
    if ENTRIES_AT.saturating_mul(sector).saturating_add(length) > first_usable.saturating_mul(sector) {
        return Err(GptFault::Field {
            lba: last,
            offset: 40,
            field: "FirstUsableLBA",
            found: first_usable,
            expected: "one behind the first entry array".to_string(),
        });
    }
    let at = header.partition_entry_lba.get().saturating_mul(sector);
    let array = read_vec(device, at, usize::try_from(length).unwrap_or(usize::MAX))?;
    header.header_size = HEADER_SIZE.into();
    header.my_lba = 1.into();
    header.alternate_lba = last.into();
    header.partition_entry_lba = ENTRIES_AT.into();
    header.header_crc32 = 0.into();
    header.header_crc32 = crc32([header.as_bytes()]).into();
    let mut head = Vec::from(header.as_bytes());
    head.resize(sector_len, 0);
    Ok([(ENTRIES_AT.saturating_mul(sector), array), (sector, head)])
}

/// The first sector with one entry that protects the whole disk; what stands before the entries, boot code among it, stays.
///
/// # Errors
/// Where the disk cannot be read.
pub fn protective(device: &dyn BlockDevice, sector_size: u32) -> Result<(u64, Vec<u8>), ReadError> {
    const ENTRIES: usize = 446;
    let mut sector = vec![0; 512];
    device.read_at(0, &mut sector)?;
    let sectors = last_lba(device, sector_size).saturating_add(1);
    if let Some(end) = sector.get_mut(ENTRIES..) {
        end.copy_from_slice(&protective_record(sectors));
    }
    Ok((0, sector))
}

#[cfg(test)]
mod tests {
    use super::super::{Layout, NewPartition, encode, is_protected};
    use super::*;
    use crate::partition_type;
    use uguid::guid;

    fn disk() -> Vec<u8> {
        let partition = NewPartition {
            type_guid: partition_type::EFI_SYSTEM,
            guid: guid!("aaaaaaaa-0001-4000-8000-000000000001"),
            first_lba: 2048,
            last_lba: 4095,
            name: "ESP",
        };
        let guid = guid!("aaaaaaaa-0000-4000-8000-000000000000");
        let layout = Layout { disk_guid: guid, sectors: 8192, partitions: vec![partition] };
        let mut disk = vec![0; 8192 * 512];
        for (offset, bytes) in encode(&layout) {
            disk[offset as usize..][..bytes.len()].copy_from_slice(&bytes);
        }
        disk
    }

    fn put(disk: &mut [u8], runs: impl IntoIterator<Item = (u64, Vec<u8>)>) {
        for (offset, bytes) in runs {
            disk[offset as usize..][..bytes.len()].copy_from_slice(&bytes);
        }
    }

    #[test]
    fn what_was_wiped_at_the_start_comes_back_to_the_byte() {
        let whole = disk();
        let mut wiped = whole.clone();
        wiped[..34 * 512].fill(0);
        let runs = first_copy(&wiped, 512).unwrap();
        put(&mut wiped, runs);
        let mbr = protective(&wiped, 512).unwrap();
        put(&mut wiped, [mbr]);
        assert!(is_protected(&wiped));
        assert_eq!(wiped, whole);
        assert_eq!(Gpt::read(&wiped, 512), Gpt::read(&whole, 512));
    }

    #[test]
    fn boot_code_before_the_entries_stays() {
        let mut disk = disk();
        disk[..446].fill(0x90);
        disk[450] = 0x83;
        let (_, sector) = protective(&disk, 512).unwrap();
        assert!(sector[..446].iter().all(|byte| *byte == 0x90) && sector[450] == 0xee);
    }

    #[test]
    fn a_backup_that_is_not_whole_makes_nothing() {
        let mut disk = disk();
        let end = disk.len();
        disk[end - 500] ^= 1;
        assert!(first_copy(&disk, 512).is_err());
        assert!(first_copy(&vec![0; 512], 512).is_err());
    }
}
