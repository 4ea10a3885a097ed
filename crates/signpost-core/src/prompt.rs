//! The prompt at the desk: a surveyed machine in the language that the boot program speaks too.

use signpost_facts::{Error, Result};
use signpost_menu::document::Entry;
use signpost_menu::ids;
use signpost_menu::ids::EntryId;

use crate::draft::{self, Field, Offer};
use crate::edit;
use crate::menu_file::{self, MenuFile};

/// The menu file's text with an entry that was composed at the prompt, and the entry's id; `body` are its keys with values
/// as the file writes them.
///
/// # Errors
/// Where the file has errors, or would not hold.
pub fn save(
    menu: &MenuFile,
    title: &str,
    is_default: bool,
    body: &[(&'static str, String)],
) -> Result<(String, EntryId)> {
    let mut fields = Vec::new();
    for (key, value) in body {
        let read = format!("{key} = {value}").parse::<toml_edit::DocumentMut>();
        let field = read.ok().and_then(|read| Field::of_item(&read[*key]));
        fields.push((*key, field.ok_or_else(|| Error::WrongUse(format!("{key} = {value} is not a value")))?));
    }
    let taken: Vec<EntryId> = menu.document.entries.iter().map(|entry: &Entry| entry.id.clone()).collect();
    let id = draft::free_id(&ids::slug(title, "system"), &taken);
    let offer = Offer::by_hand(title.to_string(), (fields, "composed at the prompt".into()));
    let text = draft::append(&menu.text, &id, &offer);
    menu_file::check(&menu.path, &text)?;
    let text = if is_default { edit::with_default(&menu.path, &text, &id)? } else { text };
    Ok((text, id))
}
