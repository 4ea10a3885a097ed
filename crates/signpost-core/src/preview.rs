//! The boot screen at the desk: the state machine that the boot program runs, drawn once.

use signpost_menu::ids::EntryId;
use signpost_menu::policy::{Situation, open};
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

/// Draws it at this size: columns and rows.
pub fn screen(look: &Look, document: &MenuDocument, size: (usize, usize), screen: Screen) -> Grid {
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
    let mut session = Session::new(document, &resolved, &lines, &opening);
    if session.note.is_none() {
        session.note = notes.first().cloned();
    }
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
    draw(&session, size.0, size.1)
}
