//! Copies of the last records on the home volume, so that a rescue medium can undo what the machine did, and the machine what
//! the rescue medium did.

use std::collections::BTreeSet;

use signpost_menu::slot::HOME_FOLDER;

use super::{Change, History, Record};
use crate::error::Result;
use crate::home;
use crate::plan::safe;
use crate::survey::Look;

/// Name of the file in the home folder.
const NAME: &str = "STEPS.JSN";
/// Records that are copied.
const MAX_COPIES: usize = 5;
/// No file of copies is longer, in bytes.
const MAX_LENGTH: usize = 1 << 20;

/// The path of the copies on a home volume.
pub(crate) fn path() -> String {
    format!("{HOME_FOLDER}/{NAME}")
}

impl History {
    /// The machine's records, with those that other systems of it left on the home volume.
    ///
    /// # Errors
    /// Where the machine's own cannot be read.
    pub fn of(look: &Look<'_>) -> Result<Self> {
        let mut history = Self::open(&look.machine.history_folder())?;
        history.take_in(read(look));
        Ok(history)
    }

    /// Takes in copies of records that are not among ours.
    fn take_in(&mut self, copies: Vec<Record>) {
        let oldest = self.records.first().map_or(0, |record| record.serial);
        for copy in copies {
            let is_known = self.record(copy.serial).is_some()
                || self.faults.iter().any(|(serial, _)| *serial == Some(copy.serial));
            if !is_known && copy.serial > oldest {
                self.records.push(copy);
            }
        }
        self.records.sort_by_key(|record| record.serial);
    }

    /// Writes copies of the last records onto the home volume, where there is one; where the last step took the home away, they
    /// go with it.
    ///
    /// # Errors
    /// Where they cannot be written; they are then as they were.
    pub fn copy_to_home(&self, look: &Look<'_>) -> Result<()> {
        let Some(home) = look.home() else { return self.take_copies_away(look) };
        let Some(location) = home::location(look, home) else { return Ok(()) };
        if safe::of_volume(look, home).is_some() {
            return Ok(());
        }
        let bytes = encode(&self.records);
        let before = look.machine.read_file(location, &path(), MAX_LENGTH).ok().flatten();
        if self.records.is_empty() || before.as_ref() == Some(&bytes) {
            return Ok(());
        }
        look.machine.write_file(location, &path(), Some(&bytes))
    }

    fn take_copies_away(&self, look: &Look<'_>) -> Result<()> {
        let written =
            self.records.last().into_iter().flat_map(|record| &record.writes).filter_map(Change::file);
        let volumes = written.filter_map(|write| home::volume_of(look, write));
        let left: BTreeSet<usize> = volumes
            .filter(|volume| home::slots(look, *volume).iter().all(std::result::Result::is_err))
            .collect();
        for location in left.into_iter().filter_map(|volume| home::location(look, volume)) {
            if look.machine.read_file(location, &path(), MAX_LENGTH)?.is_some() {
                look.machine.write_file(location, &path(), None)?;
            }
        }
        Ok(())
    }
}

/// The copies on the home volume. What cannot be read is none: the machine's own records do not depend on it.
fn read(look: &Look<'_>) -> Vec<Record> {
    let location = look.home().and_then(|home| home::location(look, home));
    let bytes = location.and_then(|location| look.machine.read_file(location, &path(), MAX_LENGTH).ok()?);
    let records = bytes.and_then(|bytes| serde_json::from_slice::<Vec<Record>>(&bytes).ok());
    let records = records.unwrap_or_default().into_iter().filter(|record| record.schema == crate::SCHEMA);
    records.filter(Record::is_sealed).map(without_contents).collect()
}

/// The last records, without what files held and without the variables that no step wrote: an ESP is small.
fn encode(records: &[Record]) -> Vec<u8> {
    let last = records.iter().skip(records.len().saturating_sub(MAX_COPIES));
    let mut copies: Vec<Record> = last.cloned().map(without_contents).collect();
    copies.iter_mut().for_each(Record::close);
    serde_json::to_vec(&copies).unwrap_or_default()
}

fn without_contents(mut record: Record) -> Record {
    record.snapshot.clear();
    record.is_copy = true;
    for change in &mut record.writes {
        if let Change::File(write) = change {
            write.is_left_out |= write.before.take().is_some();
        }
    }
    record
}
