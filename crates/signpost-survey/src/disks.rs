//! Disks, their tables, and the volumes on them.

use std::collections::BTreeMap;

use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::VolumeError;
use signpost_disk::gpt::Unseen;
use signpost_disk::names;
use signpost_disk::probe::{Identity, VolumeKind};
use signpost_disk::purpose::Purpose;
use signpost_disk::table::{self, Table, TableEntry};
use signpost_disk::volumes::{self, Origin, Volumes};
use signpost_facts::{
    Code, Disk, DiskArray, DiskNumber, Finding, MbrSignature, Partition, Subject, TableFacts, TableKind,
    Volume, VolumeNumber,
};
use signpost_machine::live::described;
use signpost_machine::live::mounts::Mount;
use signpost_machine::{Machine, MachineDisk};

use super::guard::guarded;
use super::side_by_side::side_by_side;
use super::source::Source;
use super::volumes::{Beside, take_device, volume_facts};
use super::{closed, findings, said};

/// What the disks hold.
pub(crate) struct Read {
    pub(crate) disks: Vec<Disk>,
    pub(crate) volumes: Vec<Volume>,
    pub(crate) sources: Vec<Source>,
    pub(crate) findings: Vec<Finding>,
    /// Types of MBR partitions, by the disk's number and theirs.
    pub(crate) slice_types: BTreeMap<(DiskNumber, u32), u8>,
}

/// What a look at one disk gave, or why none could be taken; and the FATs among its parts.
type Looked = Result<(volumes::Disk, Vec<Fat>), String>;

/// Files and folders in the root of a FAT that stays open: a disk may say that it holds many such, each of the largest.
const MAX_KEPT_ROOT: usize = 256;

/// A FAT of a disk.
struct Fat {
    /// Its entry in the disk's table.
    entry: Option<usize>,
    /// Opened, where it takes little memory.
    volume: Option<FatVolume>,
}

pub(crate) fn read(machine: &Machine) -> Read {
    let mut findings = Vec::new();
    let mut disks = Vec::new();
    let mut looked = Vec::new();
    // Index of the machine's disk for each that could be looked at.
    let mut of_machine = Vec::new();
    // Of each disk of `looked`.
    let mut fats: Vec<Vec<Fat>> = Vec::new();
    for (index, (facts, more, found)) in look_at_all(machine).into_iter().enumerate() {
        disks.push(facts);
        findings.extend(more);
        if let Ok((found, opened)) = found {
            fats.push(opened);
            looked.push(found);
            of_machine.push(index);
        }
    }
    let found = guarded(|| Volumes::find(&looked));
    let mut found = found.unwrap_or_default();
    findings.extend(found.faults.iter().map(|fault| {
        let help = "those of the group cannot be looked into; check it with LVM2's own tools";
        Finding::new(Code::VolumeBroken, format!("logical volumes: {fault}"), help)
    }));
    closed::add(machine, &looked, &of_machine, &mut found.list);
    let slice_types = slice_types(&looked, &of_machine, &disks);
    let beside = Beside { found: &found.list, looked: &looked, of_machine: &of_machine, disks: &disks };
    let names = names::names(&found.list, &looked, |looked| beside.number_of(looked));
    let described =
        found.list.iter().zip(&names).enumerate().map(|(index, (volume, name))| {
            volume_facts((VolumeNumber::of_index(index), name), volume, &beside)
        });
    let mut volumes: Vec<Volume> = described.collect();
    let mut mounts: Vec<Vec<Mount>> = Vec::with_capacity(found.list.len());
    for (facts, volume) in volumes.iter_mut().zip(&found.list) {
        let number = facts.number;
        mounts.push(take_device(machine, &volume.origin, facts));
        if let Some(fault) = &facts.fault {
            let message = format!("{}: {fault}", facts.name);
            findings.push(match &volume.fault {
                Some(VolumeError::Unsupported(_)) => findings::beyond_us(message),
                _ => findings::broken(message),
            });
        }
        let flaws = [
            facts.flaw.as_deref().map(|flaw| (flaw, "it is read, and not written to")),
            facts.firmware_refuses.as_deref().map(|why| (why, "the firmware does not read it")),
        ];
        for (what, so) in flaws.into_iter().flatten() {
            findings.push(findings::flawed(format!("{}: {what}: {so}", facts.name)));
        }
        if let Origin::Partition(disk, entry) = volume.origin {
            disks[of_machine[disk]].partitions[entry].volume = Some(number);
        }
    }
    for (index, double) in found.doubles.iter().enumerate() {
        let read_on = double.map(|read| disks[of_machine[read]].number);
        if let Some(array) = &mut disks[of_machine[index]].array {
            array.read_on = read_on;
        }
    }
    let sources = found.list.into_iter().zip(mounts).map(|(volume, mounts)| {
        let fat = match volume.origin {
            Origin::Disk(disk) => take_fat(&mut fats[disk], None),
            Origin::Partition(disk, entry) => take_fat(&mut fats[disk], Some(entry)),
            Origin::Array { .. } | Origin::Logical { .. } => None,
        };
        source(volume, mounts, fat)
    });
    let sources = sources.collect();
    Read { disks, volumes, sources, findings, slice_types }
}

fn take_fat(fats: &mut Vec<Fat>, entry: Option<usize>) -> Option<FatVolume> {
    let index = fats.iter().position(|fat| fat.entry == entry)?;
    fats.swap_remove(index).volume
}

fn slice_types(
    looked: &[volumes::Disk],
    of_machine: &[usize],
    disks: &[Disk],
) -> BTreeMap<(DiskNumber, u32), u8> {
    let entries = looked.iter().zip(of_machine).flat_map(|(found, index)| {
        found.table.partitions.iter().map(move |entry| (disks[*index].number, entry))
    });
    let types = entries.filter_map(|(disk, entry)| match entry.purpose {
        Purpose::Mbr(kind) => Some(((disk, entry.number), kind.0)),
        Purpose::Gpt(_) | Purpose::Label(_) => None,
    });
    types.collect()
}

/// Looks at all disks, side by side: each one's facts, problems with it, and what it holds.
fn look_at_all(machine: &Machine) -> Vec<(Disk, Vec<Finding>, Looked)> {
    let disks: Vec<_> = machine.disks.iter().map(|disk| (disk, machine.is_medium(disk))).collect();
    side_by_side(&disks, |(disk, is_medium)| {
        let looked = look_at(disk);
        let mut findings = Vec::new();
        let facts = describe((disk, *is_medium), &looked, &mut findings);
        (facts, findings, looked)
    })
}

/// Looks at one disk. A reader that gives up costs its own disk alone.
fn look_at(disk: &MachineDisk) -> Looked {
    let device = match &disk.contents {
        Ok(device) => device,
        Err(why) => {
            let described = disk.node.as_ref().and_then(described::disk);
            return described.map(|found| (found, Vec::new())).ok_or_else(|| why.clone());
        }
    };
    let found = guarded(|| volumes::Disk::look(device, disk.sector_size))?;
    let fats = found.parts.iter().filter(|part| part.identity().kind.is_fat());
    let fats = fats.filter_map(|part| guarded(|| open_fat(part)).ok()?).collect();
    Ok((found, fats))
}

fn open_fat(part: &volumes::Part) -> Option<Fat> {
    let volume = FatVolume::open(part.device()?.clone()).ok()?;
    let volume = Some(volume).filter(|volume| volume.root_count() <= MAX_KEPT_ROOT);
    Some(Fat { entry: part.entry, volume })
}

/// A disk's facts, by itself and whether it is the medium that the system was started from.
fn describe((disk, is_medium): (&MachineDisk, bool), looked: &Looked, findings: &mut Vec<Finding>) -> Disk {
    let mut facts = unread(disk, is_medium);
    let mut note = |(code, message, help): Noted| {
        let message = format!("disk {} ({}): {message}", disk.number, disk.name);
        findings.push(Finding::new(code, message, help).about(Subject::Disk(disk.number)));
    };
    let found = match looked {
        Ok((found, _)) => found,
        Err(why) => {
            facts.table.fault = Some(why.clone());
            let help = "nothing on it is known; check that it is connected";
            note((Code::DiskUnreadable, why.clone(), help));
            return facts;
        }
    };
    facts.is_whole = disk.contents.is_ok() && found.table.faults.is_empty();
    facts.table = table_facts(&found.table);
    facts.partitions = found.table.partitions.iter().map(partition).collect();
    facts.array = found.array.as_ref().map(|array| DiskArray {
        uuid: array.array.clone(),
        words: said(&array.words()),
        is_firmwares: array.is_firmwares,
        read_on: None,
    });
    wrong_with_table(&found.table, &facts).into_iter().for_each(&mut note);
    if found.table.kind == table::TableKind::None && found.table.faults.is_empty() && found.parts.is_empty() {
        let nothing = if facts.size == 0 { "it is empty" } else { "no partition table and no file system" };
        facts.table.fault = Some(nothing.into());
        note((Code::TableBroken, nothing.into(), "nothing can be started from it"));
    }
    facts
}

/// What is wrong: its code, what it is, and what helps.
type Noted = (Code, String, &'static str);

/// A disk of which only the outside is known.
fn unread(disk: &MachineDisk, is_medium: bool) -> Disk {
    Disk {
        number: disk.number,
        name: said(&disk.name),
        bus: disk.bus.as_deref().map(said),
        is_removable: disk.is_removable,
        takes_part: !disk.is_removable && !is_medium,
        model: disk.model.as_deref().map(said),
        serial: disk.serial.as_deref().map(said),
        path: disk.path.clone(),
        is_medium,
        size: disk.size(),
        sector_size: disk.sector_size,
        is_whole: false,
        array: None,
        table: table_facts(&Table::new(table::TableKind::None)),
        partitions: Vec::new(),
    }
}

fn table_facts(table: &Table) -> TableFacts {
    TableFacts {
        kind: match table.kind {
            table::TableKind::Gpt => Some(TableKind::Gpt),
            table::TableKind::Mbr => Some(TableKind::Mbr),
            table::TableKind::Label => Some(TableKind::Label),
            table::TableKind::None => None,
        },
        guid: table.guid.map(|guid| guid.to_string()),
        signature: table.signature.map(MbrSignature),
        identity: table.identity(),
        fault: (!table.faults.is_empty()).then(|| table.faults.join("; ")),
        is_unprotected: table.is_unprotected,
        is_from_backup: table.is_from_backup,
    }
}

fn wrong_with_table(table: &Table, facts: &Disk) -> Vec<Noted> {
    let mut noted: Vec<Noted> = Vec::new();
    if table.is_unprotected {
        let what = "its GPT has no protective MBR, so UEFI firmware sees none of its partitions";
        let help = "a partition tool that writes the table again puts the protective MBR back";
        noted.push((Code::TableUnprotected, what.into(), help));
    }
    let help = match facts.partitions.is_empty() {
        true => "no partition of it is known; correct the table with a partitioning tool",
        false => "correct the table with a partitioning tool before anything is written to this disk",
    };
    noted.extend(table.faults.iter().map(|fault| (Code::TableBroken, fault.clone(), help)));
    let help = "correct the table before anything is written to these partitions";
    noted.extend(table.oddities.iter().map(|oddity| (Code::PartitionMisplaced, oddity.clone(), help)));
    // Where an array's metadata stands behind its table, the table's own end is not the disk's.
    if let Some(lba) = table.backup_before_the_end.filter(|_| facts.array.is_none()) {
        let what = format!("its backup GPT is at sector {lba} and not at the disk's end: the disk has grown");
        let help = "this is a hint: nothing is wrong with the partitions; a partitioning tool moves it to the end, which also \
            makes the new room usable";
        noted.push((Code::BackupMisplaced, what, help));
    }
    noted
}

fn partition(entry: &TableEntry) -> Partition {
    Partition {
        number: signpost_facts::PartitionNumber(entry.number),
        firmware_number: entry.firmware_number,
        purpose: entry.purpose,
        uuid: entry.uuid.clone(),
        guid: entry.guid,
        name: said(&entry.name),
        start: entry.start,
        size: entry.size,
        is_esp: entry.purpose.is_esp(),
        is_active: entry.is_active,
        is_container: entry.is_container,
        slice: entry.slice.clone(),
        chs: entry.chs.map(|(first, last)| {
            let words =
                |chs: signpost_disk::mbr::Chs| format!("{}/{}/{}", chs.cylinder, chs.head, chs.sector);
            format!("{} to {}", words(first), words(last))
        }),
        unseen: entry.unseen.map(|why| why.to_string()),
        is_misplaced: matches!(
            entry.unseen,
            Some(Unseen::Overlap(_) | Unseen::OutOfRange | Unseen::TableRefused)
        ),
        volume: None,
    }
}

fn source(volume: volumes::Volume, mounts: Vec<Mount>, fat: Option<FatVolume>) -> Source {
    let mut identity = volume.identity;
    if let Some(kind) = volume.beneath_raid {
        identity = Identity::of_kind(kind);
    }
    let is_broken = volume.fault.is_some() || identity.kind == VolumeKind::Unknown;
    let fat = fat.filter(|_| mounts.is_empty() && !is_broken);
    Source { device: volume.device, identity, is_broken, mounts, fat }
}
