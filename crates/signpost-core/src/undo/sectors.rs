//! Undoing what was written into sectors: byte by byte, so that code goes back and a table that somebody has changed since stays.

use signpost_facts::change::{Change, SectorWrite};
use signpost_place::Look;

use crate::bios;
use crate::history::Record;

/// The sectors that were written since a step, as they go back. Those of disks that are not here stay.
pub(super) fn sectors(look: &Look, since: &[&Record], notes: &mut Vec<String>) -> Vec<SectorWrite> {
    let writes = since.iter().flat_map(|record| &record.writes).filter_map(Change::sectors);
    // The first and the last of each.
    let mut all: Vec<(&SectorWrite, &SectorWrite)> = Vec::new();
    for write in writes {
        match all.iter_mut().find(|(first, _)| (&first.disk, first.offset) == (&write.disk, write.offset)) {
            Some((_, last)) => *last = write,
            None => all.push((write, write)),
        }
    }
    all.into_iter().rev().filter_map(|(first, last)| back(look, first, last, notes)).collect()
}

fn back(
    look: &Look,
    first: &SectorWrite,
    last: &SectorWrite,
    notes: &mut Vec<String>,
) -> Option<SectorWrite> {
    if !look.survey.disks.iter().any(|disk| disk.identity() == Some(&first.disk)) {
        notes.push(format!("a sector of disk {} is out of reach; it stays as it is", first.disk));
        return None;
    }
    let (before, after) = (first.before.as_ref()?, last.after.as_ref()?);
    let now = bios::now(look, first).unwrap_or_else(|| after.clone());
    let what = format!("undo: {}", first.what);
    match merged(before, after, &now) {
        Some(back) if back == now => None,
        Some(back) => Some(SectorWrite { what, before: Some(now), after: Some(back), ..first.clone() }),
        None => {
            notes.push(format!("{}: changed since by somebody else; it stays as it is", first.what));
            None
        }
    }
}

/// What stands there now, with what we changed as it was; nothing where somebody has changed that since.
fn merged(before: &[u8], after: &[u8], now: &[u8]) -> Option<Vec<u8>> {
    if before.len() != after.len() || before.len() != now.len() {
        return None;
    }
    let bytes = before.iter().zip(after).zip(now).map(|((before, after), now)| match () {
        () if before == after => Some(*now),
        () if now == after || now == before => Some(*before),
        () => None,
    });
    bytes.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_we_changed_goes_back() {
        assert_eq!(merged(b"code table", b"CODE table", b"CODE TABLE").as_deref(), Some(&b"code TABLE"[..]));
        assert_eq!(merged(b"code table", b"CODE table", b"code table").as_deref(), Some(&b"code table"[..]));
        assert_eq!(merged(b"code table", b"CODE table", b"c0DE table"), None, "another's code stays");
        assert_eq!(merged(b"code", b"CODE", b"COD"), None);
    }
}
