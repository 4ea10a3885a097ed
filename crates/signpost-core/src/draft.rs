//! Drafting: a menu file made or refreshed from a survey, three-way between what draft wrote last, what stands in the
//! file, and what the machine has now. What people changed by hand stays.

mod base;
mod field;
mod kernels;
mod limit;
mod merge;
mod offer;
mod offered;
mod reset;
mod starts;
mod symbol;
mod text;

use std::path::Path;

pub use base::Base;
pub(crate) use field::Field;
pub(crate) use offer::{free_id, is_hidden, left_out};
use offered::Place;
pub(crate) use offered::{Body, Offer};
pub use offered::{DraftEntry, Line};
pub use reset::reset;
use serde::Serialize;
use signpost_facts::{Result, System};
use signpost_menu::MenuDocument;
use signpost_menu::document::{Hidden, Hide, Host};
use signpost_menu::ids::EntryId;
use signpost_place::Look;
pub(crate) use starts::{firmware_entry_body, newest_kernel};
pub(crate) use text::append;

use crate::menu_file::MenuFile;
use crate::menu_text::MenuText;
use crate::news::News;
use crate::resolve::resolve;
use crate::ways::{self, Reach};

/// A draft: the file's new text, and what is new, different and gone in it.
#[derive(Clone, Debug, Serialize)]
pub struct Draft {
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
    /// Entries that stand in the file, and whose disk or volume is not attached, or cannot be read now.
    pub out_of_reach: Vec<Line>,
    /// Systems that were not taken up, each with the reason.
    pub left: Vec<String>,
    /// What was decided at boot, in full.
    pub saved: Vec<Saved>,
    /// Whether that is taken into the file.
    pub takes_saved: bool,
    /// Where a new file was begun from the menu that is active: whose that is.
    pub begun_from: Option<String>,
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

/// What was decided at boot, and is not in the menu file yet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Saved {
    /// The entry's id.
    pub id: EntryId,
    /// What it is: `added`, `changed`, or `default`.
    pub what: SavedKind,
    /// The entry as it would stand in the file; nothing for a default.
    pub text: String,
}

/// What was done at boot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SavedKind {
    /// An entry was put into the menu.
    Added,
    /// An entry was changed.
    Changed,
    /// An entry was kept as the default.
    Default,
}

/// What is asked of a draft.
#[derive(Clone, Copy, Debug)]
pub struct Wishes {
    /// Who shows a menu whose file is made now.
    pub new_host: Host,
    /// Whether what was decided at boot is taken in.
    pub takes_saved: bool,
    /// Whether snapshots stay out of the menu, from now on.
    pub hides_snapshots: bool,
}

/// Drafts the menu of a machine into the file at `path`, which is not written yet; `existing` is what stands there now, `base`
/// what the last draft wrote.
///
/// # Errors
/// Where the file has errors, or a volume cannot be named.
pub fn draft(
    look: &Look,
    path: &Path,
    existing: Option<&MenuFile>,
    wishes: Wishes,
    base: Base,
) -> Result<Draft> {
    let host = existing.map_or(wishes.new_host, |held| held.document.settings.host);
    let none = MenuDocument::default();
    let resolved = resolve(look, existing.map_or(&none, |held| &held.document));
    let (mut offers, mut left) = offer::all(look, host, &resolved)?;
    loop {
        let draft = merged(look, path, existing, wishes, base.clone(), (&offers, &left))?;
        let count = match limit::excess(&draft.text, host) {
            0 => 0,
            excess => limit::leave_out(&mut offers, excess),
        };
        if count == 0 {
            return Ok(draft);
        }
        left.push(format!("{count} entries of the longest groups, the oldest: the menu would be too long"));
    }
}

/// Merges what is offered into the file.
fn merged(
    look: &Look,
    path: &Path,
    existing: Option<&MenuFile>,
    wishes: Wishes,
    base: Base,
    (offers, left): (&[Offer], &[String]),
) -> Result<Draft> {
    let (mut file, mut document) = match existing {
        Some(held) => (MenuText::new(path, &held.text)?, held.document.clone()),
        None => {
            let text = text::head(&look.survey.machine.name, wishes.new_host, look.survey.machine.firmware);
            (MenuText::new(path, &text)?, MenuDocument::default())
        }
    };
    let mut offers = offers.to_vec();
    if wishes.hides_snapshots {
        hide_snapshots(&mut file, &mut document, &mut offers)?;
    }
    let resolved = resolve(look, &document);
    // Without a file, nothing was taken out of it.
    let base = if existing.is_some() { base } else { Base::default() };
    let all_news = News::of(look, &document);
    let saved_at_boot = saved_at_boot(path, &all_news)?;
    let news = if wishes.takes_saved { all_news } else { News::default() };
    let saved = take_in_what_was_saved_at_boot(path, &news, &mut file)?;
    let mut merged = merge::Merge::new(look, &document, &resolved, &offers, base).into(&mut file)?;
    merged.left.splice(..0, left.iter().cloned());
    if existing.is_none() {
        text::choose_default(&mut file, merged.added.first())?;
    }
    merged.added.extend(saved);
    merged.changed.extend(take_in_what_was_changed_at_boot(path, &news, &mut file)?);
    let (mut gone, mut out_of_reach) = (Vec::new(), Vec::new());
    for entry in &resolved {
        let id = &entry.entry.id;
        let Err(fault) = &entry.target else { continue };
        if merged.taken_out.contains(id) || merged.replaced.contains(id) || news.changed.contains(id) {
            continue;
        }
        let line = Line { id: id.clone(), why: fault.to_string() };
        match ways::of_entry(look, entry) {
            Reach::OutOfReach => out_of_reach.push(line),
            Reach::Gone | Reach::There => gone.push(line),
        }
    }
    merge::mark_gone(&mut file, &document, &gone)?;
    let text = file.finish(path)?;
    Ok(Draft {
        is_new_file: existing.is_none(),
        is_different: existing.is_none_or(|file| file.text != text),
        added: merged.added,
        changed: merged.changed,
        kept: merged.kept,
        gone,
        out_of_reach,
        left: merged.left,
        saved: saved_at_boot,
        takes_saved: wishes.takes_saved,
        begun_from: None,
        text,
        base: merged.base,
    })
}

/// Says in the file that groups of snapshots are not wanted, and offers them no more.
fn hide_snapshots(file: &mut MenuText, document: &mut MenuDocument, offers: &mut Vec<Offer>) -> Result<()> {
    let groups: Vec<Offer> = offers.iter().filter(|offer| kernels::is_of_snapshots(offer)).cloned().collect();
    for group in groups {
        offers.retain(|offer| offer.key != group.key && offer.place != Place::In(group.key.clone()));
        if !offer::is_hidden_id(document, &group.id) {
            file.hide_entry(&group.id, Some("draft --no-snapshots"))?;
            document.hidden.push(Hide { what: Hidden::Entry(group.id.into()), why: None });
        }
    }
    Ok(())
}

/// All that was decided at boot, to be looked at.
fn saved_at_boot(path: &Path, news: &News) -> Result<Vec<Saved>> {
    let entries = news.added.iter().map(|id| (SavedKind::Added, id));
    let entries: Vec<_> = entries.chain(news.changed.iter().map(|id| (SavedKind::Changed, id))).collect();
    let mut saved = Vec::new();
    if !entries.is_empty() {
        let mut slot = MenuText::new(path, &news.text)?;
        for (what, id) in entries {
            saved.push(Saved { id: id.clone(), what, text: slot.block(id)?.trim().to_string() });
        }
    }
    let default = news.default.iter();
    saved.extend(default.map(|id| Saved {
        id: id.clone().into(),
        what: SavedKind::Default,
        text: String::new(),
    }));
    Ok(saved)
}

/// Entries that somebody saved at the prompt, at boot, come behind all others.
fn take_in_what_was_saved_at_boot(path: &Path, news: &News, file: &mut MenuText) -> Result<Vec<DraftEntry>> {
    if news.added.is_empty() {
        return Ok(Vec::new());
    }
    let mut slot = MenuText::new(path, &news.text)?;
    let held = signpost_menu::parse_leniently(&news.text).0.unwrap_or_default();
    let mut taken = Vec::new();
    for id in &news.added {
        let place = file.list().len();
        file.insert_entry(place, &slot.block(id)?)?;
        let title = held.entry(id).map_or_else(|| id.to_string(), |entry| entry.title.clone());
        let why = "was saved at the prompt, at boot".into();
        taken.push(DraftEntry { id: id.clone(), title, why, group: None });
    }
    Ok(taken)
}

/// Entries that were changed at boot, and what was kept as the default there.
fn take_in_what_was_changed_at_boot(path: &Path, news: &News, file: &mut MenuText) -> Result<Vec<Line>> {
    let mut changed = Vec::new();
    if !news.changed.is_empty() {
        let mut slot = MenuText::new(path, &news.text)?;
        for id in &news.changed {
            let new = slot.entry(id)?.clone();
            let held = file.entry(id)?;
            let (place, decor) = (held.position(), held.decor().clone());
            *held = new;
            held.set_position(place);
            *held.decor_mut() = decor;
            changed.push(Line { id: id.clone(), why: "is as it was changed at boot".into() });
        }
    }
    if let Some(id) = &news.default {
        file.set_in("menu", "default", id.as_str().into())?;
        changed.push(Line { id: id.clone().into(), why: "is the default, as it was kept at boot".into() });
    }
    Ok(changed)
}

/// Whether a system stands in a menu by itself; a snapshot stands in a group.
fn is_plain(system: &System) -> bool {
    system.snapshot.is_none()
}
