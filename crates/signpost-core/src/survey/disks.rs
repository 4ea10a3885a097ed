//! Disks, their tables, and the volumes on them.

use std::collections::BTreeMap;

use signpost_disk::block::SharedDevice;
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::FileSystem;
use signpost_disk::probe::{Identity, VolumeKind};
use signpost_disk::table::{Purpose, TableEntry, TableKind};
use signpost_disk::volumes::{self, Origin, Volumes};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot};

use signpost_menu::linux_files::mapper_name;

use super::facts::{Disk, Finding, Partition, TableFacts, Volume};
use super::reader::guarded;
use super::side_by_side::side_by_side;
use crate::code::Code;
use crate::machine::live::described;
use crate::machine::live::mounts::Mount;
use crate::machine::{Machine, MachineDisk};

/// A volume's bytes and what they are.
pub(super) struct Source {
    pub(super) device: Option<SharedDevice>,
    pub(super) identity: Identity,
    pub(super) is_broken: bool,
    /// Where it is mounted in the running system.
    pub(super) mounts: Vec<Mount>,
}

/// What the disks hold.
pub(super) struct Read {
    pub(super) disks: Vec<Disk>,
    pub(super) volumes: Vec<Volume>,
    pub(super) sources: Vec<Source>,
    pub(super) findings: Vec<Finding>,
    /// The index of the home volume.
    pub(super) home: Option<usize>,
    /// Types of MBR partitions, by the disk's number and theirs.
    pub(super) slice_types: BTreeMap<(usize, u32), u8>,
}

/// What a look at one disk gave, or why none could be taken; and which of its parts hold a slot of ours.
type Looked = Result<(volumes::Disk, Vec<Option<usize>>), String>;

pub(super) fn read(machine: &Machine) -> Read {
    let mut findings = Vec::new();
    let mut disks = Vec::new();
    let mut looked = Vec::new();
    // Index of the machine's disk for each that could be looked at.
    let mut of_machine = Vec::new();
    // Disks of `looked` and their partitions that hold a slot of ours.
    let mut homes = Vec::new();
    for (index, (facts, more, found)) in look_at_all(machine).into_iter().enumerate() {
        disks.push(facts);
        findings.extend(more);
        if let Ok((found, with_slots)) = found {
            homes.extend(with_slots.into_iter().map(|entry| (looked.len(), entry)));
            looked.push(found);
            of_machine.push(index);
        }
    }
    let is_home = |disk, entry, _: &SharedDevice, _: &Identity| homes.contains(&(disk, entry));
    let found = guarded(|| Volumes::find(&looked, &is_home));
    let found = found.unwrap_or(Volumes { list: Vec::new(), home: None, faults: Vec::new() });
    findings.extend(found.faults.iter().map(|fault| Finding {
        code: Code::VolumeBroken,
        message: format!("logical volumes: {fault}"),
        help: "those of the group cannot be looked into; check it with LVM2's own tools".into(),
    }));
    let mut slice_types = BTreeMap::new();
    for (found, index) in looked.iter().zip(&of_machine) {
        for entry in &found.table.partitions {
            if let Purpose::Mbr(kind) = entry.purpose {
                slice_types.insert((index + 1, entry.number), kind.0);
            }
        }
    }
    let mut volumes: Vec<Volume> = Vec::with_capacity(found.list.len());
    let mut mounts: Vec<Vec<Mount>> = Vec::with_capacity(found.list.len());
    for (number, volume) in (1..).zip(&found.list) {
        let mut facts = volume_facts(number, volume, &looked, &of_machine, &disks, &volumes);
        mounts.push(take_device(machine, &volume.origin, &mut facts));
        if let Some(fault) = &facts.fault {
            findings.push(Finding {
                code: Code::VolumeBroken,
                message: format!("v{number}, {}: {fault}", facts.place),
                help: "its files cannot be looked into; check the file system with its own tool".into(),
            });
        }
        if let Origin::Partition(disk, entry) = volume.origin {
            disks[of_machine[disk]].partitions[entry].volume = Some(number);
        }
        volumes.push(facts);
    }
    let sources = found.list.into_iter().zip(mounts).map(|(volume, mounts)| source(volume, mounts)).collect();
    Read { disks, volumes, sources, findings, home: found.home, slice_types }
}

/// Looks at all disks, side by side: each one's facts, what is odd about it, and what it holds.
fn look_at_all(machine: &Machine) -> Vec<(Disk, Vec<Finding>, Looked)> {
    let disks = machine.disks.iter().map(|disk| (disk, machine.is_medium(disk)));
    let numbered: Vec<(usize, (&MachineDisk, bool))> = (1..).zip(disks).collect();
    side_by_side(&numbered, |(number, (disk, is_medium))| {
        let looked = look_at(disk);
        let mut findings = Vec::new();
        let facts = describe((*number, disk, *is_medium), &looked, &mut findings);
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
    let with_slots = found.parts.iter().filter(|part| holds_slot(part.device(), part.identity()));
    let with_slots = with_slots.map(|part| part.entry).collect();
    Ok((found, with_slots))
}

/// Whether a volume holds a slot of ours.
fn holds_slot(device: &SharedDevice, identity: &Identity) -> bool {
    if !identity.kind.is_fat() {
        return false;
    }
    guarded(|| {
        let Ok(volume) = FatVolume::open(device.clone()) else { return false };
        SLOT_NAMES.iter().any(|name| {
            let head = volume.read_head(&format!("{HOME_FOLDER}/{name}"), SLOT_SIZE);
            head.is_ok_and(|head| Slot::decode(&head).is_ok())
        })
    })
    .unwrap_or(false)
}

/// A disk's facts, by its number, itself, and whether it is the medium that the system was started from.
fn describe(
    (number, disk, is_medium): (usize, &MachineDisk, bool),
    looked: &Looked,
    findings: &mut Vec<Finding>,
) -> Disk {
    let mut facts = Disk {
        number,
        name: disk.name.clone(),
        bus: disk.bus.clone(),
        model: disk.model.clone(),
        serial: disk.serial.clone(),
        is_medium,
        size: disk.size(),
        sector_size: disk.sector_size,
        table: TableFacts { kind: None, guid: None, signature: None, fault: None },
        partitions: Vec::new(),
    };
    let mut note = |code, message: &str, help: &str| {
        findings.push(Finding {
            code,
            message: format!("disk {number} ({}): {message}", disk.name),
            help: help.into(),
        });
    };
    let found = match looked {
        Ok((found, _)) => found,
        Err(why) => {
            facts.table.fault = Some(why.clone());
            note(Code::DiskUnreadable, why, "nothing on it is known; see that it is there");
            return facts;
        }
    };
    let table = &found.table;
    facts.table.kind = match table.kind {
        TableKind::Gpt => Some("gpt"),
        TableKind::Mbr => Some("mbr"),
        TableKind::Label => Some("label"),
        TableKind::None => None,
    };
    facts.table.guid = table.guid.map(|guid| guid.to_string());
    facts.table.signature = table.signature.map(|signature| format!("{signature:08x}"));
    facts.table.fault = (!table.faults.is_empty()).then(|| table.faults.join("; "));
    facts.partitions = table.partitions.iter().map(partition).collect();
    for fault in &table.faults {
        let help = if facts.partitions.is_empty() {
            "no partition of it is known; mend the table with a partitioning tool"
        } else {
            "mend the table with a partitioning tool before anything is written to this disk"
        };
        note(Code::TableBroken, fault, help);
    }
    for oddity in &table.oddities {
        note(Code::PartitionOdd, oddity, "mend the table before anything is written to these partitions");
    }
    if table.kind == TableKind::None && table.faults.is_empty() && found.parts.is_empty() {
        let nothing = if facts.size == 0 { "it is empty" } else { "no partition table and no file system" };
        facts.table.fault = Some(nothing.into());
        note(Code::TableBroken, nothing, "nothing can be started from it");
    }
    facts
}

fn partition(entry: &TableEntry) -> Partition {
    Partition {
        number: entry.number,
        purpose: entry.purpose.name(),
        uuid: entry.uuid.clone(),
        guid: entry.guid,
        name: entry.name.clone(),
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
        volume: None,
    }
}

/// Partitions that only confuse who looks for systems, by what their table calls them.
fn aside(purpose: &str, name: &str, label: Option<&str>) -> Option<&'static str> {
    let lower = [purpose, name, label.unwrap_or_default()].map(str::to_lowercase);
    let any = |words: &[&str]| lower.iter().any(|text| words.iter().any(|word| text.contains(word)));
    if any(&["recovery", "winre"]) {
        Some("recovery")
    } else if any(&["reserved"]) {
        Some("reserved")
    } else if any(&["diagnos"]) {
        Some("vendor")
    } else {
        match purpose {
            "vendor" => Some("vendor"),
            "LDM metadata" => Some("metadata"),
            "BIOS boot" => Some("boot code"),
            _ => None,
        }
    }
}

fn volume_facts(
    number: usize,
    volume: &volumes::Volume,
    looked: &[volumes::Disk],
    of_machine: &[usize],
    disks: &[Disk],
    before: &[Volume],
) -> Volume {
    let (index, entry) = match &volume.origin {
        Origin::Disk(disk) => (Some(*disk), None),
        Origin::Partition(disk, entry) => (Some(*disk), looked[*disk].table.partitions.get(*entry)),
        Origin::Mirror { .. } | Origin::Logical { .. } => (None, None),
    };
    let (members, lv) = match &volume.origin {
        Origin::Mirror { members, .. } => (members.clone(), None),
        Origin::Logical { group, name, members } => (members.clone(), Some((group.clone(), name.clone()))),
        _ => (Vec::new(), None),
    };
    let on = index.map(|index| of_machine[index]);
    let disk = on.map(|index| index + 1).or_else(|| Some(before.get(*members.first()?)?.disk));
    let disk_facts = on.and_then(|index| disks.get(index));
    let size = entry.map(|entry| entry.size).or(volume.device.as_ref().map(|device| device.size()));
    let size = size.unwrap_or(0);
    let cut = volume.device.as_ref().map_or(0, |device| size.saturating_sub(device.size()));
    let fault = volume.fault.as_ref().map(ToString::to_string);
    let fault =
        fault.or_else(|| (cut > 0).then(|| format!("the disk ends {cut} bytes before the partition does")));
    let identity = &volume.identity;
    let purpose = entry.map(|entry| entry.purpose.name()).unwrap_or_default();
    let name = entry.map(|entry| entry.name.clone()).unwrap_or_default();
    // Disks that could not be looked at are counted too.
    let place = volume.origin.words(looked, |disk| of_machine.get(disk).map_or(0, |index| index + 1));
    Volume {
        number,
        device: None,
        mounted: Vec::new(),
        is_running_root: false,
        disk: disk.unwrap_or(0),
        partition: entry.map(|entry| entry.number),
        place,
        lv,
        members: members.iter().map(|index| index + 1).collect(),
        kind: identity.kind.to_string(),
        is_fat: identity.kind.is_fat() && fault.is_none(),
        firmware_reads: (identity.kind.is_fat() || volume.beneath_raid.is_some()) && fault.is_none(),
        is_esp: entry.is_some_and(|entry| entry.purpose.is_esp()),
        is_extended_boot: entry.is_some_and(|entry| entry.purpose.is_extended_boot()),
        label: identity.label.clone(),
        uuid: identity.uuid.clone(),
        size,
        fault,
        is_member: identity.kind.is_member(),
        is_encrypted: identity.kind.is_encrypted(),
        is_unclean: identity.is_unclean,
        is_hibernated: identity.is_hibernated,
        aside: aside(&purpose, &name, identity.label.as_deref()),
        inside: identity.inside.clone(),
        part_uuid: entry.and_then(|entry| entry.uuid.clone()),
        // A BSD label has one name for all of its partitions.
        part_label: Some(name)
            .filter(|name| !name.is_empty() && entry.is_some_and(|entry| entry.slice.is_none())),
        disk_serial: disk_facts.and_then(|disk| disk.serial.clone()),
        disk_guid: disk_facts.and_then(|disk| disk.table.guid.clone()),
        mbr_type: entry.and_then(|entry| match entry.purpose {
            Purpose::Mbr(kind) => Some(kind.0),
            Purpose::Gpt(_) | Purpose::Label(_) => None,
        }),
    }
}

/// Notes a volume's device in the running system, and where it is mounted.
fn take_device(machine: &Machine, origin: &Origin, facts: &mut Volume) -> Vec<Mount> {
    let Some(devices) = &machine.devices else { return Vec::new() };
    let disk = || machine.disks.get(facts.disk.checked_sub(1)?);
    let numbers = match origin {
        Origin::Logical { group, name, .. } => devices.mapped(&mapper_name(group, name)),
        Origin::Mirror { uuid, .. } => devices.array(uuid),
        Origin::Disk(_) | Origin::Partition(..) => disk().and_then(|disk| disk.device(facts.partition)),
    };
    let Some(numbers) = numbers else { return Vec::new() };
    facts.device = devices.file_of(numbers).map(|file| file.display().to_string());
    let mounts = devices.mounts_of(numbers);
    facts.mounted = mounts.iter().map(|mount| mount.point.display().to_string()).collect();
    // While it is mounted, it is in use, and nothing is wrong with that.
    facts.is_unclean &= mounts.is_empty();
    facts.is_running_root = machine.running.device == Some(numbers);
    mounts
}

fn source(volume: volumes::Volume, mounts: Vec<Mount>) -> Source {
    let mut identity = volume.identity;
    if let Some(kind) = volume.beneath_raid {
        identity = Identity::of_kind(kind);
    }
    let is_broken = volume.fault.is_some() || identity.kind == VolumeKind::Unknown;
    Source { device: volume.device, identity, is_broken, mounts }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_only_confuses_is_told_by_name_or_type() {
        assert_eq!(aside("NTFS or exFAT", "", Some("WinRE_DRV")), Some("recovery"));
        assert_eq!(aside("vendor reserved", "reserved", None), Some("reserved"));
        assert_eq!(aside("Linux data", "larkspur", Some("larkspur")), None);
    }
}
