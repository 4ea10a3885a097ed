//! Undoing what was written into sectors: byte by byte, so that code goes back and a table that somebody has changed since stays.

use signpost_facts::change::{Change, SectorWrite};
use signpost_firmware::bios::area;
use signpost_menu::slot::Slot;
use signpost_place::Look;

use crate::history::Record;
use crate::sectors;

/// The sectors that were written since a step, as they go back. Those of disks that are not here stay.
pub(super) fn sectors(look: &Look, since: &[&Record], notes: &mut Vec<String>) -> Vec<SectorWrite> {
    // For each place what was written there, in order.
    let mut all: Vec<Vec<&SectorWrite>> = Vec::new();
    for write in since.iter().flat_map(|record| &record.writes).filter_map(Change::sectors) {
        let is_there = |writes: &&mut Vec<&SectorWrite>| {
            writes.iter().any(|other| (&other.disk, other.offset) == (&write.disk, write.offset))
        };
        match all.iter_mut().find(is_there) {
            Some(writes) => writes.push(write),
            None => all.push(vec![write]),
        }
    }
    all.into_iter().rev().filter_map(|writes| back(look, &writes, notes)).collect()
}

fn back(look: &Look, writes: &[&SectorWrite], notes: &mut Vec<String>) -> Option<SectorWrite> {
    let first = *writes.first()?;
    if !look.survey.disks.iter().any(|disk| disk.identity() == Some(&first.disk)) {
        notes.push(format!("a sector of disk {} is out of reach; it stays as it is", first.disk));
        return None;
    }
    let before = first.before.as_deref()?;
    let wrote: Vec<&[u8]> = writes.iter().filter_map(|write| write.after.as_deref()).collect();
    let what = format!("undo: {}", first.what);
    let seen = sectors::now(look, writes.last()?);
    // A copy of the boot program, or a slot, goes back whole: nobody else writes there but the boot program, whose menu stays.
    if wrote.iter().copied().chain([before]).any(area::is_part) {
        let is_ours =
            |slot: &Slot| wrote.iter().chain([&before]).any(|bytes| Slot::decode(bytes).as_ref() == Ok(slot));
        if sectors::slot_at(look, first).is_some_and(|slot| !is_ours(&slot)) {
            notes.push(format!("{}: changed since at boot; it stays as it is", first.what));
            return None;
        }
        return Some(SectorWrite { what, before: None, after: Some(before.to_vec()), ..first.clone() });
    }
    let now = seen.or_else(|| wrote.last().map(|last| last.to_vec()))?;
    match merged(before, &wrote, &now) {
        Some(back) if back == now => None,
        Some(back) => Some(SectorWrite { what, before: Some(now), after: Some(back), ..first.clone() }),
        None => {
            notes.push(format!("{}: changed since by somebody else; it stays as it is", first.what));
            None
        }
    }
}

/// What stands there now, with what we changed as it was; nothing where somebody has changed that since. All that we wrote
/// counts: an undoing that was cut off may have been written, or not.
fn merged(before: &[u8], wrote: &[&[u8]], now: &[u8]) -> Option<Vec<u8>> {
    if before.len() != now.len() || wrote.iter().any(|wrote| wrote.len() != now.len()) {
        return None;
    }
    let byte = |at: usize| {
        let (was, is) = (before[at], now[at]);
        match () {
            () if wrote.iter().all(|wrote| wrote[at] == was) => Some(is),
            () if is == was || wrote.iter().any(|wrote| wrote[at] == is) => Some(was),
            () => None,
        }
    };
    (0..now.len()).map(byte).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_we_changed_goes_back() {
        assert_eq!(
            merged(b"code table", &[b"CODE table"], b"CODE TABLE").as_deref(),
            Some(&b"code TABLE"[..])
        );
        assert_eq!(
            merged(b"code table", &[b"CODE table"], b"code table").as_deref(),
            Some(&b"code table"[..])
        );
        assert_eq!(merged(b"code table", &[b"CODE table"], b"c0DE table"), None, "another's code stays");
        let cut_off: [&[u8]; 2] = [b"CODE", b"code"];
        assert_eq!(
            merged(b"code", &cut_off, b"CODE").as_deref(),
            Some(&b"code"[..]),
            "an undoing that was not written"
        );
        assert_eq!(merged(b"code", &cut_off, b"code").as_deref(), Some(&b"code"[..]), "and one that was");
        assert_eq!(merged(b"code", &[b"CODE"], b"COD"), None);
    }
}
