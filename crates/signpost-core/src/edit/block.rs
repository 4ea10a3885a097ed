//! One entry as a text by itself, for an editor.

use signpost_facts::Result;
use signpost_menu::ids::EntryId;
use toml_edit::{DocumentMut, Item};

use super::wrong;
use crate::menu_file::MenuFile;
use crate::menu_text::MenuText;
use crate::named::find;

/// The text of an entry's section with the comments before it, and the entry's id.
///
/// # Errors
/// Where there is no such entry.
pub fn block(menu: &MenuFile, name: &str) -> Result<(String, EntryId)> {
    let (mut text, document) = MenuText::of(menu)?;
    let id = document.entries[find(&document, name)?].id.clone();
    Ok((text.block(&id)?.trim_start_matches(['\r', '\n']).replace("\r\n", "\n"), id))
}

/// The file's text with another section for the entry of this id; and the entry's id then.
///
/// # Errors
/// Where the text is not one section, or the file would not hold with it: what is wrong.
pub fn replace_block(menu: &MenuFile, id: &str, block: &str) -> Result<(String, EntryId)> {
    let (mut text, _) = MenuText::of(menu)?;
    let parsed: DocumentMut =
        block.parse().map_err(|error| wrong(format!("the entry does not read: {error}")))?;
    let sections = parsed.get("entry").and_then(Item::as_array_of_tables);
    let only = sections.filter(|sections| sections.len() == 1 && parsed.iter().count() == 1);
    let Some(new) = only.and_then(|sections| sections.get(0)) else {
        return Err(wrong(
            "the text is not one [[entry]] section; `signpost entry add` makes further ones, `signpost entry remove` takes one out",
        ));
    };
    let new_id = new.get("id").and_then(Item::as_str).unwrap_or(id).to_string();
    let held = text.entry(id)?;
    let place = held.position();
    let blank = held.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default();
    let blank: String = blank.chars().take_while(|c| matches!(c, '\r' | '\n')).collect();
    let own = new.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default();
    let prefix = format!("{blank}{}", own.trim_start_matches(['\r', '\n']));
    *held = new.clone();
    held.set_position(place);
    held.decor_mut().set_prefix(prefix);
    Ok((text.finish(&menu.path)?, new_id.into()))
}
