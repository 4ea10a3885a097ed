//! Drafting: a menu file made or refreshed from a survey, three-way between what draft wrote last, what stands in the
//! file, and what the machine has now. What people changed by hand stays.

mod base;
mod kernels;
mod merge;
mod offer;
mod starts;
mod text;

use std::path::Path;

use serde::Serialize;
use signpost_menu::MenuDocument;
use signpost_menu::document::Host;

use crate::edit::MenuText;
use crate::error::Result;
use crate::home;
use crate::menu_file;
use crate::resolve::resolve;
use crate::survey::Look;

pub use base::Base;
pub use offer::is_started_by;
pub(crate) use offer::{Body, Offer, free_id};
pub(crate) use starts::{firmware_entry_body, newest_kernel};
pub(crate) use text::{Field, append};

/// A draft: the file's new text, and what is new, different and gone in it.
#[derive(Clone, Debug, Serialize)]
pub struct Draft {
    /// Version of this document.
    pub schema: u32,
    /// Whether the file is made now.
    pub is_new_file: bool,
    /// Entries that were added.
    pub added: Vec<DraftEntry>,
    /// What is different in entries that nobody had changed by hand, and entries that were taken out.
    pub changed: Vec<Line>,
    /// What would be different, where somebody has changed it by hand: that stays.
    pub kept: Vec<Line>,
    /// Entries that stand in the file and start nothing that is there.
    pub gone: Vec<Line>,
    /// Systems that were not taken up, each with the reason.
    pub left: Vec<String>,
    /// The file's text.
    #[serde(skip)]
    pub text: String,
    /// What the next draft compares with.
    #[serde(skip)]
    pub base: Base,
    /// Whether the text is another than the file's.
    #[serde(skip)]
    pub is_different: bool,
}

/// An entry that draft made.
#[derive(Clone, Debug, Serialize)]
pub struct DraftEntry {
    /// Its id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Why it starts in this way.
    pub why: String,
    /// The id of its group.
    pub group: Option<String>,
}

/// Something about an entry, on a line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Line {
    /// Its id.
    pub id: String,
    /// What there is to say.
    pub why: String,
}

/// Drafts the menu of a machine into the file at `path`, which is not written yet. `new_host` is who shows a menu
/// whose file is made now; `base` is what the last draft wrote.
///
/// # Errors
/// Where the file has errors, or a volume cannot be named.
pub fn draft(look: &Look<'_>, path: &Path, new_host: Host, base: Base) -> Result<Draft> {
    let existing = menu_file::load_text(path)?;
    let (mut file, document, host) = match &existing {
        Some(held) => (MenuText::new(path, &held.text)?, held.document.clone(), held.document.settings.host),
        None => {
            let text = text::head(&look.survey.machine.name, new_host);
            (MenuText::new(path, &text)?, MenuDocument::default(), new_host)
        }
    };
    let resolved = resolve(look, &document);
    let (offers, mut left) = offer::all(look, host, &resolved)?;
    // Without a file, nothing was taken out of it.
    let base = if existing.is_some() { base } else { Base::default() };
    let saved = take_in_what_was_saved_at_boot(look, path, &document, &mut file)?;
    let mut merged = merge::Merge::new(look, &document, &resolved, &offers, base).into(&mut file)?;
    left.append(&mut merged.left);
    if existing.is_none() {
        text::choose_default(&mut file, merged.added.first())?;
    }
    merged.added.extend(saved);
    let gone: Vec<Line> = resolved
        .into_iter()
        .filter(|entry| {
            !merged.taken_out.contains(&entry.entry.id) && !merged.replaced.contains(&entry.entry.id)
        })
        .filter_map(|entry| Some(Line { id: entry.entry.id.clone(), why: entry.target.err()? }))
        .collect();
    merge::mark_gone(&mut file, &document, &gone)?;
    let text = file.finish(path)?;
    Ok(Draft {
        schema: crate::SCHEMA,
        is_new_file: existing.is_none(),
        is_different: existing.is_none_or(|file| file.text != text),
        added: merged.added,
        changed: merged.changed,
        kept: merged.kept,
        gone,
        left,
        text,
        base: merged.base,
    })
}

/// Entries that somebody saved at the prompt, at boot, come behind all others.
fn take_in_what_was_saved_at_boot(
    look: &Look<'_>,
    path: &Path,
    document: &MenuDocument,
    file: &mut MenuText,
) -> Result<Vec<DraftEntry>> {
    let Some((ids, text)) = home::news_from_boot(look, document) else { return Ok(Vec::new()) };
    let mut slot = MenuText::new(path, &text)?;
    let held = signpost_menu::parse_leniently(&text).0.unwrap_or_default();
    let mut taken = Vec::new();
    for id in ids {
        let place = file.list().len();
        file.insert_entry(place, &slot.block(&id)?)?;
        let title = held.entry(&id).map_or_else(|| id.clone(), |entry| entry.title.clone());
        taken.push(DraftEntry { id, title, why: "was saved at the prompt, at boot".into(), group: None });
    }
    Ok(taken)
}
