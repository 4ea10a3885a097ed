//! The guards that nobody overrides: where a write could hit what is not the volume's, or lose what a sleeping system holds.

use std::collections::BTreeSet;

use signpost_facts::change::Change;
use signpost_facts::{Code, Disk, Refusal, VolumeNumber};
use signpost_place::Look;

use crate::home;

/// What forbids to write to the volumes of these changes.
pub(crate) fn refusals<'w>(look: &Look, writes: impl IntoIterator<Item = &'w Change>) -> Vec<Refusal> {
    let files = writes.into_iter().filter_map(Change::file);
    let volumes: BTreeSet<usize> = files.filter_map(|write| home::volume_of(look, write)).collect();
    volumes.into_iter().filter_map(|volume| of_volume(look, volume)).collect()
}

fn refusal(look: &Look, volume: usize, code: Code, why: &str, way: &str) -> Refusal {
    let facts = &look.survey.volumes[volume];
    let message = format!("{}: {why}", facts.where_it_is());
    Refusal { code, message, way: way.into() }
}

/// Why a volume (by its index) may not lie where its partition table says.
pub(super) fn misplaced(look: &Look, volume: usize) -> Option<Refusal> {
    const WAY: &str = "correct the partition table with a partitioning tool first";
    let (disk, partition) = look.survey.partition_of(&look.survey.volumes[volume])?;
    let own = partition.unseen.clone().filter(|_| partition.is_misplaced);
    let of_disk = || {
        let fault = disk.table.fault.as_ref().filter(|_| !disk.is_whole)?;
        Some(format!("its disk's partition table is broken: {fault}"))
    };
    let why = own.or_else(of_disk)?;
    Some(refusal(look, volume, Code::PartitionUnsafe, &why, WAY))
}

/// Why a volume would get other bytes than its doubles on the further disks of an array. Where no further one is here, there is
/// nothing that it could differ from.
fn in_array(look: &Look, volume: usize) -> Option<Refusal> {
    const WAY: &str = "name a FAT volume on a disk that is in no array with --home";
    let facts = &look.survey.volumes[volume];
    let (disk, _) = look.survey.partition_of(facts)?;
    let array = disk.array.as_ref().filter(|_| facts.mounted.is_empty())?;
    let is_double = |other: &Disk| {
        other
            .array
            .as_ref()
            .is_some_and(|other| other.uuid == array.uuid && other.read_on == Some(disk.number))
    };
    look.survey.disks.iter().find(|other| is_double(other))?;
    let why =
        format!("disk {} is in the {}, whose disks have to be written together", disk.number, array.words);
    Some(refusal(look, volume, Code::PartitionUnsafe, &why, WAY))
}

/// Why a volume (by its index) must not be written to.
pub fn of_volume(look: &Look, volume: usize) -> Option<Refusal> {
    misplaced(look, volume)
        .or_else(|| in_array(look, volume))
        .or_else(|| in_use(look, volume))
        .or_else(|| not_whole(look, volume))
}

fn in_use(look: &Look, volume: usize) -> Option<Refusal> {
    let why = format!(
        "{} sleeps and has it in use: it would write over what is written now",
        asleep(look, volume)?
    );
    Some(refusal(look, volume, Code::Hibernated, &why, "start that system and shut it down"))
}

fn not_whole(look: &Look, volume: usize) -> Option<Refusal> {
    const WAY: &str = "let a file system checker correct it first, or name another FAT volume with --home";
    let flaw = look.survey.volumes[volume].flaw.as_ref().map(ToString::to_string);
    let why = flaw.or_else(|| look.check_fat(volume))?;
    Some(refusal(look, volume, Code::VolumeBroken, &why, WAY))
}

/// Who sleeps and uses a volume: a system that mounts it, or has its root there.
fn asleep(look: &Look, volume: usize) -> Option<String> {
    let volumes = &look.survey.volumes;
    let sleeps =
        |number: &VolumeNumber| volumes.get(number.index()).is_some_and(|volume| volume.is_hibernated);
    let number = VolumeNumber::of_index(volume);
    let mut others = look.survey.systems.iter().filter(|system| !system.is_running);
    let user = others.find(|system| {
        let own: Vec<VolumeNumber> = system.root.into_iter().chain(system.mounts.iter().copied()).collect();
        own.contains(&number) && own.iter().any(sleeps)
    });
    let nobody = || sleeps(&number).then(|| "a system".to_string());
    user.map(|system| system.title.clone()).or_else(nobody)
}
