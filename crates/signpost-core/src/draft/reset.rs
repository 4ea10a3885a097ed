//! One entry put back to what draft would write for it now.

use signpost_facts::{Error, Result};
use signpost_menu::ids::EntryId;
use signpost_place::Look;
use toml_edit::DocumentMut;

use super::base::{Base, Written};
use super::merge::fields_of;
use super::offer;
use super::offered::Place;
use super::text::section;
use crate::menu_file::MenuFile;
use crate::menu_text::MenuText;
use crate::named::find;
use crate::resolve::resolve;
use crate::ways::is_started_by;

/// The file's text with an entry as draft offers it now, in its place and in its group; its id, and what draft wrote then.
///
/// # Errors
/// Where there is no such entry, or draft offers none for what it starts.
pub fn reset(look: &Look, menu: &MenuFile, name: &str, mut base: Base) -> Result<(String, EntryId, Base)> {
    let (mut file, document) = MenuText::of(menu)?;
    let entry = &document.entries[find(&document, name)?];
    let resolved = resolve(look, &document);
    let (offers, left) = offer::all(look, document.settings.host, &resolved)?;
    let key = base.entries().find(|(_, written)| written.id == entry.id).map(|(key, _)| key.clone());
    let by_key = offers.iter().find(|offer| Some(&offer.key) == key.as_ref());
    let by_system = || {
        let target = resolved.iter().find(|own| own.entry.id == entry.id)?.target.as_ref().ok()?;
        let starts = |index: usize| {
            look.survey.systems.get(index).is_some_and(|system| is_started_by(look, system, target))
        };
        offers.iter().find(|offer| offer.system.is_some_and(starts))
    };
    let offer = by_key.or_else(by_system).ok_or_else(|| {
        let more =
            if left.is_empty() { String::new() } else { format!("; not offered: {}", left.join("; ")) };
        Error::WrongUse(format!(
            "draft offers nothing for {}: it was made by hand, or what it starts is not there{more}",
            entry.id
        ))
    })?;
    let mut shown = offer.clone();
    if let (Some(group), Place::In(_)) = (&entry.group, &offer.place) {
        shown.body.push(("in", group.as_str().into()));
    }
    let parsed: DocumentMut =
        section(&entry.id, &shown).parse().map_err(|error| Error::unusable(menu.path.display(), error))?;
    let new =
        parsed.get("entry").and_then(toml_edit::Item::as_array_of_tables).and_then(|all| all.get(0)).cloned();
    let new = new.ok_or_else(|| Error::WrongUse("the entry cannot be written".into()))?;
    let held = file.entry(&entry.id)?;
    let place = held.position();
    *held = new;
    held.set_position(place);
    let fields = fields_of(offer, entry.group.as_deref().filter(|_| matches!(offer.place, Place::In(_))));
    base.put(&offer.key, Written { id: entry.id.clone(), why: offer.why.clone(), fields });
    Ok((file.finish(&menu.path)?, entry.id.clone(), base))
}
