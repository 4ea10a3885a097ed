//! Files on the home volume, taken back after the variables that name them.

use signpost_menu::place::VolumeRef;

use crate::history::{Change, FileWrite, Record};
use crate::home;
use crate::survey::Look;

/// What puts back the files of a record, as far as they still hold what we wrote.
pub(super) fn take_back(look: &Look<'_>, record: &Record, notes: &mut Vec<String>) -> Vec<Change> {
    let files = record.writes.iter().filter_map(Change::file);
    files.rev().filter_map(|write| one(look, write, notes)).map(Change::File).collect()
}

fn one(look: &Look<'_>, write: &FileWrite, notes: &mut Vec<String>) -> Option<FileWrite> {
    let volume = VolumeRef::parse(&write.volume).ok().and_then(|volume| look.resolve(&volume).ok());
    let Some(location) = volume.and_then(|volume| home::location(look, volume)) else {
        notes.push(format!("{}{} is out of reach; it stays as it is", write.volume, write.path));
        return None;
    };
    let now = look.machine.read_file(location, &write.path, home::MAX_FILE).ok()?;
    if now == write.before {
        return None;
    }
    if now.as_ref().map(|bytes| home::sha256(bytes)) != write.after_sha256 {
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
