//! The home volume: where the boot program and the active menu live.

use signpost_facts::change::{Change, FileWrite};
use signpost_facts::{Code, Refusal};
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::{SLOT_NAMES, Slot};
use signpost_place::Look;

use crate::history::History;

/// The index of the volume of a file that was written.
pub fn volume_of(look: &Look, write: &FileWrite) -> Option<usize> {
    look.resolve(&VolumeRef::parse(&write.volume).ok()?).ok()
}

/// Whether a slot on a volume is this system's own: by its machine-id, or, where it carries none, since this system wrote
/// the slots there.
pub(crate) fn is_own(look: &Look, history: &History, volume: usize, slot: &Slot) -> bool {
    if !slot.machine.is_empty() {
        return slot.machine == signpost_place::home::machine_id(look);
    }
    let records =
        history.records().iter().filter(|record| !record.is_copy && !history.is_undone(record.serial));
    let mut files = records.flat_map(|record| &record.writes).filter_map(Change::file);
    files.any(|write| {
        SLOT_NAMES.iter().any(|name| write.path.ends_with(name)) && volume_of(look, write) == Some(volume)
    })
}

/// The guard against writing over, or past, the menu of another system of this PC: on any of these volumes.
pub(crate) fn other_system(
    look: &Look,
    history: &History,
    volumes: impl IntoIterator<Item = usize>,
) -> Option<Refusal> {
    let held = volumes.into_iter().find_map(|volume| {
        let (_, slot) = signpost_place::home::newest_slot(look, volume)?;
        (!is_own(look, history, volume, &slot)).then_some((volume, slot))
    });
    let (volume, slot) = held?;
    let own = signpost_place::home::machine_id(look);
    Some(other_systems(&look.survey.volumes[volume].where_it_is(), &slot.machine, &own))
}

/// The guard where the menu at a place carries another machine-id than ours.
pub(crate) fn other_systems(place: &str, machine: &str, own: &str) -> Refusal {
    let who = match machine {
        "" => "one that its menu does not name".to_string(),
        machine => format!("machine-id {machine}"),
    };
    let own = match own {
        "" => "; this system has no machine-id, so nothing but its own records tells its menus",
        _ => "",
    };
    Refusal {
        code: Code::OtherSystem,
        message: format!("the menu on {place} was put there by another system of this PC ({who}){own}"),
        way: "--take-over replaces it with this one".into(),
    }
}
