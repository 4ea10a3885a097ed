//! Programs and menus of ours that nothing names any more: older boot programs, homes from before.

use signpost_facts::change::FileWrite;
use signpost_facts::{BootFile, Result, Role, VolumeNumber};
use signpost_menu::picture_place::PICTURE_PATH;
use signpost_menu::resolve::Surroundings;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slot};
use signpost_place::Look;
use signpost_place::boot_program::BootProgram;
use signpost_place::home::identity;

use super::planned::After;
use super::safe;
use crate::history;

/// What goes once a plan is carried out that makes these volumes homes, with this boot program: on them all but the program that
/// was active before, elsewhere all that this machine put there.
pub(super) fn of(
    look: &Look,
    (homes, program): (&[usize], &BootProgram),
    after: &After,
    machine_id: &str,
) -> Result<Vec<FileWrite>> {
    let named = after.named_files(look);
    let is_named = |file: &BootFile| {
        named.iter().any(|(on, path)| file.volume.index() == *on && file.path.eq_ignore_ascii_case(path))
    };
    let programs: Vec<&BootFile> =
        look.survey.boot_files.iter().filter(|file| file.role == Role::BootProgram).collect();
    let own = program.path();
    let is_new = |volume: usize| {
        !programs.iter().any(|file| file.volume.index() == volume && file.path.eq_ignore_ascii_case(own))
    };
    let before: Vec<&BootFile> =
        active(look).filter(|file| programs.iter().any(|own| own.path == file.path)).collect();
    let mut writes = Vec::new();
    for file in &programs {
        let volume = file.volume.index();
        let is_previous =
            before.iter().any(|active| active.volume == file.volume && active.path == file.path);
        let goes = match homes.contains(&volume) {
            // Which one was there before the one that stays as it is, nobody can tell: it stays then.
            true => is_new(volume) && !is_previous && !file.path.eq_ignore_ascii_case(own),
            false => is_old_home(look, (volume, homes), machine_id),
        };
        if goes && !is_named(file) {
            writes.extend(removal(look, volume, &file.path, "the boot program")?);
        }
    }
    for other in look.fat_volumes().filter(|other| !homes.contains(other)) {
        let has_program = look
            .survey
            .boot_files
            .iter()
            .any(|file| file.volume.index() == other && file.is_ours() && is_named(file));
        if !has_program && is_old_home(look, (other, homes), machine_id) {
            for name in SLOT_NAMES {
                writes.extend(removal(look, other, &format!("{HOME_FOLDER}/{name}"), "the menu's slot")?);
            }
            writes.extend(removal(look, other, PICTURE_PATH, "the picture")?);
            writes.extend(removal(look, other, &history::path(), "the copies of steps")?);
        }
    }
    Ok(writes)
}

/// Whether a volume was home, by a menu that this very machine put there. Media that people take along are left alone.
fn is_old_home(look: &Look, (volume, homes): (usize, &[usize]), machine_id: &str) -> bool {
    // A system without a machine-id is known by the home that it has now.
    let names_home =
        |slot: &Slot| homes.iter().any(|home| slot.homes.iter().any(|name| name == identity(look, *home)));
    let is_own = |slot: Slot| {
        let is_known = !slot.machine.is_empty() || look.home == Some(volume) || names_home(&slot);
        slot.machine == machine_id && is_known
    };
    let held = signpost_place::home::newest_slot(look, volume).map(|(_, slot)| slot);
    look.survey.takes_part(VolumeNumber::of_index(volume))
        && held.is_some_and(is_own)
        && safe::of_volume(look, volume).is_none()
}

/// Boot files that a load option names now.
fn active(look: &Look) -> impl Iterator<Item = &BootFile> {
    let targets = look.survey.firmware.entries.iter().filter_map(|entry| entry.target.as_ref());
    targets.filter_map(|target| {
        let file = look.survey.boot_file(target.volume.index(), &target.file)?;
        look.survey.boot_files.get(file)
    })
}

/// The removal of a file of ours; nothing, where it is not there.
pub(super) fn removal(look: &Look, volume: usize, path: &str, what: &str) -> Result<Option<FileWrite>> {
    let Some(location) = Look::location(look, volume) else { return Ok(None) };
    let before = look.read_file(volume, path, signpost_place::home::MAX_FILE)?;
    if before.is_none() {
        return Ok(None);
    }
    Ok(Some(FileWrite {
        what: format!("remove {what} {}", look.at(volume, path)),
        volume: look.stable_name(volume)?.to_string(),
        path: path.to_string(),
        before,
        is_left_out: false,
        after_sha256: None,
        after: None,
        location: Some(location),
    }))
}
