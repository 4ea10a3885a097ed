//! The prompt on a screen of cells: what was said above, the line under way at the bottom.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use super::{Hands, Prompt, Then};
use crate::appearance::Width;
use crate::scene::{Frame, Scene, Tone};
use crate::session::{Key, LineEditor};
use crate::wrap::wrapped;

/// Lines that are kept to look back at.
const MAX_KEPT: usize = 2000;
/// Lines that were typed.
const MAX_HISTORY: usize = 200;
/// Completions that are listed.
const MAX_LISTED: usize = 200;
/// Columns left free at either side of cells.
const MARGIN: usize = 1;
/// Columns of a line where it is drawn; answers are tables, and want more than the menu.
const LONGEST: usize = 120;
/// What stands before a line that was typed.
const MARK: &str = "> ";

/// The prompt, running.
#[derive(Clone, Debug)]
pub struct PromptScreen {
    prompt: Prompt,
    said: Vec<String>,
    line: LineEditor,
    history: Vec<String>,
    /// The line of the history that is shown; its length for the one under way.
    back: usize,
    /// Rows that the view is scrolled up.
    scrolled: usize,
    /// Whether the key before completed, and left several.
    is_ambiguous: bool,
    /// Rows for what was said, and columns: the fewest of the frames that it was drawn for since the last key, so that none
    /// of them leaves anything out.
    room: usize,
    columns: usize,
    /// Whether it was drawn since the last key.
    is_drawn: bool,
}

impl PromptScreen {
    /// A prompt that opens with these lines.
    pub fn new(prompt: Prompt, opening: &[String]) -> Self {
        Self {
            prompt,
            said: opening.to_vec(),
            line: LineEditor::default(),
            history: Vec::new(),
            back: 0,
            scrolled: 0,
            is_ambiguous: false,
            room: 20,
            columns: 78,
            is_drawn: false,
        }
    }

    /// What the prompt itself holds.
    pub fn prompt(&mut self) -> &mut Prompt {
        &mut self.prompt
    }

    /// Says something.
    pub fn say(&mut self, lines: impl IntoIterator<Item = String>) {
        self.said.extend(lines.into_iter().filter(|line| !line.is_empty()));
        let over = self.said.len().saturating_sub(MAX_KEPT);
        self.said.drain(..over);
    }

    /// A key was pressed; what the carrier is to do.
    pub fn key(&mut self, key: Key, hands: &impl Hands) -> Then {
        let was_ambiguous = core::mem::take(&mut self.is_ambiguous);
        self.is_drawn = false;
        let page = self.room.saturating_sub(1).max(1);
        match key {
            Key::PageUp => self.scrolled = self.scrolled.saturating_add(page),
            Key::PageDown => self.scrolled = self.scrolled.saturating_sub(page),
            // A blank goes on in a long answer, as long as nothing is typed.
            Key::Char(' ') if self.scrolled > 0 && self.line.text().is_empty() => {
                self.scrolled = self.scrolled.saturating_sub(page);
            }
            Key::Enter => return self.enter(hands),
            Key::Escape if self.line.text().is_empty() => return Then::Close,
            Key::Escape => self.line = LineEditor::default(),
            Key::Up => self.recall(self.back.checked_sub(1)),
            Key::Down => self.recall(self.back.checked_add(1)),
            Key::Char('\t') => self.complete(was_ambiguous, hands),
            key => {
                self.scrolled = 0;
                self.line.key(key);
            }
        }
        Then::Nothing
    }

    fn enter(&mut self, hands: &impl Hands) -> Then {
        let line = core::mem::take(&mut self.line).text();
        if !line.trim().is_empty() && self.history.last() != Some(&line) {
            self.history.push(line.clone());
            let over = self.history.len().saturating_sub(MAX_HISTORY);
            self.history.drain(..over);
        }
        self.back = self.history.len();
        self.say([format!("{MARK}{line}")]);
        let reply = self.prompt.run(&line, hands);
        let rows: usize = reply.lines.iter().map(|line| wrapped(line, self.columns).len()).sum();
        let long = rows.saturating_add(1).saturating_sub(self.room);
        self.say(reply.lines);
        // A long answer is read from its start.
        self.scrolled = long;
        reply.then
    }

    fn recall(&mut self, at: Option<usize>) {
        let Some(at) = at.filter(|at| *at <= self.history.len()) else { return };
        self.back = at;
        self.line = LineEditor::new(self.history.get(at).map_or("", String::as_str));
    }

    /// As far as all candidates agree; a second time lists them.
    fn complete(&mut self, is_second: bool, hands: &impl Hands) {
        let line = self.line.text();
        let found = self.prompt.complete(&line, hands);
        let Some(common) = common_start(&found.words) else { return };
        let (before, typed) = line.split_at_checked(found.start).unwrap_or((line.as_str(), ""));
        if let [only] = found.words.as_slice() {
            self.line = LineEditor::new(&format!("{before}{only}"));
        } else if common.len() > typed.len() {
            self.line = LineEditor::new(&format!("{before}{common}"));
            self.is_ambiguous = true;
        } else if is_second {
            let left = found.words.len().saturating_sub(MAX_LISTED);
            let shown: Vec<&str> = found.words.iter().take(MAX_LISTED).map(String::as_str).collect();
            let more = if left > 0 { format!("  and {left} more") } else { String::new() };
            self.say([format!("{}{more}", shown.join("  "))]);
        } else {
            self.is_ambiguous = true;
        }
    }

    /// What it shows in a frame.
    pub fn scene(&mut self, frame: Frame) -> Scene {
        // Its tables need the room that a list can do without.
        let text = if frame.text == Width::Narrow { Width::Wide } else { frame.text };
        let mut scene = Scene::new(Frame { text, ..frame }, MARGIN, LONGEST);
        let (columns, height) = (scene.columns(), scene.lines());
        let rows: Vec<(String, Tone)> = self
            .said
            .iter()
            .flat_map(|line| {
                let tone = if line.starts_with(MARK) { Tone::Heading } else { Tone::Plain };
                wrapped(line, columns).into_iter().map(move |row| (row, tone))
            })
            .collect();
        let room = height.saturating_sub(2).max(1);
        (self.room, self.columns) = match self.is_drawn {
            true => (self.room.min(room), self.columns.min(columns)),
            false => (room, columns),
        };
        self.is_drawn = true;
        self.scrolled = self.scrolled.min(rows.len().saturating_sub(self.room));
        let end = rows.len().saturating_sub(self.scrolled.min(rows.len().saturating_sub(room)));
        let start = end.saturating_sub(room);
        for (at, (row, tone)) in rows.iter().take(end).skip(start).enumerate() {
            scene.text(0, at, row, *tone);
        }
        let bottom = end.saturating_sub(start);
        let hint = if end < rows.len() {
            "more: blank or Page Down"
        } else {
            "Enter runs the line   Tab completes   Escape leaves   help"
        };
        let text: Vec<char> = self.line.text().chars().collect();
        let space = columns.saturating_sub(MARK.len()).saturating_sub(1).max(1);
        let from = self.line.cursor().saturating_sub(space.saturating_sub(1));
        let part: String = text.iter().skip(from).take(space).collect();
        let row = bottom.min(height.saturating_sub(2));
        scene.text(0, row, &format!("{MARK}{part}"), Tone::Heading);
        scene.text(0, height.saturating_sub(1), hint, Tone::Faint);
        scene.spoken = self.said.iter().cloned().chain([format!("{MARK}{}", self.line.text())]).collect();
        scene.set_cursor(self.line.cursor().saturating_sub(from).saturating_add(MARK.len()), row);
        scene
    }
}

/// What all words start with; `None` where there are none.
fn common_start(words: &[String]) -> Option<String> {
    let (first, rest) = words.split_first()?;
    let length = rest.iter().fold(first.chars().count(), |length, word| {
        first.chars().zip(word.chars()).take(length).take_while(|(a, b)| a == b).count()
    });
    Some(first.chars().take(length).collect())
}
