//! First sectors and boot sectors of a machine that starts by BIOS.

use signpost_disk::block::{SharedDevice, read_vec};
use signpost_disk::mbr::geometry;
use signpost_disk::partition_type;
use signpost_disk::purpose::Purpose;
use signpost_facts::sectors::{
    Backup, BootPartition, BootSectors, Copy, FirstSector, OurSectors, PartitionSector, sector,
};
use signpost_facts::{Disk, DiskNumber, FirmwareKind, MbrSignature, Partition, Survey};
use signpost_firmware::bios::area::{self, Area};
use signpost_firmware::bios::code::{self, FirstCode, has_parameters};
use signpost_firmware::bios::{CODE_LEN, SECTOR, entry_start, is_marked};
use signpost_machine::Machine;
use signpost_menu::slot::{SLOT_SIZE, Slot};
use signpost_menu::state::STATE_SIZE;
use signpost_place::boot_program::sha256;

use crate::catalogue::{Catalogue, SectorOf};

/// Sectors behind the first one that are looked at: up to the first MiB, where partitions begin today.
const GAP: u64 = 2047;

/// All of them; nothing on a machine that starts by UEFI.
pub(crate) fn read(machine: &Machine, survey: &Survey, catalogue: &Catalogue) -> BootSectors {
    let mut found = BootSectors::default();
    if machine.firmware != FirmwareKind::Bios {
        return found;
    }
    let mut placed: Vec<_> = machine.disks.iter().filter(|disk| disk.boot_place.is_some()).collect();
    placed.sort_by_key(|disk| disk.boot_place);
    let by_signature = |signature: &u32| {
        let own = Some(MbrSignature(*signature));
        let mut fitting = survey.disks.iter().filter(|disk| disk.table.signature == own);
        let disk = fitting.next()?.number;
        fitting.next().is_none().then_some(disk)
    };
    let told = placed.into_iter().map(|disk| disk.number);
    let said: Vec<DiskNumber> = told.chain(machine.edd.iter().filter_map(by_signature)).collect();
    found.is_order_known = !said.is_empty();
    let rest = survey.disks.iter().map(|disk| disk.number).filter(|number| !said.contains(number));
    found.order = said.iter().copied().chain(rest).collect();
    for disk in &survey.disks {
        let Some(Ok(device)) = machine.disk(disk.number).map(|disk| disk.contents.as_ref()) else { continue };
        let table = read_sector(device, 0).unwrap_or([0; SECTOR]);
        found.first.extend(first(device, disk, catalogue));
        let of = |partition| of_partition((device, disk), partition, &table, catalogue);
        found.partitions.extend(disk.partitions.iter().filter_map(of));
    }
    found
}

fn read_sector(device: &SharedDevice, offset: u64) -> Option<[u8; SECTOR]> {
    sector(&read_vec(&**device, offset, SECTOR).ok()?)
}

fn first(device: &SharedDevice, disk: &Disk, catalogue: &Catalogue) -> Option<FirstSector> {
    let bytes = read_sector(device, 0)?;
    let starts = disk.partitions.iter().map(|partition| partition.start / SECTOR as u64);
    let end = starts.filter(|start| *start > 0).min().unwrap_or(GAP + 1);
    let gap = end.saturating_sub(1).min(GAP);
    let held = read_vec(&**device, SECTOR as u64, usize::try_from(gap).ok()? * SECTOR).unwrap_or_default();
    let known = catalogue.sector(SectorOf::Disk, &bytes[..CODE_LEN]);
    let code = match code::of_first(&bytes) {
        FirstCode::Other if known.is_some_and(|(_, is_plain)| is_plain) => FirstCode::Plain,
        code => code,
    };
    let boot_partition = boot_partition(device, disk);
    let area = Area::of_first(&bytes);
    Some(FirstSector {
        disk: disk.number,
        code,
        known: known.map(|(title, _)| title.to_string()),
        sha256: sha256(&bytes[..CODE_LEN]),
        bytes: bytes.to_vec(),
        gap,
        gap_used: used(&held),
        ours: area.map(|area| ours(device, area)),
        left: if area.is_none() { left(device, gap, boot_partition) } else { None },
        boot_partition,
    })
}

/// The BIOS boot partition of a GPT, and how much of its start is in use.
fn boot_partition(device: &SharedDevice, disk: &Disk) -> Option<BootPartition> {
    const PURPOSE: Purpose = Purpose::Gpt(partition_type::BIOS_BOOT);
    let found = disk.partitions.iter().find(|partition| partition.purpose == PURPOSE)?;
    let sectors = found.size / SECTOR as u64;
    let looked_at = usize::try_from(sectors.min(GAP + 1)).ok()?.checked_mul(SECTOR)?;
    let held = read_vec(&**device, found.start, looked_at).unwrap_or_default();
    Some(BootPartition {
        partition: found.number,
        start: found.start / SECTOR as u64,
        sectors,
        used: used(&held),
    })
}

/// What of ours lies where a menu would be put, where a copy of the boot program begins there, whole or not: the power may have gone
/// while it was written.
fn left(device: &SharedDevice, gap: u64, boot_partition: Option<BootPartition>) -> Option<OurSectors> {
    let (start, sectors) = boot_partition.map_or((1, gap), |found| (found.start, found.sectors));
    let area = Area::in_sectors(u32::try_from(start).ok()?, u32::try_from(sectors).unwrap_or(u32::MAX), 1)?;
    let begins = |index: u32| {
        let sector = read_sector(device, u64::from(area.copy(index)) * SECTOR as u64);
        sector.is_some_and(|sector| area::is_part(&sector))
    };
    [0, 1].into_iter().any(begins).then(|| ours(device, area))
}

/// The copies of the boot program that count, on all disks.
pub fn copies(machine: &Machine, survey: &Survey) -> Vec<Vec<u8>> {
    let mut found = Vec::new();
    for first in &survey.boot_sectors.first {
        let device = machine.disk(first.disk).and_then(|disk| disk.contents.as_ref().ok());
        let (Some(device), Some(ours)) = (device, first.any_of_ours()) else { continue };
        let whole = (0..).zip(&ours.copies).filter(|(_, copy)| copy.is_whole());
        found.extend(whole.filter_map(|(index, _)| {
            let room = ours.area.room as usize * SECTOR;
            let bytes = read_vec(&**device, u64::from(ours.area.copy(index)) * SECTOR as u64, room).ok()?;
            area::copy_in(&bytes).ok().map(<[u8]>::to_vec)
        }));
    }
    found
}

/// How many sectors hold something.
fn used(bytes: &[u8]) -> u64 {
    bytes.chunks(SECTOR).filter(|sector| sector.iter().any(|byte| *byte != 0)).count() as u64
}

/// What lies in an area of ours.
fn ours(device: &SharedDevice, area: Area) -> OurSectors {
    let read = |sector: u32, bytes: usize| {
        read_vec(&**device, u64::from(sector) * SECTOR as u64, bytes).unwrap_or_default()
    };
    OurSectors {
        area,
        copies: [0, 1].map(|index| copy(&read(area.copy(index), area.room as usize * SECTOR))),
        slots: [0, 1].map(|index| slot(&read(area.slot(index), SLOT_SIZE))),
        state: [0, 1].map(|index| read(area.state(index), STATE_SIZE)),
    }
}

/// A copy of the boot program in these bytes.
pub(crate) fn copy(bytes: &[u8]) -> Copy {
    match area::copy_in(bytes) {
        Ok(copy) => Copy::Whole(sha256(copy)),
        Err(why) => Copy::Hurt(why.to_string()),
    }
}

/// A slot's text, up to the end of what is in it.
fn slot(bytes: &[u8]) -> String {
    /// Of one that cannot be read, no more than that is kept.
    const HEAD: usize = 256;
    let end = Slot::end(bytes).unwrap_or(HEAD).min(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).into_owned()
}

fn of_partition(
    (device, disk): (&SharedDevice, &Disk),
    partition: &Partition,
    table: &[u8; SECTOR],
    catalogue: &Catalogue,
) -> Option<PartitionSector> {
    let bytes = read_sector(device, partition.start)?;
    let before = u32::try_from(partition.start / SECTOR as u64).ok();
    let says = u32::from_le_bytes([bytes[28], bytes[29], bytes[30], bytes[31]]);
    let has_numbers = has_parameters(&bytes) && is_marked(&bytes);
    // An extended partition's first sector is a table, with room for code before it.
    let holds_table = partition.purpose.is_extended();
    let mut of_code = bytes;
    if holds_table {
        of_code[CODE_LEN..SECTOR - 2].fill(0);
    }
    let name = match &partition.slice {
        Some(slice) => format!("d{}p{slice}", disk.number),
        None => format!("d{}p{}", disk.number, partition.number),
    };
    let entry =
        (0..4).filter(|_| partition.slice.is_none()).find(|index| entry_start(table, *index) == before);
    let geometry =
        entry.filter(|_| has_numbers).and_then(|index| geometry::contradicted(&bytes, table, index));
    Some(PartitionSector {
        disk: disk.number,
        partition: partition.number,
        name,
        start: partition.start,
        entry,
        code: code::of_partition(&of_code),
        holds_table,
        known: catalogue.sector(SectorOf::Partition, &bytes).map(|(title, _)| title.to_string()),
        sha256: sha256(&bytes),
        backup: if holds_table { None } else { backup(device, partition, &bytes) },
        bytes: bytes.to_vec(),
        says_before: (has_numbers && Some(says) != before).then_some(says),
        says_geometry: geometry.map(|geometry| [geometry.heads, geometry.sectors]),
    })
}

/// The copy that FAT32 keeps where its parameters say (sector 6 where these are lost), and NTFS in its last sector.
fn backup(device: &SharedDevice, partition: &Partition, own: &[u8; SECTOR]) -> Option<Backup> {
    const OF_FAT32: u64 = 6;
    let said = u64::from(u16::from_le_bytes([own[50], own[51]]));
    let of_fat = if is_fat32(own) && said > 0 { said } else { OF_FAT32 };
    let last = (partition.size / SECTOR as u64).checked_sub(1)?;
    let copy = |at: u64, is_it: fn(&[u8; SECTOR]) -> bool| {
        let found = read_sector(device, partition.start.checked_add(at.checked_mul(SECTOR as u64)?)?)?;
        let is_sound = is_marked(&found) && has_parameters(&found) && is_it(&found);
        is_sound.then(|| Backup { sector: at, is_same: found == *own, bytes: found.to_vec() })
    };
    copy(of_fat, is_fat32).or_else(|| copy(last, is_ntfs))
}

fn is_fat32(sector: &[u8; SECTOR]) -> bool {
    &sector[82..87] == b"FAT32"
}

fn is_ntfs(sector: &[u8; SECTOR]) -> bool {
    &sector[3..7] == b"NTFS"
}
