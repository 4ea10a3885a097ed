//! The boot screen at the desk: the state machine that the boot program runs, drawn once.

use std::collections::BTreeSet;

use signpost_facts::{Error, Result};
use signpost_menu::document::Host;
use signpost_menu::ids::EntryId;
use signpost_menu::policy::{Shown, Situation, open};
use signpost_menu::prompt::{Prompt, PromptScreen};
use signpost_menu::resolve::Surroundings;
use signpost_menu::scene::{Frame, Scene, scene};
use signpost_menu::session::{Key, Session, View};
use signpost_menu::{MenuDocument, include};
use signpost_place::Look;

use crate::resolve::{describe, faults, home_or_chosen, resolve};

/// Which screen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Asked {
    /// The entry that is chosen: its index; the one that a start would choose, where nobody says.
    pub chosen: Option<usize>,
    /// What is seen of it.
    pub state: State,
}

/// What the screen shows.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum State {
    /// The list, as it opens; a menu that would not show is shown as on a key.
    #[default]
    List,
    /// The list of this group's members, by its id.
    Group(EntryId),
    /// The keys.
    Help,
    /// The chosen entry's arguments, being changed.
    Arguments,
    /// The list after a start of the chosen entry that did not come about.
    Error,
    /// The prompt, after these lines were typed.
    Prompt(Vec<String>),
}

/// A screen, and what a picture of it does not say.
#[derive(Clone, Debug)]
pub struct Preview {
    screen: Screen,
    /// When it is not shown, and what letters may lack.
    pub notes: Vec<String>,
}

#[derive(Clone, Debug)]
enum Screen {
    Menu(Box<Session>),
    Prompt(Box<PromptScreen>),
}

impl Preview {
    /// What stands on a screen of this frame.
    pub fn scene(&mut self, frame: Frame) -> Scene {
        match &mut self.screen {
            Screen::Menu(session) => scene(session, frame),
            Screen::Prompt(prompt) => prompt.scene(frame),
        }
    }
}

/// Has the boot program's screen come to what is asked for.
///
/// # Errors
/// Where the chosen entry has no arguments to change.
pub fn preview(look: &Look, document: &MenuDocument, asked: &Asked) -> Result<Preview> {
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
        unconfirmed: &look.ours.unconfirmed,
        failed: None,
    });
    let mut session = Session::new((document, look.firmware()), &resolved, &lines, &opening);
    if session.note.is_none() {
        session.note = notes.first().cloned();
    }
    // A time of day that is as wide as any.
    session.time = document.look.clock.then_some((12, 0));
    let hints = when_shown(document, opening.shown).into_iter().collect();
    if !session.is_shown() {
        session.key(Key::Other);
    }
    if let Some(chosen) = asked.chosen {
        session.key(Key::Other);
        session.choose(chosen);
    }
    let screen = match &asked.state {
        State::Prompt(lines) => {
            let mut prompt = PromptScreen::new(Prompt::new(document.clone()), &[]);
            for key in lines.iter().flat_map(|line| line.chars().map(Key::Char).chain([Key::Enter])) {
                prompt.key(key, look);
            }
            Screen::Prompt(Box::new(prompt))
        }
        state => {
            show(&mut session, state)?;
            Screen::Menu(Box::new(session))
        }
    };
    Ok(Preview { screen, notes: hints })
}

fn show(session: &mut Session, state: &State) -> Result<()> {
    match state {
        State::List | State::Prompt(_) => {}
        State::Group(id) => {
            session.key(Key::Other);
            session.open(id);
        }
        State::Help => {
            session.key(Key::Function(1));
        }
        State::Arguments => {
            session.key(Key::Other);
            session.key(Key::Function(2));
            if session.view == View::List {
                let why = session.note.clone().unwrap_or_default();
                return Err(Error::WrongUse(why));
            }
        }
        State::Error => {
            let row = session.visible().get(session.chosen()).map(|row| (row.title.clone(), row.can_start));
            match row {
                Some((title, true)) => session.failed(format!("{title}: it ended and came back")),
                _ => drop(session.key(Key::Enter)),
            }
        }
    }
    Ok(())
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

/// Signs that the letters at boot may lack, ours where the menu is drawn: `has` says of one whether it is there.
///
/// Of firmware's own letters, the specification promises those of Basic Latin, and firmware has those of Latin-1 (UEFI
/// specification, 12.4.3).
pub fn signs_without_letters(
    document: &MenuDocument,
    is_drawn: bool,
    has: impl Fn(char) -> bool,
) -> Option<String> {
    let own = document.settings.heading.iter().chain(&document.look.closing);
    let titles = own.chain(document.entries.iter().map(|entry| &entry.title));
    let signs: BTreeSet<char> = titles.flat_map(|title| title.chars()).filter(|c| !has(*c)).collect();
    let all: Vec<String> = signs.into_iter().map(String::from).collect();
    let note = || match is_drawn {
        false => format!("a firmware's console may not show these signs: {}", all.join(" ")),
        true => format!("the letters at boot lack these signs, and show a frame for each: {}", all.join(" ")),
    };
    (!all.is_empty()).then(note)
}
