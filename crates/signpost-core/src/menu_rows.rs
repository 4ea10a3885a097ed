//! The menu as a table.

use serde::Serialize;
use signpost_menu::document::{Entry, Host};
use signpost_menu::ids::EntryId;
use signpost_menu::policy::ChosenBy;
use signpost_menu::resolve::{describe, resolve};
use signpost_menu::{MenuDocument, include};
use signpost_place::Look;

use crate::draft;
use crate::plan::host_cannot;
use crate::resolve::{home_or_chosen, opening};

/// A row of the menu, as facts.
#[derive(Clone, Debug, Serialize)]
pub struct MenuRow {
    /// Its number on the screen: its place in the menu, or in its group, from 1.
    pub number: usize,
    /// The entry's id.
    pub id: EntryId,
    /// Its title.
    pub title: String,
    /// Its kind.
    pub kind: &'static str,
    /// Whether it starts where nobody chooses.
    pub is_default: bool,
    /// Its group.
    pub group: Option<EntryId>,
    /// Whether it does not stand in the menu file, but was found as an entry file or unified image.
    pub is_included: bool,
    /// Whether what it starts is there.
    pub is_there: bool,
    /// What it starts, or why it cannot.
    pub starts: String,
    /// Why the menu's host cannot start it, though it is there.
    pub host_cannot: Option<String>,
    /// What else is worth saying.
    pub notes: Vec<String>,
}

/// The systems of the machine that no entry of the menu starts, each with the reason or the command that adds it.
pub fn left_out(look: &Look, document: &MenuDocument) -> Vec<String> {
    draft::left_out(look, document, &resolve(look, document))
}

/// The menu as a table of facts.
pub fn rows(look: &Look, document: &MenuDocument) -> Vec<MenuRow> {
    let mut document = document.clone();
    let is_ours = document.settings.host == Host::Signpost;
    include::complete(look, home_or_chosen(look).filter(|_| is_ours), &mut document);
    let document = &document;
    let resolved = resolve(look, document);
    let opening = opening(look, document, &resolved);
    let numbers = document.numbers();
    resolved
        .into_iter()
        .zip(numbers)
        .enumerate()
        .map(|(index, (resolved, number))| MenuRow {
            number,
            id: resolved.entry.id.clone(),
            title: resolved.entry.title.clone(),
            kind: resolved.entry.starts.word(),
            is_default: opening.chosen == Some(index) && opening.by != ChosenBy::Once,
            group: resolved.entry.group.clone(),
            is_included: resolved.entry.line == 0,
            is_there: resolved.target.is_ok(),
            starts: describe(look, &resolved),
            host_cannot: host_cannot(look, document.settings.host, &resolved),
            notes: resolved.notes.into_iter().chain(instead(resolved.entry)).collect(),
        })
        .collect()
}

/// What starts instead of an entry, and when.
fn instead(entry: &Entry) -> Option<String> {
    let fallback = entry.fallback.as_ref()?;
    Some(match entry.tries {
        Some(1) => format!("tried once, then {fallback}"),
        Some(tries) => format!("tried {tries} times, then {fallback}"),
        None => format!("else {fallback}"),
    })
}
