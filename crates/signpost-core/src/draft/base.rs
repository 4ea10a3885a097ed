//! What draft wrote last: the third side of a refresh, which tells a change by hand from a change of the machine.

use signpost_menu::ids::EntryId;
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::field::Field;

const FORMAT: u32 = 1;

/// What draft wrote last, by what each entry is for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Base {
    format: u32,
    entries: BTreeMap<String, Written>,
}

/// An entry as draft wrote it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Written {
    pub(super) id: EntryId,
    pub(super) why: String,
    pub(super) fields: BTreeMap<String, Field>,
}

impl Default for Base {
    fn default() -> Self {
        Self { format: FORMAT, entries: BTreeMap::new() }
    }
}

impl Base {
    /// Whether it is of this version; one of another says nothing.
    pub fn is_current(&self) -> bool {
        self.format == FORMAT
    }

    /// Forgets an entry, so that it is offered again.
    pub fn forget(&mut self, id: &str) {
        self.entries.retain(|_, written| written.id != id);
    }

    /// Forgets every entry that is not among these ids.
    pub fn forget_all_but(&mut self, ids: &[EntryId]) {
        self.entries.retain(|_, written| ids.contains(&written.id));
    }

    pub(super) fn get(&self, key: &str) -> Option<&Written> {
        self.entries.get(key)
    }

    pub(super) fn put(&mut self, key: &str, written: Written) {
        self.entries.insert(key.to_string(), written);
    }

    pub(super) fn drop_key(&mut self, key: &str) {
        self.entries.remove(key);
    }

    pub(super) fn entries(&self) -> impl Iterator<Item = (&String, &Written)> {
        self.entries.iter()
    }
}
