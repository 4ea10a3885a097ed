//! Copies of the last records on the home volume, so that a rescue medium can undo what the machine did, and the machine what
//! the rescue medium did.

use serde_json::Value;
use signpost_facts::SCHEMA;
use signpost_facts::change::Change;
use signpost_menu::slot::HOME_FOLDER;

use super::{History, Record};

/// Name of the file in the home folder.
const NAME: &str = "STEPS.JSN";
/// Records that are copied.
const MAX_COPIES: usize = 5;
/// No file of copies is longer, in bytes.
pub const MAX_LENGTH: usize = 1 << 20;

/// The path of the copies on a home volume.
pub fn path() -> String {
    format!("{HOME_FOLDER}/{NAME}")
}

impl History {
    /// Takes in copies of records that are not among ours; where only a copy was known, what is whole takes its place.
    pub fn take_in(&mut self, copies: Vec<Record>) {
        let oldest = self.records.first().map_or(0, |record| record.serial);
        for copy in copies {
            let held = self.records.iter_mut().find(|record| record.serial == copy.serial && record.is_copy);
            if let Some(held) = held.filter(|_| !copy.is_copy) {
                *held = copy;
                continue;
            }
            let is_known = self.record(copy.serial).is_some()
                || self.faults.iter().any(|(serial, _)| *serial == Some(copy.serial));
            if !is_known && copy.serial > oldest {
                self.records.push(copy);
            }
        }
        self.records.sort_by_key(|record| record.serial);
    }
}

/// The records in these bytes. What cannot be read is none: the machine's own records do not depend on it.
pub fn decode(bytes: &[u8]) -> Vec<Record> {
    let documents = serde_json::from_slice::<Vec<Value>>(bytes).unwrap_or_default();
    let records = documents.into_iter().filter_map(|document| Record::read(document).ok());
    records.filter(|record| record.schema == SCHEMA).map(without_contents).collect()
}

/// The last records, without what files held and without the variables that no step wrote: an ESP is small.
pub fn encode(records: &[Record]) -> Vec<u8> {
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
