//! A line of text that is edited.

use alloc::string::String;
use alloc::vec::Vec;

use super::Key;

/// No line is longer, in characters.
const MAX_LENGTH: usize = 2000;

/// A line and the cursor in it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LineEditor {
    text: Vec<char>,
    cursor: usize,
}

impl LineEditor {
    /// A line that starts with this text, the cursor at its end.
    pub fn new(text: &str) -> Self {
        let text: Vec<char> = text.chars().take(MAX_LENGTH).collect();
        Self { cursor: text.len(), text }
    }

    /// The text.
    pub fn text(&self) -> String {
        self.text.iter().collect()
    }

    /// Place of the cursor, in characters.
    pub fn cursor(&self) -> usize {
        self.cursor
    }

    /// Takes a key; keys that edit nothing are skipped.
    pub fn key(&mut self, key: Key) {
        match key {
            Key::Char(c) if !c.is_control() && self.text.len() < MAX_LENGTH => {
                self.text.insert(self.cursor.min(self.text.len()), c);
                self.cursor = self.cursor.saturating_add(1);
            }
            Key::Backspace if self.cursor > 0 => {
                self.cursor = self.cursor.saturating_sub(1);
                self.remove_at_cursor();
            }
            Key::Delete => self.remove_at_cursor(),
            Key::Left => self.cursor = self.cursor.saturating_sub(1),
            Key::Right => self.cursor = self.cursor.saturating_add(1).min(self.text.len()),
            Key::Home => self.cursor = 0,
            Key::End => self.cursor = self.text.len(),
            _ => {}
        }
    }

    fn remove_at_cursor(&mut self) {
        if self.cursor < self.text.len() {
            self.text.remove(self.cursor);
        }
    }
}
