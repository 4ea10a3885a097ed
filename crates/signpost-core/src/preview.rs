//! The boot screen at the desk: the state machine that the boot program runs, drawn once.

use std::collections::BTreeSet;

use signpost_menu::document::Host;
use signpost_menu::ids::EntryId;
use signpost_menu::policy::{Shown, Situation, open};
use signpost_menu::resolve::Surroundings;
use signpost_menu::screen::{Grid, draw};
use signpost_menu::session::{Key, Session};
use signpost_menu::{MenuDocument, include};
use signpost_place::Look;

use crate::resolve::{describe, faults, home_or_chosen, resolve};

/// Which screen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Screen {
    /// The list, as it opens; a menu that would not show is shown as on a key.
    List,
    /// The list of this group's members, by its id.
    Group(EntryId),
    /// The keys.
    Help,
}

/// A screen, and what a picture of it does not say.
#[derive(Clone, Debug)]
pub struct Preview {
    /// The screen.
    pub grid: Grid,
    /// When it is not shown, and what a firmware's console may lack.
    pub notes: Vec<String>,
}

/// Draws it at this size: columns and rows.
pub fn preview(look: &Look, document: &MenuDocument, size: (usize, usize), screen: Screen) -> Preview {
    let mut document = document.clone();
    let notes = include::complete(look, home_or_chosen(look), &mut document);
    let document = &document;
    let resolved = resolve(look, document);
    let faults = faults(&resolved);
    let lines: Vec<String> = resolved.iter().map(|entry| describe(look, entry)).collect();
    let opening = open(&Situation {
        document,
        faults: &faults,
        once: look.ours.once.as_deref(),
        kept: look.ours.kept.as_deref(),
        last_started: look.ours.last.as_deref(),
        failed: None,
    });
    let mut session = Session::new((document, look.firmware()), &resolved, &lines, &opening);
    if session.note.is_none() {
        session.note = notes.first().cloned();
    }
    let mut hints: Vec<String> = when_shown(document, opening.shown).into_iter().collect();
    hints.extend(signs_beyond_latin(document));
    if !session.is_shown() {
        session.key(Key::Other);
    }
    match screen {
        Screen::List => {}
        Screen::Group(id) => {
            session.key(Key::Other);
            session.open(&id);
        }
        Screen::Help => {
            session.key(Key::Function(1));
        }
    }
    Preview { grid: draw(&session, size.0, size.1), notes: hints }
}

/// When the screen is not what a start shows.
fn when_shown(document: &MenuDocument, shown: Shown) -> Option<String> {
    let settings = &document.settings;
    let note = match shown {
        _ if settings.host == Host::Firmware => {
            "host=firmware: the firmware's own list is the menu, and the boot program would show this; \
             `signpost tune host=signpost` has it shown"
        }
        Shown::Hidden => "show=never: this is not shown; `signpost once menu` shows it at the next start",
        Shown::OnKey => "show=on-key: this is shown if a key is pressed in the first 0.8 seconds",
        Shown::Counting(0) => "timeout=0: this is not shown before the default starts",
        Shown::Counting(_) | Shown::Waiting => return None,
    };
    Some(note.into())
}

/// Signs that not every firmware's console can show: the specification promises those of Basic Latin, and firmware has those
/// of Latin-1 (UEFI specification, 12.4.3).
fn signs_beyond_latin(document: &MenuDocument) -> Option<String> {
    let heading = document.settings.heading.iter();
    let titles = heading.chain(document.entries.iter().map(|entry| &entry.title));
    let signs: BTreeSet<char> =
        titles.flat_map(|title| title.chars()).filter(|c| u32::from(*c) > 0xff).collect();
    let all: Vec<String> = signs.into_iter().map(String::from).collect();
    let note = || format!("a firmware's console may not show these signs: {}", all.join(" "));
    (!all.is_empty()).then(note)
}
