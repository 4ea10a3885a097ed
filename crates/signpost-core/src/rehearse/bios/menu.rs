//! Behind our first sector: the menu, and what its entries start by BIOS, followed by the code that the boot program runs.

use signpost_facts::change::SectorWrite;
use signpost_facts::sectors::PartitionSector;
use signpost_facts::{Disk, DiskNumber, VolumeNumber};
use signpost_firmware::bios::rules::{self, End};
use signpost_firmware::bios::{area, code};
use signpost_firmware::image::linux::HEAD_LEN;
use signpost_firmware::image::linux_protocol;
use signpost_firmware::start::Program;
use signpost_menu::MenuDocument;
use signpost_menu::ids::EntryId;
use signpost_menu::resolve::{Surroundings, Within};
use signpost_place::started_from::StartedFrom;
use signpost_place::surroundings::first_in;
use signpost_place::{Look, VolumeReader, home};

use super::{rehearse_in_order, system_in};
use crate::rehearse::menu::{self, Followed};
use crate::rehearse::outcome::Kind;
use crate::resolve::{ResolvedEntry, StartTarget, resolve};
use crate::sectors::{boot_sector, first, ours_after};

/// Behind the first sector: our menu, by the code that the boot program runs.
pub(super) fn follow(
    look: &Look,
    disk: &Disk,
    planned: &[SectorWrite],
    choose: Option<&str>,
) -> Option<Followed> {
    let ours = ours_after(look, look.survey.boot_sectors.first_of(disk.number)?, planned)?;
    let document = menu_after(look, disk.number, planned);
    let starter = |entry: &ResolvedEntry<'_>| entry_start(look, entry, planned);
    let around = StartedFrom::disk(look, disk.number);
    Some(menu::follow_menu(&around, (document, &ours.remembered), choose, &starter))
}

/// The entries of the menu that the first disk's first sector goes to which start a system, with that system's id; nothing where it
/// goes to none of ours.
pub(crate) fn entries_that_start(look: &Look, planned: &[SectorWrite]) -> Option<Vec<(EntryId, String)>> {
    let disk = look.survey.boot_sectors.order.first()?;
    let ours = ours_after(look, look.survey.boot_sectors.first_of(*disk)?, planned)?;
    let document = menu_after(look, *disk, planned).filter(|_| ours.has_program)?;
    let started = resolve(&StartedFrom::disk(look, *disk), &document).into_iter().filter_map(|entry| {
        let outcome = entry_start(look, &entry, planned).outcome;
        let system = outcome.system.clone().filter(|_| outcome.is_start())?;
        Some((entry.entry.id.clone(), system))
    });
    Some(started.collect())
}

/// The menu that counts for who starts from a disk, after these writes.
fn menu_after(look: &Look, disk: DiskNumber, planned: &[SectorWrite]) -> Option<MenuDocument> {
    let slots = |disk| {
        let of = look.survey.boot_sectors.first_of(disk);
        of.and_then(|of| ours_after(look, of, planned)).map_or(home::NO_SLOTS, |ours| ours.slots)
    };
    menu::in_slot(look, home::in_force_in(look, disk, slots), None)
}

/// What becomes of an entry that is started by BIOS.
fn entry_start(look: &Look, resolved: &ResolvedEntry<'_>, planned: &[SectorWrite]) -> Followed {
    let entry = resolved.entry;
    let refused =
        |why: String| menu::waits(format!("the menu again, since {} cannot start: {why}", entry.title));
    match &resolved.target {
        Err(why) => {
            menu::waits(format!("the menu, which waits for a key: {} cannot start: {why}", entry.title))
        }
        Ok(StartTarget::Linux { volume, kernel, initrds, args, .. }) => {
            let head = look.reader(*volume).ok_or("its volume cannot be read".to_string());
            let loading = head.and_then(|reader| kernel_starts(reader, kernel));
            let at = look.at(*volume, kernel);
            let mut followed =
                menu::judged(entry, at, loading.map_or_else(Program::Unfit, |()| Program::Starts));
            if followed.outcome.is_start() {
                followed.outcome.system = menu::system_of(look, *volume, kernel);
                followed.outcome.notes = menu::handed_over(initrds, args);
            }
            followed
        }
        Ok(StartTarget::Image { volume, image, kernel, initrds, args }) => {
            let within = Within { volume: *volume, image: Some(image) };
            let first = first_in(look, within, |reader| Some(kernel_starts(reader, kernel)));
            let loading = first.and_then(|found| found.unwrap_or_else(|| Err("it is not there".into())));
            let at = format!("{kernel} in {}", look.at(*volume, image));
            let mut followed =
                menu::judged(entry, at, loading.map_or_else(Program::Unfit, |()| Program::Starts));
            if followed.outcome.is_start() {
                followed.outcome.notes = menu::handed_over(initrds, args);
            }
            followed
        }
        Ok(StartTarget::Sector { volume, manner, .. }) if manner.first_sector => {
            by_first_sector(look, resolved, *volume, planned)
        }
        Ok(StartTarget::Sector { volume, file: None, .. }) => {
            let number = VolumeNumber::of_index(*volume);
            let Some(of) = look.survey.boot_sector_of(number) else {
                return refused("it has no boot sector that could be read".into());
            };
            let code = boot_sector(look, of, planned)
                .map(|bytes| if bytes[..] == of.bytes { of.code } else { code::of_partition(&bytes) });
            let end = rules::by_sector(0, code);
            let at = format!("the boot sector of {}", of.name);
            match end {
                End::Partition(_) => {
                    let mut followed = menu::judged(entry, at, Program::Starts);
                    followed.outcome.system = system_at(look, of);
                    followed
                }
                End::Hangs(_) => {
                    let mut followed = menu::waits(format!("nothing: the machine hangs in {at}"));
                    followed.outcome.kind = Kind::Hangs;
                    followed
                }
                _ => {
                    let mut followed = menu::waits(format!("nothing: {at} starts nothing"));
                    followed.outcome.kind = Kind::Nothing;
                    followed
                }
            }
        }
        Ok(StartTarget::Sector { volume, file: Some(path), .. }) => {
            let at = format!("the boot sector in {}", look.at(*volume, path));
            menu::judged(entry, at, Program::CannotTell("code in a file is not followed".into()))
        }
        Ok(StartTarget::Program { .. } | StartTarget::FirmwareEntry { .. }) => {
            refused("BIOS firmware starts no such thing".into())
        }
        Ok(StartTarget::BuiltIn | StartTarget::Group) => {
            menu::waits(format!("{} starts no system", entry.title))
        }
    }
}

/// Another disk's first sector, by the rules of a start from it.
fn by_first_sector(
    look: &Look,
    resolved: &ResolvedEntry<'_>,
    volume: usize,
    planned: &[SectorWrite],
) -> Followed {
    let disk = look.survey.volumes[volume].disk;
    let sector = look.survey.boot_sectors.first_of(disk).and_then(|of| first(look, of, planned));
    // A menu behind a menu may lead back to where it came from.
    if sector.is_some_and(|sector| area::is_first(&sector)) {
        let at = format!("the first sector of d{disk}");
        let why = "it goes to a menu of ours, which is not followed from here";
        return menu::judged(resolved.entry, at, Program::CannotTell(why.into()));
    }
    let behind = rehearse_in_order(look, &[disk], planned, None);
    let mut outcome = behind.outcome;
    outcome.text = format!("{}: {}", resolved.entry.title, outcome.text);
    Followed { steps: behind.steps, outcome, choice: None }
}

/// Whether the boot program starts a kernel: why not.
fn kernel_starts(reader: &VolumeReader, kernel: &str) -> Result<(), String> {
    let head = reader.read_head(kernel, HEAD_LEN).map_err(|error| error.to_string())?;
    let size = reader.metadata(kernel).map_err(|error| error.to_string())?.size;
    linux_protocol::loading(&head, size).map(|_| ())
}

/// The system in the partition that a boot sector is of.
fn system_at(look: &Look, of: &PartitionSector) -> Option<String> {
    let disk = look.survey.disk(of.disk)?;
    let partition = disk.partitions.iter().find(|partition| partition.number == of.partition)?;
    system_in(look, disk, partition).map(|system| system.id.clone())
}
