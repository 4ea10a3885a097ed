//! There, gone, or out of reach: what is not seen now was either looked for where it would be, on disks that were read
//! whole, or nobody can say.

use serde::Serialize;
use signpost_firmware::device_path::{HardDrive, PartitionSignature};
use signpost_firmware::start::Verdict;
use signpost_menu::place::VolumeRef;
use signpost_menu::resolve::{Fault, ResolvedEntry};
use signpost_place::Look;

/// Whether a thing is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reach {
    /// It is there.
    There,
    /// It was looked for where it would be, on disks that were read whole, and is not there.
    Gone,
    /// Its disk, volume or store could not be read, is not attached, or was there at an earlier survey.
    OutOfReach,
}

/// What an entry of a menu starts.
pub fn of_entry(look: &Look, resolved: &ResolvedEntry<'_>) -> Reach {
    match &resolved.target {
        Ok(_) => Reach::There,
        Err(Fault::NoVolume { wanted, .. }) => of_volume(look, wanted),
        Err(Fault::NoFile { volume, .. }) => of_file(look, &[*volume]),
        Err(Fault::Unread { .. } | Fault::Ambiguous(_)) => Reach::OutOfReach,
        Err(Fault::NoLoadOption(_)) if look.has_all_variables() => Reach::Gone,
        Err(Fault::NoLoadOption(_)) => Reach::OutOfReach,
        Err(Fault::DeadLoadOption { number, .. }) => of_load_option(look, *number),
        // It is what the entry says that cannot be done.
        Err(Fault::Unfit(_)) => Reach::There,
    }
}

/// What a load option of the firmware's leads to.
pub fn of_load_option(look: &Look, number: u16) -> Reach {
    let Some(Ok(option)) = look.boot.options.get(&number).map(|option| &option.decoded) else {
        return Reach::There;
    };
    let hardware = signpost_place::hardware::SurveyedHardware::new(look);
    match signpost_firmware::start::locate(option, &hardware) {
        Verdict::NoPartition { renumbered, .. } if !renumbered.is_empty() => Reach::There,
        Verdict::NoPartition { .. } => match option.path.hard_drive() {
            Some(drive) => of_partition(look, &drive),
            None => Reach::OutOfReach,
        },
        Verdict::NoDevice | Verdict::Deleted => when_all_is_seen(look),
        Verdict::NoFile { partitions, .. } => of_file(look, &partitions),
        Verdict::Unreadable { .. } => Reach::OutOfReach,
        _ => Reach::There,
    }
}

/// Nothing is gone while a disk cannot be read, or one that was seen is not here.
fn when_all_is_seen(look: &Look) -> Reach {
    let survey = &look.survey;
    let is_seen = survey.disks.iter().all(|disk| disk.is_whole) && !look.known.misses_a_disk(survey);
    if is_seen { Reach::Gone } else { Reach::OutOfReach }
}

/// A partition's identity as the survey has it; nothing for one of a kind that no table here has.
pub(crate) fn identity(drive: &HardDrive) -> Option<String> {
    match drive.signature {
        PartitionSignature::Guid(guid) => Some(guid.to_string()),
        PartitionSignature::Mbr(signature) => Some(format!("{signature:08x}-{:02x}", drive.number)),
        PartitionSignature::Other(_) => None,
    }
}

fn of_partition(look: &Look, drive: &HardDrive) -> Reach {
    let Some(identity) = identity(drive) else { return Reach::OutOfReach };
    // A disk that is here and has the MBR's signature would have the partition.
    if look.survey.disks.iter().any(|disk| !disk.is_whole) {
        return Reach::OutOfReach;
    }
    let is_elsewhere = look.known.has_partition_elsewhere(&look.survey, &identity);
    if is_elsewhere { Reach::OutOfReach } else { Reach::Gone }
}

fn of_volume(look: &Look, wanted: &VolumeRef) -> Reach {
    let survey = &look.survey;
    // What lies inside of these has no name yet.
    let hides = |volume: &signpost_facts::Volume| volume.is_encrypted || volume.fault.is_some();
    if survey.disks.iter().any(|disk| !disk.is_whole)
        || survey.volumes.iter().any(hides)
        || look.known.has_volume_elsewhere(survey, wanted)
    {
        return Reach::OutOfReach;
    }
    Reach::Gone
}

/// The volume that was home, as it was noted, where it is not attached or cannot be read. Firmware reads a home, so that it lies
/// inside of nothing.
pub fn home_out_of_reach(look: &Look, home: Option<&str>) -> Option<VolumeRef> {
    let home = VolumeRef::parse(home?).ok()?;
    let is_out = look.resolve(&home).is_err()
        && (look.survey.disks.iter().any(|disk| !disk.is_whole)
            || look.known.has_volume_elsewhere(&look.survey, &home));
    is_out.then_some(home)
}

/// A file that is on none of these volumes, by index.
fn of_file(look: &Look, volumes: &[usize]) -> Reach {
    let is_read = |volume: &usize| {
        look.survey.volumes[*volume].fault.is_none()
            && look.reader(*volume).is_some_and(|reader| reader.fault().is_none())
    };
    if volumes.is_empty() {
        return when_all_is_seen(look);
    }
    if volumes.iter().all(is_read) { Reach::Gone } else { Reach::OutOfReach }
}
