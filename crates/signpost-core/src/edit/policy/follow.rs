//! Making a menu file say what a policy says.

use std::path::Path;

use signpost_facts::{Error, Result};
use signpost_menu::document::{DefaultEntry, Entry, Hidden, Host, Starts};
use signpost_menu::ids::EntryId;
use signpost_menu::keys;
use signpost_menu::nearest::nearest;
use signpost_menu::{MenuDocument, Problem};
use signpost_place::Look;
use toml_edit::{Key, Value};

use super::names::{Names, Unmeant};
use super::{HIDE, Named, ORDER, OWN_KEYS, Policy, TITLES};
use crate::edit::KEYS;
use crate::edit::assignments::{Position, Wanted};
use crate::edit::entries::last_way;
use crate::edit::tune::{self, Difference, LOOK, Tuned};
use crate::menu_text::{MenuText, set};
use crate::recipe::Recipes;

impl Policy {
    /// The text of a menu file with what the policy says; the rest of it stays. What fits nothing on this machine is noted.
    ///
    /// # Errors
    /// Where the policy asks for what cannot be, or, being strict, for what fits nothing: all of it at once, with line and column.
    pub fn follow(&self, look: &Look, recipes: &Recipes, path: &Path, text: &str) -> Result<Tuned> {
        let mut said = Said::default();
        let text = self.with_images((look, recipes), path, text, &mut said)?;
        let mut tuned = tune::change(path, &text, |text, before| {
            let mut follower =
                Follower { policy: self, names: Names::new(look, before), text, said: &mut said };
            follower.settings();
            let (removed, hides) = follower.hidden();
            follower.titles()?;
            follower.take_out(&removed, &hides)?;
            follower.order(&removed)?;
            let mut problems = std::mem::take(&mut said.problems);
            if self.is_strict {
                problems.append(&mut said.unfit);
            }
            problems.sort_by_key(|problem| (problem.line, problem.column));
            if problems.is_empty() {
                return Ok(());
            }
            Err(Error::MenuFile { file: self.file.display().to_string(), problems })
        })?;
        let note = |problem: Problem| format!("{} (line {})", problem.message, problem.line);
        tuned.notes = said.unfit.into_iter().map(note).collect();
        tuned.entries = said.differences;
        tuned.hidden = said.removed;
        Ok(tuned)
    }
}

/// What came of it.
#[derive(Default)]
pub(super) struct Said {
    pub(super) problems: Vec<Problem>,
    /// What fits nothing.
    pub(super) unfit: Vec<Problem>,
    pub(super) differences: Vec<Difference>,
    /// The entries that are taken out.
    removed: Vec<EntryId>,
}

/// What is said of a key that there is not.
fn unknown(name: &str) -> String {
    let keys = KEYS.iter().map(|key| key.name).chain(OWN_KEYS.map(|key| key.name));
    match nearest(name, keys) {
        Some(near) => format!("there is no key {name}; did you mean {near}?"),
        None => format!("there is no key {name}; `signpost policy --keys` shows those that there are"),
    }
}

impl Said {
    pub(super) fn fits_nothing(&mut self, key: &str, named: &Named) {
        let message = format!("{key}: no system and no entry here is called {}", named.name);
        self.unfit.push(named.at.problem(message));
    }

    pub(super) fn differs(&mut self, key: String, value: String, before: String) {
        self.differences.push(Difference { key, value, before });
    }
}

struct Follower<'a, 't> {
    policy: &'a Policy,
    names: Names<'a>,
    text: &'t mut MenuText,
    said: &'t mut Said,
}

impl<'a> Follower<'a, '_> {
    fn document(&self) -> &'a MenuDocument {
        self.names.document
    }

    fn entry(&self, index: usize) -> &'a Entry {
        &self.document().entries[index]
    }

    /// The keys of `tune`.
    fn settings(&mut self) {
        let host = self.policy.host().unwrap_or(self.document().settings.host);
        let has_linux = self.document().entries.iter().any(|entry| matches!(entry.starts, Starts::Linux(_)));
        for wanted in &self.policy.settings {
            let Some(table) = keys::find(&wanted.name).map(|key| key.table) else {
                self.said.problems.push(wanted.at.problem(unknown(&wanted.name)));
                continue;
            };
            let value = match self.value(wanted) {
                Ok(Some(value)) => value,
                Ok(None) => continue,
                Err(message) => {
                    self.said.problems.push(wanted.at.problem(message));
                    continue;
                }
            };
            match tune::assign_value(self.text, self.document(), (&wanted.name, &value)) {
                Err(message) => self.said.problems.push(wanted.at.problem(message)),
                Ok(()) if table == "kernel" && !has_linux => {
                    let why =
                        format!("{}: no entry of this menu starts a Linux kernel by itself", wanted.name);
                    self.said.unfit.push(wanted.at.problem(why));
                }
                Ok(()) if table == LOOK && host == Host::Firmware => {
                    let why = format!("{}: the firmware shows this menu, in a look of its own", wanted.name);
                    self.said.unfit.push(wanted.at.problem(why));
                }
                Ok(()) => {}
            }
        }
    }

    /// The value of a key here: a default's is an entry's id. Nothing where it fits nothing.
    fn value(&mut self, wanted: &Wanted) -> std::result::Result<Option<String>, String> {
        if wanted.name != "default" || matches!(wanted.value.as_str(), "first" | "last-started") {
            return Ok(Some(wanted.value.clone()));
        }
        let named = Named { name: wanted.value.clone(), at: wanted.at };
        let found = self.meant("default", &named)?;
        Ok(found.first().map(|index| self.entry(*index).id.to_string()))
    }

    /// The entries that a name means; none, with a note, where it fits nothing. What the policy itself gives another title goes
    /// by both.
    fn meant(&mut self, key: &str, named: &Named) -> std::result::Result<Vec<usize>, String> {
        let both = self.policy.titles.iter().find_map(|(own, title)| match &named.name {
            name if *name == own.name => Some(title),
            name if name == title => Some(&own.name),
            _ => None,
        });
        let found = match (self.names.entries(&named.name), both) {
            (Err(Unmeant::Nothing), Some(other)) => self.names.entries(other),
            (found, _) => found,
        };
        match found {
            Ok(found) => Ok(found),
            Err(Unmeant::Several(ids)) => {
                Err(format!("{key}: {} is ambiguous: it fits {ids}; write more of it", named.name))
            }
            Err(Unmeant::Nothing) => {
                self.said.fits_nothing(key, named);
                Ok(Vec::new())
            }
        }
    }

    fn meant_or_told(&mut self, key: &str, named: &Named) -> Vec<usize> {
        self.meant(key, named).unwrap_or_else(|message| {
            self.said.problems.push(named.at.problem(message));
            Vec::new()
        })
    }

    /// What becomes the default.
    fn default(&self) -> Option<EntryId> {
        let held = self.text.document.get("menu").and_then(|menu| menu.get("default"));
        let written = held.and_then(|value| value.as_str()).map(EntryId::from);
        match (&self.document().settings.default, written) {
            (_, Some(id)) if self.document().entry(&id).is_some() => Some(id),
            (DefaultEntry::Id(id), None) => Some(id.clone()),
            _ => None,
        }
    }

    /// The entries that are hidden, by their indexes, and what is newly to be hidden.
    fn hidden(&mut self) -> (Vec<usize>, Vec<Hidden>) {
        let policy = self.policy;
        let (mut removed, mut hides) = (Vec::new(), Vec::new());
        // Where the first entry is hidden by its own name.
        let mut by_name = None;
        for named in &policy.hidden {
            let systems = self.names.systems_alone(&named.name);
            let own = if systems.is_empty() {
                let is_hidden = self.document().hidden.iter().any(|hide| match &hide.what {
                    Hidden::Entry(id) => **id == *named.name,
                    Hidden::System(title) => *title == named.name,
                    Hidden::Volume(_) | Hidden::File(_) => false,
                });
                if is_hidden {
                    continue;
                }
                let found = self.meant_or_told(HIDE, named);
                hides.extend(found.iter().map(|index| Hidden::Entry(self.entry(*index).id.clone())));
                by_name = by_name.or(found.first().map(|_| named.at));
                self.with_members(found)
            } else {
                hides.extend(systems.iter().map(|system| Hidden::System(system.title.clone())));
                self.names.only_for(|id| systems.iter().any(|system| system.id == id))
            };
            self.refuse_default(&own, named.at);
            removed.extend(own);
        }
        removed.extend(self.left_empty(&removed));
        removed.sort_unstable();
        removed.dedup();
        hides.retain(|hide| self.document().hidden.iter().all(|held| held.what != *hide));
        if let Some(at) = by_name {
            self.refuse_last_way(&removed, at);
        }
        (removed, hides)
    }

    fn refuse_default(&mut self, entries: &[usize], at: Position) {
        let default = self.default();
        if let Some(index) = entries.iter().find(|index| Some(&self.entry(**index).id) == default.as_ref()) {
            let message = format!("{HIDE}: {} is the default; name another one first", self.entry(*index).id);
            self.said.problems.push(at.problem(message));
        }
    }

    /// An entry that is the last to start a system is not hidden; who wants the system gone hides the system.
    fn refuse_last_way(&mut self, removed: &[usize], at: Position) {
        let mut after = self.document().clone();
        let stays = after.entries.into_iter().enumerate().filter(|(index, _)| !removed.contains(index));
        after.entries = stays.map(|(_, entry)| entry).collect();
        let unwanted: Vec<_> =
            self.policy.hidden.iter().flat_map(|named| self.names.systems(&named.name)).collect();
        let is_unwanted = |system: &signpost_facts::System| unwanted.iter().any(|own| own.id == system.id);
        if let Some(refusal) = last_way(self.names.look, self.document(), &after, &is_unwanted) {
            let message = format!("{HIDE}: {}; hide the system by its own title", refusal.message);
            self.said.problems.push(at.problem(message));
        }
    }

    /// A group is hidden with all that is in it.
    fn with_members(&self, found: Vec<usize>) -> Vec<usize> {
        let groups: Vec<&EntryId> = found.iter().map(|index| &self.entry(*index).id).collect();
        let entries = self.document().entries.iter().enumerate();
        let members =
            entries.filter(|(_, entry)| entry.group.as_ref().is_some_and(|own| groups.contains(&own)));
        members.map(|(index, _)| index).chain(found.iter().copied()).collect()
    }

    /// The groups of which nothing is left.
    fn left_empty(&self, removed: &[usize]) -> Vec<usize> {
        let entries = &self.document().entries;
        let is_empty = |group: &Entry| {
            let members =
                || entries.iter().enumerate().filter(|(_, entry)| entry.group.as_ref() == Some(&group.id));
            group.starts == Starts::Group
                && members().count() > 0
                && members().all(|(index, _)| removed.contains(&index))
        };
        entries.iter().enumerate().filter(|(_, entry)| is_empty(entry)).map(|(index, _)| index).collect()
    }

    fn titles(&mut self) -> Result<()> {
        let policy = self.policy;
        for (named, title) in &policy.titles {
            let Some(index) = self.meant_or_told(TITLES, named).first().copied() else { continue };
            let entry = self.entry(index);
            if entry.title != *title {
                set(self.text.entry(&entry.id)?, "title", Value::from(title));
                let name = Key::new(&named.name).to_string();
                self.said.differs(format!("{TITLES}.{}", name.trim()), title.clone(), entry.title.clone());
            }
        }
        Ok(())
    }

    fn take_out(&mut self, removed: &[usize], hides: &[Hidden]) -> Result<()> {
        for hide in hides {
            let (key, value) = match hide {
                Hidden::Entry(id) => ("entry", id.to_string()),
                Hidden::System(title) => ("system", title.clone()),
                Hidden::Volume(_) | Hidden::File(_) => continue,
            };
            self.text.hide(key, &value, None)?;
            self.said.differs(HIDE.into(), value.clone(), "not hidden".into());
        }
        for index in removed {
            let id = &self.entry(*index).id;
            self.text.remove_entry(id)?;
            self.said.removed.push(id.clone());
            if hides.is_empty() {
                self.said.differs(HIDE.into(), id.to_string(), "not hidden".into());
            }
        }
        Ok(())
    }

    /// What is named comes first; members of a group stand for it.
    fn order(&mut self, removed: &[usize]) -> Result<()> {
        let policy = self.policy;
        let mut first: Vec<usize> = Vec::new();
        for named in &policy.order {
            for index in self.meant_or_told(ORDER, named) {
                let group = self.entry(index).group.as_ref();
                let group =
                    group.and_then(|group| self.document().entries.iter().position(|e| e.id == *group));
                let index = group.unwrap_or(index);
                if !first.contains(&index) {
                    first.push(index);
                }
            }
        }
        let held: Vec<usize> =
            (0..self.document().entries.len()).filter(|index| !removed.contains(index)).collect();
        first.retain(|index| held.contains(index));
        let rest = held.iter().copied().filter(|index| !first.contains(index));
        let then: Vec<usize> = first.iter().copied().chain(rest).collect();
        if then == held {
            return Ok(());
        }
        // What is taken out is no longer counted.
        let places: Vec<usize> =
            then.iter().filter_map(|index| held.iter().position(|own| own == index)).collect();
        self.text.reorder(&places)?;
        let (then, before) = (self.ids(&then), self.ids(&held));
        self.said.differs(ORDER.into(), then, before);
        Ok(())
    }

    /// The ids of what stands at the top.
    fn ids(&self, entries: &[usize]) -> String {
        let top = entries.iter().map(|index| self.entry(*index)).filter(|entry| entry.group.is_none());
        top.map(|entry| entry.id.as_str()).collect::<Vec<_>>().join(", ")
    }
}
