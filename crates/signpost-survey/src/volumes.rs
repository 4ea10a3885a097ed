//! What the survey says of each volume.

use std::borrow::Cow;

use signpost_disk::mbr::MbrType;
use signpost_disk::partition_type;
use signpost_disk::purpose::Purpose;
use signpost_disk::volumes::{self, Origin};
use signpost_facts::{Aside, Disk, DiskNumber, KernelUse, Volume, VolumeNumber};
use signpost_machine::Machine;
use signpost_machine::live::mounts::Mount;
use signpost_menu::linux_files::mapper_name;

use super::said;

/// What volumes are described beside.
pub(crate) struct Beside<'a> {
    pub(crate) found: &'a [volumes::Volume],
    pub(crate) looked: &'a [volumes::Disk],
    /// The index of the machine's disk for each of `looked`.
    pub(crate) of_machine: &'a [usize],
    pub(crate) disks: &'a [Disk],
}

impl Beside<'_> {
    /// The number of a disk that was looked at; those that could not be are counted too.
    pub(crate) fn number_of(&self, looked: usize) -> DiskNumber {
        let disk = self.of_machine.get(looked).and_then(|index| self.disks.get(*index));
        disk.map_or(DiskNumber(0), |disk| disk.number)
    }
}

/// The facts of a volume, by its number and name and what it is.
pub(crate) fn volume_facts(
    (number, name): (VolumeNumber, &str),
    volume: &volumes::Volume,
    beside: &Beside<'_>,
) -> Volume {
    let Beside { looked, of_machine, disks, .. } = *beside;
    let (index, entry) = match &volume.origin {
        Origin::Disk(disk) => (Some(*disk), None),
        Origin::Partition(disk, entry) => (Some(*disk), looked[*disk].table.partitions.get(*entry)),
        Origin::Array { .. } | Origin::Logical { .. } => (None, None),
    };
    let (members, lv) = match &volume.origin {
        Origin::Array { members, .. } => (members.as_slice(), None),
        Origin::Logical { group, name, members } => (members.as_slice(), Some((said(group), said(name)))),
        _ => (&[][..], None),
    };
    let on = index.map(|index| of_machine[index]);
    let disk = first_disk(volume, beside.found).map(|looked| beside.number_of(looked));
    let disk_facts = on.and_then(|index| disks.get(index));
    let (size, fault) = size_and_fault(volume, entry.map(|entry| entry.size), disk_facts);
    let identity = &volume.identity;
    let purpose = entry.map(|entry| entry.purpose);
    let part_name = entry.map(|entry| entry.name.as_str()).unwrap_or_default();
    Volume {
        number,
        device: None,
        mounted: Vec::new(),
        kernel_use: None,
        is_running_root: false,
        disk: disk.unwrap_or(DiskNumber(0)),
        partition: entry.map(|entry| signpost_facts::PartitionNumber(entry.number)),
        name: said(name),
        lv,
        members: members.iter().copied().map(VolumeNumber::of_index).collect(),
        kind: identity.kind,
        is_fat: identity.kind.is_fat() && fault.is_none(),
        firmware_reads: (identity.kind.is_fat() || volume.beneath_raid.is_some())
            && fault.is_none()
            && identity.firmware_refuses.is_none()
            && entry.is_none_or(|entry| entry.unseen.is_none())
            && disk_facts.is_none_or(|disk| !disk.table.is_unprotected),
        firmware_refuses: identity.firmware_refuses.map(Cow::Borrowed),
        flaw: identity.flaw.map(Cow::Borrowed),
        is_esp: entry.is_some_and(|entry| entry.purpose.is_esp()),
        is_extended_boot: entry.is_some_and(|entry| entry.purpose.is_extended_boot()),
        label: identity.label.as_deref().map(said),
        uuid: identity.uuid.as_deref().map(said),
        size,
        fault,
        is_member: identity.kind.is_member(),
        is_encrypted: identity.kind.is_encrypted(),
        is_unclean: identity.is_unclean,
        is_hibernated: identity.is_hibernated,
        aside: aside(purpose, part_name, identity.label.as_deref()),
        inside: identity.inside.iter().map(|name| said(name)).collect(),
        part_uuid: entry.and_then(|entry| entry.uuid.clone()),
        // A BSD label has one name for all of its partitions.
        part_label: Some(part_name)
            .filter(|name| !name.is_empty() && entry.is_some_and(|entry| entry.slice.is_none()))
            .map(said),
        disk_serial: disk_facts.and_then(|disk| disk.serial.clone()),
        is_serial_seen_at_boot: disk_facts.is_some_and(Disk::is_serial_seen_at_boot),
        disk_path: disk_facts.and_then(|disk| disk.path.clone()),
        disk_guid: disk_facts.and_then(|disk| disk.table.guid.clone()),
        mbr_type: entry.and_then(|entry| match entry.purpose {
            Purpose::Mbr(kind) => Some(kind.0),
            Purpose::Gpt(_) | Purpose::Label(_) => None,
        }),
    }
}

/// Bytes of a volume, by its partition, its device or its disk; and what is wrong with it.
fn size_and_fault(
    volume: &volumes::Volume,
    of_entry: Option<u64>,
    disk: Option<&Disk>,
) -> (u64, Option<String>) {
    let of_device = volume.device.as_ref().map(|device| device.size());
    let size = of_entry.or(of_device).or(disk.map(|disk| disk.size)).unwrap_or(0);
    let cut = of_device.map_or(0, |device| size.saturating_sub(device));
    let fault = volume.fault.as_ref().map(ToString::to_string);
    let is_cut = || (cut > 0).then(|| format!("the disk ends {cut} bytes before the partition does"));
    (size, fault.or_else(is_cut))
}

/// The index of the disk that a volume lies on, or starts on; members come before what they make up.
fn first_disk(volume: &volumes::Volume, found: &[volumes::Volume]) -> Option<usize> {
    match &volume.origin {
        Origin::Disk(disk) | Origin::Partition(disk, _) => Some(*disk),
        Origin::Array { members, .. } | Origin::Logical { members, .. } => {
            let index = *members.first()?;
            first_disk(found.get(index)?, found.get(..index)?)
        }
    }
}

/// Notes a volume's device in the running system, and where it is mounted.
pub(crate) fn take_device(machine: &Machine, origin: &Origin, facts: &mut Volume) -> Vec<Mount> {
    let Some(devices) = &machine.devices else { return Vec::new() };
    let disk = || machine.disk(facts.disk);
    let numbers = match origin {
        Origin::Logical { group, name, .. } => devices.mapped(&mapper_name(group, name)),
        Origin::Array { uuid, partition, .. } => devices.array(uuid, *partition),
        Origin::Disk(_) | Origin::Partition(..) => {
            let partition = facts.partition.map(|number| number.0);
            let over = || devices.array_over(disk()?.device(None)?, partition);
            over().or_else(|| disk()?.device(partition))
        }
    };
    let Some(numbers) = numbers else { return Vec::new() };
    if let Some(made) = devices.made().iter().find(|made| made.numbers == numbers && facts.size == 0) {
        facts.size = made.size;
    }
    facts.device = devices.file_of(numbers).map(|file| file.display().to_string());
    let mounts = devices.mounts_of(numbers);
    facts.mounted = mounts.iter().map(|mount| mount.point.display().to_string()).collect();
    facts.kernel_use = if devices.is_swap(numbers) {
        Some(KernelUse::Swap)
    } else {
        devices.holder(numbers).map(|name| KernelUse::PartOf(name.to_string()))
    };
    // While it is mounted, it is in use, and nothing is wrong with that.
    facts.is_unclean &= mounts.is_empty();
    facts.is_running_root = machine.running.device == Some(numbers);
    mounts
}

/// Whether a text has an ASCII word in it, in any case.
fn has_word(text: &str, word: &str) -> bool {
    text.as_bytes().windows(word.len()).any(|window| window.eq_ignore_ascii_case(word.as_bytes()))
}

/// Partitions that only confuse who looks for systems, by their type and by what they are called.
fn aside(purpose: Option<Purpose>, name: &str, label: Option<&str>) -> Option<Aside> {
    let texts = [name, label.unwrap_or_default()];
    let any = |words: &[&str]| texts.iter().any(|text| words.iter().any(|word| has_word(text, word)));
    match purpose {
        Some(Purpose::Gpt(partition_type::RECOVERY) | Purpose::Mbr(MbrType::RECOVERY)) => {
            Some(Aside::Recovery)
        }
        _ if any(&["recovery", "winre"]) => Some(Aside::Recovery),
        Some(Purpose::Gpt(partition_type::VENDOR_RESERVED)) => Some(Aside::Reserved),
        _ if any(&["reserved"]) => Some(Aside::Reserved),
        Some(Purpose::Mbr(MbrType::VENDOR)) => Some(Aside::Vendor),
        _ if any(&["diagnos"]) => Some(Aside::Vendor),
        Some(Purpose::Gpt(partition_type::LDM_METADATA)) => Some(Aside::Metadata),
        Some(Purpose::Gpt(partition_type::BIOS_BOOT)) => Some(Aside::BootCode),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_only_confuses_is_told_by_name_or_type() {
        assert_eq!(aside(Some(Purpose::Mbr(MbrType(7))), "", Some("WinRE_DRV")), Some(Aside::Recovery));
        assert_eq!(
            aside(Some(Purpose::Gpt(partition_type::VENDOR_RESERVED)), "", None),
            Some(Aside::Reserved)
        );
        assert_eq!(aside(Some(Purpose::Gpt(partition_type::LINUX_DATA)), "larkspur", Some("larkspur")), None);
    }
}
