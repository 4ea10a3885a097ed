//! The boot sectors that a volume may be started by.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::purpose::Purpose;
use signpost_disk::table::TableEntry;
use signpost_disk::volumes::{Disk, Origin};
use signpost_firmware::bios::code::{self, SectorCode};
use signpost_firmware::device_path::DevicePath;

use super::Blocks;

/// A partition's boot sector.
#[derive(Clone, Debug)]
pub struct BootSector {
    /// The partition, as people type it.
    pub name: String,
    /// Its disk's index.
    pub disk: usize,
    /// Where it starts, in bytes of the disk.
    pub start: u64,
    /// Its type, where the table is an MBR's.
    pub kind: Option<u8>,
    /// What is in it.
    pub code: SectorCode,
}

/// The boot sectors that a volume may be started by: its own, then that of the partition around a slice.
pub(super) fn boot_sectors(
    blocks: &impl Blocks,
    (paths, disks): (&[DevicePath], &[Disk]),
    origin: &Origin,
    name: &str,
) -> Vec<BootSector> {
    let Origin::Partition(disk, index) = origin else { return Vec::new() };
    if !cfg!(feature = "sectors") {
        return Vec::new();
    }
    let (Some(path), Some(table)) = (paths.get(*disk), disks.get(*disk).map(|disk| &disk.table)) else {
        return Vec::new();
    };
    let own = table.partitions.get(*index);
    let around = own.and_then(|entry| {
        let letter = entry.slice.as_ref()?.chars().last()?;
        let around: u32 = entry.slice.as_ref()?.trim_end_matches(letter).parse().ok()?;
        let around = table.partitions.iter().find(|entry| entry.slice.is_none() && entry.number == around)?;
        Some((name.trim_end_matches(letter), around))
    });
    let sector = |(name, entry): (&str, &TableEntry)| {
        let bytes = blocks.boot_sector(path, entry.start)?;
        let kind = match entry.purpose {
            Purpose::Mbr(kind) => Some(kind.0),
            _ => None,
        };
        let code = code::of_partition(&bytes);
        Some(BootSector { name: name.to_string(), disk: *disk, start: entry.start, kind, code })
    };
    own.map(|own| (name, own)).into_iter().chain(around).filter_map(sector).collect()
}
