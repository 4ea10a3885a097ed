//! What the names in a policy mean on one machine.

use signpost_facts::System;
use signpost_menu::MenuDocument;
use signpost_place::Look;

use crate::named::{beginning, called};
use crate::resolve::resolve;
use crate::ways::meant_by;

/// A menu with the systems that its entries are for.
pub(super) struct Names<'a> {
    pub(super) look: &'a Look,
    pub(super) document: &'a MenuDocument,
    /// For each entry, the ids of its systems.
    systems: Vec<Vec<&'a str>>,
}

/// Why a name means no one entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Unmeant {
    /// Nothing here is called so.
    Nothing,
    /// It fits these entries, by their ids.
    Several(String),
}

impl<'a> Names<'a> {
    pub(super) fn new(look: &'a Look, document: &'a MenuDocument) -> Self {
        let of_entry = |resolved| meant_by(look, &resolved).into_iter().map(|system| system.id.as_str());
        let systems = resolve(look, document).into_iter().map(|resolved| of_entry(resolved).collect());
        Self { look, document, systems: systems.collect() }
    }

    /// The systems of this title or id; copies of one disk have several of a title.
    pub(super) fn systems(&self, name: &str) -> Vec<&'a System> {
        let lower = name.to_lowercase();
        let is_it = |system: &&System| system.id == name || system.title.to_lowercase() == lower;
        self.look.survey.systems.iter().filter(is_it).collect()
    }

    /// The systems that a name means before any entry: of that title or id; where no entry goes by the name, those that begin so.
    pub(super) fn systems_alone(&self, name: &str) -> Vec<&'a System> {
        match self.systems(name) {
            none if none.is_empty() && self.entries(name) == Err(Unmeant::Nothing) => {
                self.systems_beginning(name)
            }
            found => found,
        }
    }

    /// The systems whose title or id begins so, where that is one title.
    fn systems_beginning(&self, name: &str) -> Vec<&'a System> {
        let lower = name.to_lowercase();
        let begins = |system: &&System| {
            !lower.is_empty()
                && (system.id.starts_with(&lower) || system.title.to_lowercase().starts_with(&lower))
        };
        let found: Vec<&System> = self.look.survey.systems.iter().filter(begins).collect();
        let is_one = found.iter().all(|system| system.title == found[0].title);
        if is_one { found } else { Vec::new() }
    }

    /// The entries that a name means, by their indexes: one of that id or title, else those that stand at the top and start the
    /// system of that title or id, else the one whose id or title begins so.
    pub(super) fn entries(&self, name: &str) -> Result<Vec<usize>, Unmeant> {
        let one = |found: Vec<usize>| match found.as_slice() {
            [] => Err(Unmeant::Nothing),
            [_] => Ok(found),
            several => {
                let ids = several.iter().map(|index| self.document.entries[*index].id.as_str());
                Err(Unmeant::Several(ids.collect::<Vec<_>>().join(", ")))
            }
        };
        if let Some(found) = called(self.document, name) {
            return one(found);
        }
        let systems = self.systems(name);
        let all = self.only_for(|system| systems.iter().any(|wanted| wanted.id == system));
        let is_top = |index: &usize| self.document.entries[*index].group.is_none();
        let top: Vec<usize> = all.iter().copied().filter(is_top).collect();
        match (all.is_empty(), top.is_empty()) {
            (true, _) => one(beginning(self.document, name)),
            (false, true) => Ok(all),
            (false, false) => Ok(top),
        }
    }

    /// The entries that are for systems of a kind and for no other.
    pub(super) fn only_for(&self, is_of_kind: impl Fn(&str) -> bool) -> Vec<usize> {
        let is_it = |systems: &Vec<&str>| !systems.is_empty() && systems.iter().all(|id| is_of_kind(id));
        self.systems
            .iter()
            .enumerate()
            .filter(|(_, systems)| is_it(systems))
            .map(|(index, _)| index)
            .collect()
    }
}
