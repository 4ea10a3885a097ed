//! Files on the home volume: put back before the variables that name them, taken off after.

use signpost_menu::place::VolumeRef;

use crate::history::{Change, FileWrite, Record};
use crate::home;
use crate::plan::After;
use crate::survey::Look;

/// What we made of one file since a step.
struct Ours<'r> {
    first: &'r FileWrite,
    /// SHA-256 of everything that we wrote there; nothing for removals.
    wrote: Vec<&'r Option<String>>,
}

/// Files to put back, and files to take off: as far as they still hold what we wrote, and no load option names them then.
pub(super) fn files(
    look: &Look<'_>,
    since: &[&Record],
    after: &After,
    notes: &mut Vec<String>,
) -> (Vec<FileWrite>, Vec<FileWrite>) {
    let mut all: Vec<Ours<'_>> = Vec::new();
    for write in since.iter().flat_map(|record| &record.writes).filter_map(Change::file) {
        let is_it = |ours: &&mut Ours<'_>| ours.first.volume == write.volume && ours.first.path == write.path;
        match all.iter_mut().find(is_it) {
            Some(ours) => ours.wrote.push(&write.after_sha256),
            None => all.push(Ours { first: write, wrote: vec![&write.after_sha256] }),
        }
    }
    let named = after.named_files(look);
    let (mut put_back, mut taken_off) = (Vec::new(), Vec::new());
    let writes: Vec<FileWrite> = all.iter().filter_map(|ours| one(look, ours, notes)).collect();
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
    (put_back, taken_off)
}

fn is_at(look: &Look<'_>, write: &FileWrite, volume: usize, path: &str) -> bool {
    let own = VolumeRef::parse(&write.volume).ok().and_then(|own| look.resolve(&own).ok());
    own == Some(volume) && write.path.eq_ignore_ascii_case(path)
}

fn one(look: &Look<'_>, ours: &Ours<'_>, notes: &mut Vec<String>) -> Option<FileWrite> {
    let write = ours.first;
    let volume = VolumeRef::parse(&write.volume).ok().and_then(|volume| look.resolve(&volume).ok());
    let Some(location) = volume.and_then(|volume| home::location(look, volume)) else {
        notes.push(format!("{}{} is out of reach; it stays as it is", write.volume, write.path));
        return None;
    };
    let now = look.machine.read_file(location, &write.path, home::MAX_FILE).ok()?;
    if now == write.before {
        return None;
    }
    let now_sha256 = now.as_ref().map(|bytes| home::sha256(bytes));
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
        after_sha256: write.before.as_ref().map(|bytes| home::sha256(bytes)),
        after: write.before.clone(),
        location: Some(location),
    })
}
