//! Changes to the menu file that keep everything else in it to the byte: comments, blank lines, order, line ends.

mod add;
mod assignments;
mod block;
mod entries;
mod menu_text;
mod noise;
mod policy;
mod tune;

use signpost_menu::ids::EntryId;
use std::path::Path;

pub use add::{AddedEntry, Kernel, NewEntry, add};
pub use block::{block, replace_block};
pub use entries::{HiddenThing, Where, edit, hidden, hide, loses, move_entry, remove, rename, reveal};
pub(crate) use menu_text::{HOST_COMMENTS, MenuText, set};
pub use noise::{Noise, Quiet, noise, quieten};
pub use policy::{OWN_KEYS, OwnKey, Policy, Refreshed};
use signpost_facts::{Error, Result};
pub use signpost_menu::keys::{KEYS, Key};
use signpost_menu::nearest::nearest;
use signpost_menu::{MenuDocument, document};
pub use tune::{Difference, Setting, Tuned, look_file, tune, tune_look};

pub use crate::draft::reset;

/// What was typed cannot be done, in words.
fn wrong(why: impl Into<String>) -> Error {
    Error::WrongUse(why.into())
}

/// The entry that a name means, by its index: its id, its title, or a start of either that fits no other.
///
/// # Errors
/// Where none or several do: which are near.
pub fn find(document: &MenuDocument, name: &str) -> Result<usize> {
    let entries = &document.entries;
    let found = called(document, name).unwrap_or_else(|| beginning(document, name));
    let ids = |found: &[usize]| {
        found.iter().map(|index| entries[*index].id.as_str()).collect::<Vec<_>>().join(", ")
    };
    match found.as_slice() {
        [one] => Ok(*one),
        [] => {
            let names = entries.iter().flat_map(|entry| [entry.id.as_str(), entry.title.as_str()]);
            let hint = match nearest(name, names) {
                Some(near) => format!("did you mean {near}?"),
                None => format!("there are {}", ids(&(0..entries.len()).collect::<Vec<_>>())),
            };
            Err(wrong(format!("there is no entry {name}; {hint}")))
        }
        several => Err(wrong(format!("{name} is ambiguous: it fits {}; write more of it", ids(several)))),
    }
}

/// The entries that are called so: by its id one, else by their title; `None` where none is.
fn called(document: &MenuDocument, name: &str) -> Option<Vec<usize>> {
    let lower = name.to_lowercase();
    // An id names one entry, whatever others are called.
    let by_id = matching(document, |entry| entry.id == name);
    let found = if by_id.is_empty() {
        matching(document, |entry| entry.title.to_lowercase() == lower)
    } else {
        by_id
    };
    Some(found).filter(|found| !found.is_empty())
}

/// The entries whose id or title begins so.
fn beginning(document: &MenuDocument, name: &str) -> Vec<usize> {
    let lower = name.to_lowercase();
    matching(document, |entry| {
        !lower.is_empty() && (entry.id.starts_with(&lower) || entry.title.to_lowercase().starts_with(&lower))
    })
}

fn matching(document: &MenuDocument, is_it: impl Fn(&document::Entry) -> bool) -> Vec<usize> {
    document.entries.iter().enumerate().filter(|(_, entry)| is_it(entry)).map(|(index, _)| index).collect()
}

/// The id of the group that a name means.
///
/// # Errors
/// Where it is not a group's.
pub fn find_group(document: &MenuDocument, name: &str) -> Result<EntryId> {
    let group = &document.entries[find(document, name)?];
    if group.starts != document::Starts::Group {
        return Err(wrong(format!("{} is not a group; an entry with starts = \"group\" is one", group.id)));
    }
    Ok(group.id.clone())
}

/// A menu file's text with another default.
///
/// # Errors
/// Where it would not hold.
pub(crate) fn with_default(path: &Path, text: &str, id: &str) -> Result<String> {
    let mut file = MenuText::new(path, text)?;
    file.set_in("menu", "default", id.into())?;
    file.finish(path)
}
