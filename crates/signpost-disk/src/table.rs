//! A disk's partition table, of whichever kind: GPT, MBR, BSD label, or none at all.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use uguid::Guid;

use crate::block::BlockDevice;
use crate::disklabel::Disklabel;
use crate::gpt::{self, Gpt, GptFault, Unseen};
use crate::mbr::{Chs, Mbr, MbrType};
use crate::purpose::Purpose;

/// Bytes from the end of a partition's place by CHS to its place by sector that rounding explains.
const CHS_SLACK: u64 = 63 * 255;
/// Sectors that the largest cylinder reaches.
const CHS_REACH: u64 = 1023 * 255 * 63;

/// Kinds of table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TableKind {
    /// GUID partition table.
    Gpt,
    /// DOS partition table.
    Mbr,
    /// BSD label on the bare disk.
    Label,
    /// None.
    None,
}

/// A partition, of any table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableEntry {
    /// Its number, as Linux counts.
    pub number: u32,
    /// The number that firmware's device paths find it by.
    pub firmware_number: u32,
    /// What it is for.
    pub purpose: Purpose,
    /// Offset on the disk in bytes.
    pub start: u64,
    /// Length in bytes.
    pub size: u64,
    /// Its own identity, as Linux writes it: a GUID, or `signature-NN`.
    pub uuid: Option<String>,
    /// The same, where it is a GUID.
    pub guid: Option<Guid>,
    /// Its name in the table.
    pub name: String,
    /// Whether the boot sector starts it.
    pub is_active: bool,
    /// Whether it only holds other partitions.
    pub is_container: bool,
    /// Slice and letter of a partition in a BSD label: `2a`.
    pub slice: Option<String>,
    /// First and last sector by CHS, where the table has them.
    pub chs: Option<(Chs, Chs)>,
    /// Why UEFI firmware leaves it out.
    pub unseen: Option<Unseen>,
}

/// A disk's table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Table {
    /// Its kind.
    pub kind: TableKind,
    /// The disk's GUID.
    pub guid: Option<Guid>,
    /// The disk's MBR signature.
    pub signature: Option<u32>,
    /// Its partitions, by number.
    pub partitions: Vec<TableEntry>,
    /// The table itself is hurt: what is wrong, and what was read instead.
    pub faults: Vec<String>,
    /// Problems with the partitions.
    pub oddities: Vec<String>,
    /// The sector of a GPT's whole backup that does not stand at the disk's end, as on a disk that has grown.
    pub backup_before_the_end: Option<u64>,
    /// Whether it is a GPT without the protective MBR that says so: UEFI firmware then sees no partition of it (UEFI 2.10,
    /// 5.2.3).
    pub is_unprotected: bool,
    /// Whether it is a GPT whose first copy is broken, read from its whole backup.
    pub is_from_backup: bool,
}

impl Table {
    /// What tells the disk from others: its GUID, else its MBR signature in eight hexadecimal digits.
    pub fn identity(&self) -> Option<String> {
        let signature = || self.signature.filter(|signature| *signature != 0);
        let guid = self.guid.map(|guid| guid.to_string());
        guid.or_else(|| signature().map(|signature| format!("{signature:08x}")))
    }

    /// A table without partitions.
    pub fn new(kind: TableKind) -> Self {
        Self {
            kind,
            guid: None,
            signature: None,
            partitions: Vec::new(),
            faults: Vec::new(),
            oddities: Vec::new(),
            backup_before_the_end: None,
            is_unprotected: false,
            is_from_backup: false,
        }
    }

    /// Reads a disk's table. What cannot be read is a fault in it.
    pub fn read(device: &dyn BlockDevice, sector_size: u32) -> Self {
        let mbr = match Mbr::read(device, sector_size) {
            Ok(mbr) => mbr,
            Err(error) => {
                let mut table = Self::new(TableKind::None);
                table.faults.push(error.to_string());
                return table;
            }
        };
        let is_protective = mbr.as_ref().is_none_or(Mbr::is_protective);
        let gpt = is_protective.then(|| read_gpt(device, sector_size, mbr.is_some()));
        match (gpt, mbr) {
            (Some(Some(mut table)), mbr) => {
                if let Some(mbr) = mbr {
                    note_hybrid(&mut table, &mbr);
                }
                table.is_unprotected = !gpt::is_protected(device);
                table
            }
            (_, Some(mbr)) if !mbr.is_protective() => from_mbr(device, sector_size, &mbr),
            (_, Some(mbr)) => {
                let mut table = from_mbr(device, sector_size, &mbr);
                // Firmware and systems then take what else the MBR shows.
                table.partitions.retain(|entry| entry.purpose != Purpose::Mbr(MbrType::PROTECTIVE));
                if table.partitions.is_empty() {
                    table.kind = TableKind::None;
                }
                let fault =
                    Gpt::read(device, sector_size).map_or_else(|fault| fault.to_string(), |_| String::new());
                table
                    .faults
                    .push(format!("its MBR stands for a GPT, and neither copy of that can be read: {fault}"));
                table
            }
            (_, None) => from_bare(device, sector_size),
        }
    }
}

/// The GPT, from its backup where the first copy is broken; `None` where there is none.
fn read_gpt(device: &dyn BlockDevice, sector_size: u32, is_expected: bool) -> Option<Table> {
    let (mut faults, mut backup_at, mut is_from_backup) = (Vec::new(), None, false);
    let gpt = match Gpt::read(device, sector_size) {
        Ok(gpt) => {
            if let Err(fault) = gpt::check_backup_header(device, sector_size) {
                match gpt::backup_before_the_end(device, sector_size, &gpt) {
                    Some(lba) => backup_at = Some(lba),
                    None => faults.push(format!("the backup GPT at the disk's end: {fault}")),
                }
            }
            gpt
        }
        // Without a sign of a GPT, what stands at the disk's end is a leftover.
        Err(GptFault::Absent) if !is_expected => return None,
        Err(fault) => {
            let backup = Gpt::read_backup(device, sector_size).ok()?;
            faults.push(format!("the first GPT: {fault}; its backup at the disk's end was read instead"));
            is_from_backup = true;
            backup
        }
    };
    let sector = u64::from(sector_size);
    let mut table = Table::new(TableKind::Gpt);
    table.guid = Some(gpt.disk_guid);
    table.faults = faults;
    table.is_from_backup = is_from_backup;
    table.backup_before_the_end = backup_at;
    table.oddities = gpt.oddities.iter().map(ToString::to_string).collect();
    table.partitions = gpt
        .partitions
        .into_iter()
        .map(|entry| TableEntry {
            number: entry.number,
            firmware_number: entry.number,
            purpose: Purpose::Gpt(entry.type_guid),
            start: entry.first_lba.saturating_mul(sector),
            size: entry.sectors().saturating_mul(sector),
            uuid: Some(entry.guid.to_string()),
            guid: Some(entry.guid),
            is_active: false,
            is_container: false,
            slice: None,
            chs: None,
            unseen: entry.unseen,
            name: entry.name,
        })
        .collect();
    Some(table)
}

/// An MBR beside a GPT protects it, or shows some of its partitions to older systems too.
fn note_hybrid(table: &mut Table, mbr: &Mbr) {
    let shown: Vec<String> = mbr
        .partitions
        .iter()
        .filter(|entry| entry.kind != MbrType::PROTECTIVE)
        .map(|entry| entry.number.to_string())
        .collect();
    if !shown.is_empty() {
        table.oddities.push(format!(
            "a hybrid MBR: it shows partition {} to systems that know no GPT, and such a system may change it \
             alone",
            shown.join(", ")
        ));
    }
}

fn from_mbr(device: &dyn BlockDevice, sector_size: u32, mbr: &Mbr) -> Table {
    let sector = u64::from(sector_size);
    let sectors = device.size().checked_div(sector).unwrap_or(0);
    let mut table = Table::new(TableKind::Mbr);
    table.signature = Some(mbr.signature);
    table.faults.extend(mbr.broken_chain.clone());
    let mut slices = Vec::new();
    for entry in &mbr.partitions {
        let number = entry.number;
        let end = entry.first_lba.saturating_add(entry.sectors);
        if end > sectors {
            table.oddities.push(format!(
                "partition {number} lies at sectors {} to {}; the disk has {sectors}",
                entry.first_lba,
                end.saturating_sub(1)
            ));
        }
        if let Some(lba) = entry.chs.0.to_lba().filter(|_| entry.kind.is_by_chs() && end < CHS_REACH)
            && lba.abs_diff(entry.first_lba) > CHS_SLACK
        {
            table.oddities.push(format!(
                "partition {number} starts at sector {}, and by cylinder, head and sector, which its type goes by, \
                 at sector {lba}",
                entry.first_lba
            ));
        }
        table.partitions.push(TableEntry {
            number,
            firmware_number: entry.firmware_number,
            purpose: Purpose::Mbr(entry.kind),
            start: entry.first_lba.saturating_mul(sector),
            size: entry.sectors.saturating_mul(sector),
            uuid: (mbr.signature != 0).then(|| format!("{:08x}-{number:02x}", mbr.signature)),
            guid: None,
            name: String::new(),
            is_active: entry.is_active,
            is_container: entry.kind.is_extended(),
            slice: None,
            chs: Some(entry.chs),
            unseen: None,
        });
        if entry.kind.is_bsd() && number <= 4 {
            slices.push((number, entry.first_lba, entry.sectors));
        }
    }
    overlaps(&mut table);
    refuse_mbr(&mut table, device.size());
    for (number, first_lba, sectors) in slices {
        if let Some(label) = Disklabel::read(device, sector_size, first_lba, sectors) {
            add_label(&mut table, number, &label, sector);
        }
    }
    table
}

/// Linux counts the partitions of a label on, behind the logical ones.
fn add_label(table: &mut Table, slice: u32, label: &Disklabel, sector: u64) {
    if let Some(entry) = table.partitions.iter_mut().find(|entry| entry.number == slice) {
        entry.is_container = !label.partitions.is_empty();
        entry.name = label.name.clone().unwrap_or_default();
    }
    for found in &label.partitions {
        let highest = table.partitions.iter().map(|entry| entry.number).max().unwrap_or(0);
        let number = if table.kind == TableKind::Mbr { highest.max(4) } else { highest }.saturating_add(1);
        table.partitions.push(TableEntry {
            number,
            firmware_number: number,
            purpose: Purpose::Label(found.kind),
            start: found.first_lba.saturating_mul(sector),
            size: found.sectors.saturating_mul(sector),
            uuid: None,
            guid: None,
            name: label.name.clone().unwrap_or_default(),
            is_active: false,
            is_container: false,
            slice: Some(if slice == 0 {
                found.letter.to_string()
            } else {
                format!("{slice}{}", found.letter)
            }),
            unseen: Some(Unseen::ForeignTable),
            chs: None,
        });
    }
}

fn from_bare(device: &dyn BlockDevice, sector_size: u32) -> Table {
    let sector = u64::from(sector_size);
    let sectors = device.size().checked_div(sector).unwrap_or(0);
    match Disklabel::read(device, sector_size, 0, sectors) {
        Some(label) if !label.partitions.is_empty() => {
            let mut table = Table::new(TableKind::Label);
            add_label(&mut table, 0, &label, sector);
            table
        }
        _ => Table::new(TableKind::None),
    }
}

/// Firmware takes no partition of an MBR in which one of the four overlaps another, or reaches beyond the disk.
fn refuse_mbr(table: &mut Table, size: u64) {
    let mut primary: Vec<(u64, u64)> = table
        .partitions
        .iter()
        .filter(|entry| entry.number <= 4 && entry.size > 0)
        .map(|entry| (entry.start, entry.start.saturating_add(entry.size)))
        .collect();
    primary.sort_unstable();
    let overlap = primary.windows(2).any(|pair| matches!(pair, [first, second] if first.1 > second.0));
    if overlap || primary.iter().any(|(_, end)| *end > size) {
        table.partitions.iter_mut().for_each(|entry| entry.unseen = Some(Unseen::TableRefused));
    }
}

/// Partitions that share bytes; logical ones lie inside of their extended one by right.
fn overlaps(table: &mut Table) {
    let mut starts: Vec<(u64, u64)> =
        (0..).zip(&table.partitions).map(|(at, entry)| (entry.start, at)).collect();
    starts.sort_unstable();
    let plain = starts.iter().filter_map(|(_, at)| table.partitions.get(usize::try_from(*at).ok()?));
    let plain: Vec<&TableEntry> = plain.filter(|entry| !entry.is_container).collect();
    let shared = plain.windows(2).filter_map(|pair| {
        let [first, second] = pair else { return None };
        (first.start.saturating_add(first.size) > second.start).then(|| {
            let place = second.start;
            format!("partitions {} and {} overlap: both have byte {place}", first.number, second.number)
        })
    });
    let shared: Vec<String> = shared.collect();
    table.oddities.extend(shared);
}

#[cfg(test)]
mod tests;
