//! Changes to the menu file that keep everything else in it to the byte: comments, blank lines, order, line ends.

mod add;
mod entries;
mod keys;
mod tune;

use std::path::Path;

use signpost_menu::nearest::nearest;
use signpost_menu::{MenuDocument, document};
use toml_edit::{ArrayOfTables, DocumentMut, Item, TableLike, Value};

use crate::error::{Error, Result};
use crate::menu_file;

pub use add::{AddedEntry, NewEntry, add};
pub use entries::{HiddenThing, Where, edit, hidden, hide, move_entry, remove, rename, reveal, volume_named};
pub use keys::{KEYS, Key, values};
pub use tune::{Tuned, tune};

/// A byte order mark, as some editors leave it.
const MARK: char = '\u{feff}';

/// A menu file that is being changed.
struct MenuText {
    document: DocumentMut,
    has_mark: bool,
    has_crlf: bool,
}

impl MenuText {
    /// Takes a file that holds.
    fn load(path: &Path) -> Result<(Self, MenuDocument)> {
        let file = menu_file::load(path)?;
        let text = file.text.strip_prefix(MARK).unwrap_or(&file.text);
        let document = text.parse().map_err(|error| Error::unusable(path, error))?;
        let has_mark = file.text.starts_with(MARK);
        Ok((Self { document, has_mark, has_crlf: file.text.contains("\r\n") }, file.document))
    }

    /// The changed text, which must hold again.
    fn finish(self, path: &Path) -> Result<String> {
        let mut text = self.document.to_string();
        if self.has_crlf {
            text = text.replace("\r\n", "\n").replace('\n', "\r\n");
        }
        if self.has_mark {
            text.insert(0, MARK);
        }
        match menu_file::check(path, &text) {
            Ok(_) => Ok(text),
            // The lines are those of a file that is not written.
            Err(Error::MenuFile { problems, .. }) => {
                let all: Vec<String> = problems.into_iter().map(|problem| problem.message).collect();
                Err(wrong(format!("{}; nothing was written", all.join("; "))))
            }
            Err(error) => Err(error),
        }
    }

    /// The sections of this name, made where there are none.
    fn sections(&mut self, name: &str) -> Result<&mut ArrayOfTables> {
        let item = self.document.entry(name).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
        item.as_array_of_tables_mut().ok_or_else(|| {
            wrong(format!(
                "the file writes {name} in another way than as [[{name}]] sections; edit it by hand"
            ))
        })
    }
}

/// Sets a value; blanks before it and a comment behind it stay.
fn set(table: &mut dyn TableLike, key: &str, value: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(held) => {
            let decor = held.decor().clone();
            *held = value;
            *held.decor_mut() = decor;
        }
        None => {
            table.insert(key, Item::Value(value));
        }
    }
}

/// What was typed cannot be done, in words.
fn wrong(why: impl Into<String>) -> Error {
    Error::WrongUse(why.into())
}

/// The entry that a name means, by its index: its id, its title, or a start of either that fits no other.
///
/// # Errors
/// Where none or several do: which are near.
pub fn find(document: &MenuDocument, name: &str) -> Result<usize> {
    let lower = name.to_lowercase();
    let entries = &document.entries;
    let whole = |entry: &document::Entry| entry.id == name || entry.title.to_lowercase() == lower;
    let start = |entry: &document::Entry| {
        !lower.is_empty() && (entry.id.starts_with(&lower) || entry.title.to_lowercase().starts_with(&lower))
    };
    let matching = |is_it: &dyn Fn(&document::Entry) -> bool| -> Vec<usize> {
        entries.iter().enumerate().filter(|(_, entry)| is_it(entry)).map(|(index, _)| index).collect()
    };
    let mut found = matching(&whole);
    if found.is_empty() {
        found = matching(&start);
    }
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
        several => Err(wrong(format!("{name} may be each of {}; write more of it", ids(several)))),
    }
}
