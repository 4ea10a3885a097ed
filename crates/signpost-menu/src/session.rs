//! The menu screen as a state machine: keys and time in, what to do out.

mod line;
mod row;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

pub use line::LineEditor;
pub use row::Row;
use row::{What, always_reachable};

use crate::appearance::Appearance;
use crate::document::MenuDocument;
use crate::ids::EntryId;
use crate::policy::{KEY_WINDOW, Opening, Shown};
use crate::resolve::{Firmware, ResolvedEntry};

/// A key, however it was made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Key {
    /// Arrow up.
    Up,
    /// Arrow down.
    Down,
    /// Arrow left.
    Left,
    /// Arrow right.
    Right,
    /// To the first.
    Home,
    /// To the last.
    End,
    /// A page up.
    PageUp,
    /// A page down.
    PageDown,
    /// Enter.
    Enter,
    /// Escape.
    Escape,
    /// Backspace.
    Backspace,
    /// Delete.
    Delete,
    /// F1 and on.
    Function(u8),
    /// A character.
    Char(char),
    /// A pointer has come onto a row of the list, by its place there.
    Point(usize),
    /// It was pressed on a row, or beside all of them.
    Press(Option<usize>),
    /// Any other.
    Other,
}

/// What the carrier of the menu is to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Request {
    /// Nothing but to draw again.
    None,
    /// Start an entry, for a Linux entry with these arguments where they were changed.
    Start {
        /// The entry's index.
        entry: usize,
        /// All arguments, where they were changed for this start.
        args: Option<String>,
    },
    /// Open firmware setup.
    SetupScreen,
    /// Restart.
    Restart,
    /// Power off.
    PowerOff,
    /// Keep an entry as the default for good.
    KeepDefault(usize),
    /// Open the prompt.
    Prompt,
}

/// What is on the screen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum View {
    /// The list.
    List,
    /// Help, over the list.
    Help,
    /// The arguments of a Linux entry.
    Args(LineEditor),
}

/// The menu, running.
#[derive(Clone, Debug)]
pub struct Session {
    /// Shown above the list.
    pub heading: String,
    /// How it looks.
    pub look: Appearance,
    /// Hours and minutes, where they are shown.
    pub time: Option<(u8, u8)>,
    rows: Vec<Row>,
    /// The group that is open.
    group: Option<EntryId>,
    /// Place of the mark in the list as shown.
    chosen: usize,
    /// Place of the mark in the outer list, while a group is open.
    outer: usize,
    /// What is on the screen.
    pub view: View,
    /// The number that was typed so far, 0 for none.
    typed: usize,
    /// Milliseconds until the chosen entry starts.
    left: Option<u32>,
    /// What that was at first.
    whole: u32,
    /// Whether the list is not shown yet, and only is on a key.
    hidden: bool,
    /// Something to say.
    pub note: Option<String>,
    /// Whether the note says why something does not start.
    has_failed: bool,
}

/// Rows that one page key moves.
const PAGE: usize = 10;

impl Session {
    /// The menu of a document as settled on a machine with this firmware, opened as the policy says.
    pub fn new(
        (document, firmware): (&MenuDocument, Firmware),
        resolved: &[ResolvedEntry<'_>],
        lines: &[String],
        opening: &Opening,
    ) -> Self {
        let mut rows: Vec<Row> = resolved
            .iter()
            .zip(lines)
            .enumerate()
            .map(|(index, (resolved, line))| Row::of_entry(index, resolved, line))
            .collect();
        rows.extend(always_reachable(&rows, resolved, firmware));
        let (left, hidden) = match opening.shown {
            Shown::Counting(seconds) => (Some(u32::from(seconds).saturating_mul(1000)), false),
            Shown::Waiting => (None, false),
            Shown::OnKey => (Some(KEY_WINDOW), true),
            Shown::Hidden => (Some(0), true),
        };
        let heading = document.settings.heading.clone().unwrap_or_else(|| "Signpost".into());
        let mut session = Self {
            heading,
            look: document.look.clone(),
            time: None,
            rows,
            group: None,
            chosen: 0,
            outer: 0,
            view: View::List,
            typed: 0,
            left,
            whole: left.unwrap_or(0),
            hidden,
            note: opening.note(document),
            has_failed: opening.reason.is_some(),
        };
        session.choose_entry(opening.chosen);
        session
    }

    /// Puts the mark on an entry, by its index.
    pub fn choose(&mut self, entry: usize) {
        self.choose_entry(Some(entry));
    }

    /// Puts the mark on an entry, opening its group. The first rows are the entries, in their order.
    fn choose_entry(&mut self, entry: Option<usize>) {
        let Some((index, row)) = entry.and_then(|index| Some((index, self.rows.get(index)?))) else { return };
        self.group = row.group.clone();
        self.chosen = self.rows.iter().take(index).filter(|row| row.group == self.group).count();
    }

    /// The rows of the list as shown.
    pub fn visible(&self) -> Vec<&Row> {
        self.rows.iter().filter(|row| row.group == self.group).collect()
    }

    /// Place of the mark in it.
    pub fn chosen(&self) -> usize {
        self.chosen
    }

    /// The title of the open group.
    pub fn open_group(&self) -> Option<&str> {
        let group = self.group.as_ref()?;
        self.rows.iter().find(|row| row.what == What::Group(group.clone())).map(|row| row.title.as_str())
    }

    /// Whether the list is to be drawn.
    pub fn is_shown(&self) -> bool {
        !self.hidden
    }

    /// Seconds until the chosen entry starts, rounded up; where it counts.
    pub fn countdown(&self) -> Option<u32> {
        self.left.filter(|_| !self.hidden).map(|left| left.div_ceil(1000))
    }

    /// Seconds that the countdown began with.
    pub fn counts_from(&self) -> u32 {
        self.whole.div_ceil(1000)
    }

    /// How much of the countdown is left, of so many parts.
    pub fn part_left(&self, parts: usize) -> usize {
        let of = |milliseconds: u32| usize::try_from(milliseconds).unwrap_or(usize::MAX);
        let left = self.left.map_or(0, of);
        left.saturating_mul(parts).checked_div(of(self.whole)).unwrap_or(0)
    }

    /// The countdown ends, and the list is shown.
    pub fn stop(&mut self) {
        self.left = None;
        self.hidden = false;
    }

    /// A start has failed: the menu is back, with the reason and no countdown.
    pub fn failed(&mut self, reason: String) {
        self.left = None;
        self.hidden = false;
        self.view = View::List;
        self.note = Some(reason);
        self.has_failed = true;
    }

    /// Whether something does not start: the prompt is where it can be brought up by hand.
    pub fn has_failed(&self) -> bool {
        self.has_failed
    }

    /// Time has passed.
    pub fn tick(&mut self, milliseconds: u32) -> Request {
        let Some(left) = self.left else { return Request::None };
        if left > milliseconds {
            self.left = Some(left.saturating_sub(milliseconds));
            return Request::None;
        }
        self.left = None;
        self.hidden = false;
        // Nothing but an entry that starts something is ever started by time alone.
        match self.visible().get(self.chosen).map(|row| &row.what) {
            Some(What::Entry(_)) => self.start_chosen(None),
            _ => Request::None,
        }
    }

    /// A key was pressed.
    pub fn key(&mut self, key: Key) -> Request {
        // A pointer that stirs asks for nothing by that alone.
        if matches!(key, Key::Point(place) if self.hidden || self.view != View::List || place == self.chosen)
        {
            return Request::None;
        }
        let was_hidden = core::mem::take(&mut self.hidden);
        let was_counting = self.left.take().is_some();
        if was_hidden {
            return Request::None;
        }
        self.note = None;
        self.has_failed = false;
        match &mut self.view {
            View::Help => {
                self.view = View::List;
                Request::None
            }
            View::Args(editor) => match key {
                Key::Enter => {
                    let args = editor.text();
                    self.view = View::List;
                    self.start_chosen(Some(args))
                }
                Key::Escape | Key::Press(None) => {
                    self.view = View::List;
                    Request::None
                }
                key => {
                    editor.key(key);
                    Request::None
                }
            },
            // The key that stops the countdown does no more, unless it chooses or starts.
            View::List if was_counting && matches!(key, Key::Escape | Key::Other | Key::Press(None)) => {
                Request::None
            }
            View::List => self.list_key(key),
        }
    }

    fn list_key(&mut self, key: Key) -> Request {
        let last = self.visible().len().saturating_sub(1);
        let typed = core::mem::take(&mut self.typed);
        match key {
            Key::Up => self.chosen = self.chosen.saturating_sub(1),
            Key::Down => self.chosen = self.chosen.saturating_add(1).min(last),
            Key::Home => self.chosen = 0,
            Key::End => self.chosen = last,
            Key::PageUp => self.chosen = self.chosen.saturating_sub(PAGE),
            Key::PageDown => self.chosen = self.chosen.saturating_add(PAGE).min(last),
            Key::Point(place) => self.chosen = place.min(last),
            Key::Press(Some(place)) => {
                self.chosen = place.min(last);
                return self.start_chosen(None);
            }
            Key::Enter | Key::Right => return self.start_chosen(None),
            Key::Escape | Key::Left | Key::Press(None) => self.close_group(),
            Key::Char('?') | Key::Function(1) => self.view = View::Help,
            Key::Char('=') | Key::Function(2) => self.edit_args(),
            Key::Char('*') | Key::Function(3) => return self.keep_default(),
            Key::Char(':') | Key::Function(4) => return Request::Prompt,
            Key::Char(c) => self.jump(c, typed),
            Key::Backspace | Key::Delete | Key::Function(_) | Key::Other => {}
        }
        Request::None
    }

    /// To the row of a number, whose digits come one after the other: 1 and then 2 is row 12, where there is one.
    fn jump_to_number(&mut self, digit: usize, before: usize) {
        let count = self.visible().len();
        let longer = before.saturating_mul(10).saturating_add(digit);
        if let Some(number) = [longer, digit].into_iter().find(|number| (1..=count).contains(number)) {
            self.chosen = number.saturating_sub(1);
            self.typed = number;
        }
    }

    /// To the row of a number, or to the next title that starts with a letter.
    fn jump(&mut self, c: char, before: usize) {
        if let Some(digit) = c.to_digit(10).and_then(|digit| usize::try_from(digit).ok()) {
            return self.jump_to_number(digit, before);
        }
        let rows = self.visible();
        let starts = |row: &&Row| row.title.to_lowercase().starts_with(&c.to_lowercase().to_string());
        let after = self.chosen.saturating_add(1);
        let places = (after..rows.len()).chain(0..after.min(rows.len()));
        if let Some(place) = places.into_iter().find(|place| rows.get(*place).is_some_and(starts)) {
            self.chosen = place;
        }
    }

    /// Opens the group of this id, as Enter on it does.
    pub fn open(&mut self, id: &str) {
        self.group = None;
        let is_it = |row: &&Row| row.what == What::Group(id.into());
        self.outer = self.visible().iter().position(is_it).unwrap_or(0);
        self.group = Some(id.into());
        self.chosen = 0;
    }

    fn close_group(&mut self) {
        if self.group.take().is_some() {
            self.chosen = self.outer.min(self.visible().len().saturating_sub(1));
        }
    }

    fn edit_args(&mut self) {
        let args = self.visible().get(self.chosen).and_then(|row| row.args.clone());
        match args {
            Some(args) => self.view = View::Args(LineEditor::new(&args)),
            None => self.note = Some("only a Linux entry has arguments to change".into()),
        }
    }

    fn keep_default(&mut self) -> Request {
        match self.visible().get(self.chosen).map(|row| (row.what.clone(), row.can_start)) {
            Some((What::Entry(entry), true)) => Request::KeepDefault(entry),
            _ => {
                self.note = Some("only an entry that starts a system can be the default".into());
                Request::None
            }
        }
    }

    fn start_chosen(&mut self, args: Option<String>) -> Request {
        let Some(row) = self.visible().get(self.chosen).map(|row| (*row).clone()) else {
            return Request::None;
        };
        match row.what {
            What::Entry(_) if !row.can_start => {
                self.note = Some(format!("{} cannot start", row.title));
                self.has_failed = true;
                Request::None
            }
            What::Entry(entry) => Request::Start { entry, args },
            What::Group(ref id) if !self.rows.iter().any(|member| member.group.as_ref() == Some(id)) => {
                self.note = Some(format!("there is nothing in {}", row.title));
                Request::None
            }
            What::Group(id) => {
                self.open(&id);
                Request::None
            }
            What::SetupScreen => Request::SetupScreen,
            What::Restart => Request::Restart,
            What::PowerOff => Request::PowerOff,
        }
    }
}

#[cfg(test)]
mod tests;
