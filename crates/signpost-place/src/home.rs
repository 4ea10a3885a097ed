//! Which volume is home: where the boot program and the active menu live.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_facts as facts;
use signpost_facts::sectors::OurSectors;
use signpost_facts::{DiskNumber, VolumeNumber};
use signpost_firmware::start::{self, Target, volume_path};
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::{Slot, SlotFault, Slots, newest};

use crate::hardware::SurveyedHardware;
use crate::homes::{self, InForce, Named};
use crate::look::Look;
use crate::slots;

/// No file of ours is longer, in bytes.
pub const MAX_FILE: usize = 4 << 20;

/// The home volume, and why it is that one.
#[derive(Clone, Debug)]
pub struct Home {
    /// Its index.
    pub volume: usize,
    /// Why.
    pub why: &'static str,
}

/// The home volume of a machine: the one whose boot program the firmware starts, by the entry that it was started from, the
/// next one, the boot order, or by itself. Never a medium that people take along, unless the running system lies on it.
pub fn of(look: &Look) -> Option<usize> {
    let boot = &look.boot;
    let numbers = boot.current.iter().chain(&boot.next).chain(&boot.order);
    let by_entry = numbers.filter_map(|number| {
        let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == *number)?;
        entry.judged.as_ref()?.target()
    });
    let by_entry: Vec<Target> = by_entry.cloned().collect();
    let by_itself = start::follow(boot, &SurveyedHardware::new(look)).steps.into_iter();
    let by_itself =
        by_itself.filter(|step| step.option.is_none()).filter_map(|step| step.verdict.target().cloned());
    let by_firmware = by_entry.into_iter().chain(by_itself).find(|target| is_home(look, target));
    by_firmware.map(|target| target.partition).or_else(|| by_fallback_path_of(look))
}

/// Where an entry of the order names a disk as only this firmware names it: the one volume with our boot program under
/// the name that firmware looks for on such a disk.
fn by_fallback_path_of(look: &Look) -> Option<usize> {
    let is_unclear = |number: &u16| {
        let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == *number);
        entry.is_some_and(|entry| matches!(entry.judged, Some(start::Verdict::UnknownDevice)))
    };
    if !look.boot.order.iter().any(is_unclear) {
        return None;
    }
    let path = format!("/EFI/BOOT/{}", look.architecture.fallback_file_name()?);
    let is_home = |volume: &usize| {
        let file = look.survey.boot_file(*volume, &path);
        file.is_some_and(|file| look.survey.boot_files[file].is_ours()) && may_be_home(look, *volume)
    };
    let homes: Vec<usize> = look.fat_volumes().filter(is_home).collect();
    <[usize; 1]>::try_from(homes).ok().map(|[home]| home)
}

fn is_home(look: &Look, target: &Target) -> bool {
    let file = look.survey.boot_file(target.partition, &volume_path(&target.path));
    file.is_some_and(|file| look.survey.boot_files[file].is_ours()) && may_be_home(look, target.partition)
}

/// Whether a volume lies where a home may be.
pub fn may_be_home(look: &Look, volume: usize) -> bool {
    let volumes = &look.survey.volumes;
    volumes[volume].firmware_reads && look.survey.takes_part(VolumeNumber::of_index(volume))
}

/// Chooses the home volume: the one asked for, the one that is home already, the ESP of the running system's
/// disk, the first ESP.
///
/// # Errors
/// Where the one asked for is none that firmware reads, or there is no ESP.
pub fn choose(look: &Look, asked: Option<&str>) -> facts::Result<Home> {
    let volumes = &look.survey.volumes;
    if let Some(asked) = asked {
        return asked_for(look, asked, "--home");
    }
    if let Some(volume) = look.home {
        return Ok(Home { volume, why: "it is home already" });
    }
    // Where the firmware has lost our entry, what this system noted tells; a file on a disk does not.
    let applied =
        look.noted.applied.as_ref().and_then(|applied| VolumeRef::parse(applied.home.as_ref()?).ok());
    let applied = applied.and_then(|home| look.resolve(&home).ok());
    if let Some(volume) = applied.filter(|volume| may_be_home(look, *volume)) {
        return Ok(Home { volume, why: "this system's menu was put there" });
    }
    let running = look.running.map(|root| volumes[root].disk);
    let esp = |volume: &usize| volumes[*volume].is_esp && may_be_home(look, *volume);
    let beside = look.fat_volumes().filter(esp).find(|volume| Some(volumes[*volume].disk) == running);
    if let Some(volume) = beside {
        return Ok(Home { volume, why: "the ESP on the running system's disk" });
    }
    look.fat_volumes().find(esp).map(|volume| Home { volume, why: "the first ESP" }).ok_or_else(|| {
        facts::Error::Unusable {
            place: "home".into(),
            why: "no ESP was found that could be the home volume; --home names a FAT volume to use".into(),
        }
    })
}

/// The home volume that somebody names, by an option.
///
/// # Errors
/// Where it is none that firmware reads.
pub fn asked_for(look: &Look, asked: &str, option: &str) -> facts::Result<Home> {
    let unusable = |why: String| facts::Error::Unusable { place: option.into(), why };
    let volume = look.typed_volume(asked).map_err(|error| unusable(error.to_string()))?;
    let held = &look.survey.volumes[volume];
    if !held.is_fat {
        return Err(unusable(format!("{asked} is {}, which firmware does not read", held.kind)));
    }
    Ok(Home { volume, why: "as asked for" })
}

/// The machine-id of the running system, which tells its menus from those of other systems.
pub fn machine_id(look: &Look) -> String {
    // Of several roots on its volume, the one that runs; where nobody knows which, the one that is mounted by itself, or the
    // only one.
    let of_root = || {
        let roots = &look.systems.found.get(look.running?)?.roots;
        let runs = roots.iter().find(|root| Some(&root.path) == look.root_path.as_ref());
        let by_itself = runs.or_else(|| roots.iter().find(|root| root.is_default));
        by_itself.or_else(|| roots.first().filter(|_| roots.len() == 1))?.machine_id.clone()
    };
    let id = look.machine_id.clone().or_else(of_root).unwrap_or_default();
    let id = id.trim();
    if id.chars().all(|c| c.is_ascii_hexdigit()) { id.to_string() } else { String::new() }
}

/// The slots of a volume, as they are.
pub fn slots(look: &Look, volume: usize) -> Slots {
    look.reader(volume).map_or(NO_SLOTS, |reader| slots::read(reader.files()))
}

/// The slots of what is no home.
pub const NO_SLOTS: Slots = [Err(SlotFault::Empty), Err(SlotFault::Empty)];

/// The identity by which slots call a volume as a home.
pub fn identity(look: &Look, volume: usize) -> &str {
    look.survey.volumes[volume].part_uuid.as_deref().unwrap_or_default()
}

/// The identity by which slots call a disk whose sectors are home.
pub fn identity_in(look: &Look, disk: DiskNumber) -> &str {
    let table = look.survey.disk(disk).and_then(|disk| disk.table.identity.as_ref());
    table.map(String::as_str).unwrap_or_default()
}

/// The menu that counts for who starts from a volume, where volumes have these slots.
pub fn in_force_on(look: &Look, volume: usize, slots: impl Fn(usize) -> Slots) -> Option<InForce> {
    let read = |other: &usize| *other != volume && look.survey.volumes[*other].firmware_reads;
    let others = (0..look.survey.volumes.len()).filter(read).map(|other| (other, identity(look, other)));
    let others: Vec<Named<'_>> = others.filter(|(_, name)| !name.is_empty()).collect();
    homes::in_force((volume, identity(look, volume)), slots(volume), &others, slots)
}

/// The menu that counts for who starts from a disk's sectors, where disks have these slots; its home is the disk's number.
pub fn in_force_in(look: &Look, disk: DiskNumber, slots: impl Fn(DiskNumber) -> Slots) -> Option<InForce> {
    let name = |disk: DiskNumber| identity_in(look, disk);
    let number = |disk: DiskNumber| disk.0 as usize;
    let of = |disk: usize| u32::try_from(disk).map_or(NO_SLOTS, |disk| slots(DiskNumber(disk)));
    let firsts = look.survey.boot_sectors.first.iter().map(|first| first.disk);
    let others: Vec<Named<'_>> = firsts
        .filter(|other| *other != disk && !name(*other).is_empty())
        .map(|other| (number(other), name(other)))
        .collect();
    homes::in_force((number(disk), name(disk)), slots(disk), &others, of)
}

/// The slots among the sectors of a disk, as they are.
pub fn slots_in(look: &Look, disk: DiskNumber) -> Slots {
    let first = look.survey.boot_sectors.first_of(disk);
    first.and_then(|first| first.ours.as_ref()).map_or(NO_SLOTS, OurSectors::slots)
}

/// The menu that counts at home. Nothing where there is no home.
pub fn in_force(look: &Look) -> Option<InForce> {
    match look.home {
        Some(volume) => in_force_on(look, volume, |volume| slots(look, volume)),
        None => in_force_in(look, look.survey.boot_sectors.home()?.disk, |disk| slots_in(look, disk)),
    }
}

/// All volumes on which the menu was put that counts: home, and the second one where there is one.
pub fn all(look: &Look) -> Vec<usize> {
    let Some(home) = look.home else { return Vec::new() };
    let named = in_force(look).map(|found| found.slot.homes).unwrap_or_default();
    let is_named = |volume: &usize| named.iter().any(|name| name == identity(look, *volume));
    let others = look.fat_volumes().filter(|volume| *volume != home && is_named(volume));
    core::iter::once(home).chain(others).collect()
}

/// What home is called: its volume, or its disk.
pub fn name(look: &Look) -> Option<String> {
    let disk = || look.survey.boot_sectors.home().map(|first| format!("d{}", first.disk));
    look.home.map(|home| look.survey.volumes[home].name.clone()).or_else(disk)
}

/// The slot that counts at home.
pub fn newest_at_home(look: &Look) -> Option<Slot> {
    in_force(look).map(|found| found.slot)
}

/// The text of the menu that counts at home.
pub fn newest_text(look: &Look) -> Option<String> {
    newest_at_home(look).map(|slot| slot.text)
}

/// The newest whole slot of a volume, and its index.
pub fn newest_slot(look: &Look, volume: usize) -> Option<(usize, Slot)> {
    let slots = slots(look, volume);
    newest(&slots).map(|(index, slot)| (index, slot.clone()))
}
