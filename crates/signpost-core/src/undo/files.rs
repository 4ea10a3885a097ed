//! Files on the home volume: put back before the variables that name them, taken off after.

use signpost_facts::change::{Change, FileWrite};
use signpost_facts::{Error, Result};
use signpost_menu::slot::SLOT_NAMES;
use signpost_place::Look;

use crate::history::{self, Record};
use crate::home;
use crate::plan::After;

/// What we made of one file since a step.
struct Ours<'r> {
    first: &'r FileWrite,
    /// SHA-256 of everything that we wrote there; nothing for removals.
    wrote: Vec<&'r Option<String>>,
}

/// Files to put back, and files to take off: as far as they still hold what we wrote, and no load option names them then.
pub(super) fn files(
    look: &Look,
    since: &[&Record],
    after: &After,
    notes: &mut Vec<String>,
) -> Result<(Vec<FileWrite>, Vec<FileWrite>)> {
    let mut all: Vec<Ours<'_>> = Vec::new();
    let is_own_note = |write: &&FileWrite| write.path.eq_ignore_ascii_case(&history::path());
    let writes = since.iter().flat_map(|record| &record.writes).filter_map(Change::file);
    for write in writes.filter(|write| !is_own_note(write)) {
        let is_it = |ours: &&mut Ours<'_>| ours.first.volume == write.volume && ours.first.path == write.path;
        match all.iter_mut().find(is_it) {
            Some(ours) => ours.wrote.push(&write.after_sha256),
            None => all.push(Ours { first: write, wrote: vec![&write.after_sha256] }),
        }
    }
    let named = after.named_files(look);
    let (mut put_back, mut taken_off) = (Vec::new(), Vec::new());
    let mut writes = Vec::new();
    for ours in &all {
        if ours.first.is_left_out && !can_do_without(look, ours.first, &all, notes)? {
            continue;
        }
        writes.extend(one(look, ours, notes));
    }
    for write in writes {
        if write.after.is_some() {
            put_back.push(write);
        } else if named.iter().any(|(volume, path)| is_at(look, &write, *volume, path)) {
            notes.push(format!("{} stays: an entry of the firmware's still names it", write.path));
        } else {
            taken_off.push(write);
        }
    }
    taken_off.reverse();
    Ok((put_back, taken_off))
}

/// Whether a file can be undone by a copy of its record, which does not hold its bytes: a slot of the menu is removed, so that
/// the other one counts again, where that was not written since.
fn can_do_without(look: &Look, write: &FileWrite, all: &[Ours<'_>], notes: &mut Vec<String>) -> Result<bool> {
    let name = write.path.rsplit('/').next().unwrap_or_default();
    let Some(slot) = SLOT_NAMES.iter().position(|slot| slot.eq_ignore_ascii_case(name)) else {
        notes
            .push(format!("{} stays as it is: the copy of the record does not hold what it was", write.path));
        return Ok(false);
    };
    let is_other = |ours: &Ours<'_>| {
        ours.first.volume == write.volume
            && SLOT_NAMES.get(1 - slot).is_some_and(|other| ours.first.path.ends_with(other))
    };
    let other_holds = home::volume_of(look, write).is_some_and(|volume| {
        signpost_place::home::slots(look, volume).get(1 - slot).is_some_and(std::result::Result::is_ok)
    });
    if other_holds && !all.iter().any(is_other) {
        return Ok(true);
    }
    Err(Error::Unusable {
        place: "history".into(),
        why: format!(
            "what {} held is not in the copy of the record on the home volume; undo it from the system that did it",
            write.path
        ),
    })
}

fn is_at(look: &Look, write: &FileWrite, volume: usize, path: &str) -> bool {
    home::volume_of(look, write) == Some(volume) && write.path.eq_ignore_ascii_case(path)
}

fn one(look: &Look, ours: &Ours<'_>, notes: &mut Vec<String>) -> Option<FileWrite> {
    let write = ours.first;
    let volume = home::volume_of(look, write);
    let Some((volume, location)) = volume.and_then(|volume| Some((volume, look.location(volume)?))) else {
        notes.push(format!("{}{} is out of reach; it stays as it is", write.volume, write.path));
        return None;
    };
    if !look.survey.volumes[volume].takes_files() {
        notes.push(format!("{}{} stays as it is: its volume is not mounted", write.volume, write.path));
        return None;
    }
    let now = look.read_file(volume, &write.path, signpost_place::home::MAX_FILE).ok()?;
    if now == write.before {
        return None;
    }
    let now_sha256 = now.as_ref().map(|bytes| signpost_place::boot_program::sha256(bytes));
    if !ours.wrote.iter().any(|wrote| **wrote == now_sha256) {
        notes.push(format!("{} was changed since by somebody else; it stays as it is", write.path));
        return None;
    }
    let what = if write.before.is_some() { "put back" } else { "remove" };
    Some(FileWrite {
        what: format!("{what} {}", write.path),
        volume: write.volume.clone(),
        path: write.path.clone(),
        before: now,
        is_left_out: false,
        after_sha256: write.before.as_ref().map(|bytes| signpost_place::boot_program::sha256(bytes)),
        after: write.before.clone(),
        location: Some(location),
    })
}
