//! Disks, their tables, and the volumes on them.

use std::sync::Arc;

use signpost_disk::block::{SharedDevice, Window};
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::FileSystem;
use signpost_disk::gpt::{Gpt, GptFault};
use signpost_disk::numbering::{DiskIdentity, Numbered, order};
use signpost_disk::partition_type;
use signpost_disk::probe::{Identity, identify};

use super::facts::{Disk, Finding, Partition, TableFacts, Volume};
use super::reader::guarded;
use crate::code::Code;
use crate::machine::{Machine, MachineDisk};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot};

/// A volume's bytes and what they are.
pub(super) struct Source {
    pub(super) device: SharedDevice,
    pub(super) identity: Identity,
    pub(super) is_broken: bool,
}

/// What the disks hold.
pub(super) struct Read {
    pub(super) disks: Vec<Disk>,
    pub(super) volumes: Vec<Volume>,
    pub(super) sources: Vec<Source>,
    pub(super) findings: Vec<Finding>,
    /// The index of the home volume.
    pub(super) home: Option<usize>,
}

pub(super) fn read(machine: &Machine) -> Read {
    let mut findings = Vec::new();
    let mut disks: Vec<Disk> =
        (1..).zip(&machine.disks).map(|(number, disk)| read_disk(number, disk, &mut findings)).collect();
    let mut found = Vec::new();
    let mut numbered = Vec::new();
    for (index, disk) in disks.iter().enumerate() {
        let Some(Ok(device)) = machine.disks.get(index).map(|disk| &disk.contents) else { continue };
        let identity = disk.table.guid.clone().map_or(DiskIdentity::Place(index), DiskIdentity::Guid);
        for (place, partition) in disk.partitions.iter().enumerate() {
            let window = Window::new(device.clone(), partition.start, partition.size);
            found.push((index, place, Arc::new(window) as SharedDevice));
            numbered.push(Numbered { disk: index, identity: identity.clone(), start: partition.start });
        }
    }
    let mut volumes = Vec::new();
    let mut sources = Vec::new();
    // The home volume orders the others, as at boot; so it is looked for first.
    let home = found.iter().position(|(_, _, device)| is_home(device));
    let home_disk = home.and_then(|index| found.get(index)).map(|(disk, _, _)| *disk);
    let mut home_number = None;
    for (number, index) in (1..).zip(order(&numbered, home_disk)) {
        if home == Some(index) {
            home_number = Some(number - 1);
        }
        let Some((disk, place, device)) = found.get(index) else { continue };
        let (volume, source) = read_volume(number, &disks[*disk], &disks[*disk].partitions[*place], device);
        if let Some(fault) = &volume.fault {
            findings.push(Finding {
                code: Code::VolumeBroken,
                message: format!("{} ({}): {fault}", volume.where_it_is(), disks[*disk].name),
                help: "its files cannot be looked into; check the file system with its own tool".into(),
            });
        }
        volumes.push(volume);
        sources.push(source);
        disks[*disk].partitions[*place].volume = Some(number);
    }
    Read { disks, volumes, sources, findings, home: home_number }
}

/// Whether a volume holds a slot of ours.
fn is_home(device: &SharedDevice) -> bool {
    guarded(|| {
        let Ok(volume) = FatVolume::open(device.clone()) else { return false };
        SLOT_NAMES.iter().any(|name| {
            let head = volume.read_head(&format!("{HOME_FOLDER}/{name}"), SLOT_SIZE);
            head.is_ok_and(|head| Slot::decode(&head).is_ok())
        })
    })
    .unwrap_or(false)
}

fn read_disk(number: usize, disk: &MachineDisk, findings: &mut Vec<Finding>) -> Disk {
    let mut facts = Disk {
        number,
        name: disk.name.clone(),
        bus: disk.bus.clone(),
        model: disk.model.clone(),
        serial: disk.serial.clone(),
        size: 0,
        table: TableFacts { kind: None, guid: None, fault: None },
        partitions: Vec::new(),
    };
    let mut note = |code, message: String, help: &str| {
        findings.push(Finding {
            code,
            message: format!("disk {number} ({}): {message}", disk.name),
            help: help.into(),
        });
    };
    let device = match &disk.contents {
        Ok(device) => device,
        Err(why) => {
            facts.table.fault = Some(why.clone());
            note(Code::DiskUnreadable, why.clone(), "nothing on it is known; see that the image is there");
            return facts;
        }
    };
    facts.size = device.size();
    match Gpt::read(device.as_ref(), disk.sector_size) {
        Ok(gpt) => {
            for oddity in &gpt.oddities {
                note(
                    Code::PartitionOdd,
                    oddity.to_string(),
                    "mend the table before anything is written to these partitions",
                );
            }
            facts.table.kind = Some("gpt");
            facts.table.guid = Some(gpt.disk_guid.to_string());
            facts.partitions =
                gpt.partitions.iter().map(|found| partition(found, disk.sector_size)).collect();
        }
        Err(fault) => {
            let message = match &fault {
                GptFault::Absent if device.size() == 0 => "the image is empty".to_string(),
                GptFault::Absent => "no GUID partition table; other tables are not read yet".to_string(),
                fault => fault.to_string(),
            };
            note(
                Code::TableBroken,
                message.clone(),
                "no partition of it is known; mend the table with a partitioning tool",
            );
            facts.table.fault = Some(message);
        }
    }
    facts
}

fn partition(found: &signpost_disk::gpt::Partition, sector_size: u32) -> Partition {
    let sector = u64::from(sector_size);
    let purpose =
        partition_type::name(found.type_guid).map_or_else(|| found.type_guid.to_string(), str::to_string);
    Partition {
        number: found.number,
        purpose,
        guid: found.guid.to_string(),
        name: found.name.clone(),
        start: found.first_lba.saturating_mul(sector),
        size: found.sectors().saturating_mul(sector),
        is_esp: found.type_guid == partition_type::EFI_SYSTEM,
        volume: None,
    }
}

fn read_volume(number: usize, disk: &Disk, partition: &Partition, device: &SharedDevice) -> (Volume, Source) {
    let identified = guarded(|| identify(device.as_ref()));
    let (identity, mut fault) = identified.unwrap_or_else(|why| {
        let unknown = Identity::of_kind(signpost_disk::probe::VolumeKind::Unknown);
        (unknown, Some(signpost_disk::file_system::VolumeError::Corrupt(why)))
    });
    let cut = device.size() < partition.size;
    if cut && fault.is_none() {
        let why = format!("the disk ends {} bytes before the partition does", partition.size - device.size());
        fault = Some(signpost_disk::file_system::VolumeError::Corrupt(why));
    }
    let volume = Volume {
        number,
        disk: disk.number,
        partition: partition.number,
        kind: identity.kind.to_string(),
        is_fat: identity.kind.is_fat() && fault.is_none(),
        is_esp: partition.is_esp,
        label: identity.label.clone(),
        uuid: identity.uuid.clone(),
        size: partition.size,
        fault: fault.as_ref().map(ToString::to_string),
        part_uuid: partition.guid.clone(),
        part_label: Some(partition.name.clone()).filter(|name| !name.is_empty()),
        disk_serial: disk.serial.clone(),
        disk_guid: disk.table.guid.clone(),
    };
    (volume, Source { device: device.clone(), identity, is_broken: fault.is_some() })
}
