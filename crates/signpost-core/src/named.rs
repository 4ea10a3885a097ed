//! The entry of a menu that a name means.

use signpost_facts::{Error, Result};
use signpost_menu::ids::EntryId;
use signpost_menu::nearest::nearest;
use signpost_menu::{MenuDocument, document};

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
            Err(Error::WrongUse(format!("there is no entry {name}; {hint}")))
        }
        several => {
            Err(Error::WrongUse(format!("{name} is ambiguous: it fits {}; write more of it", ids(several))))
        }
    }
}

/// The entries that are called so: by its id one, else by their title; `None` where none is.
pub(crate) fn called(document: &MenuDocument, name: &str) -> Option<Vec<usize>> {
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
pub(crate) fn beginning(document: &MenuDocument, name: &str) -> Vec<usize> {
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
        return Err(Error::WrongUse(format!(
            "{} is not a group; an entry with starts = \"group\" is one",
            group.id
        )));
    }
    Ok(group.id.clone())
}
