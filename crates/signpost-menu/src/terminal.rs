//! A terminal behind a serial line: what it is sent to show a screen of letters, and what its keys send (ECMA-48).

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use crate::appearance::Palette;
use crate::scene::Tone;
use crate::screen::{Cell, Grid};
use crate::session::Key;

/// Columns and rows that every terminal has.
pub const SIZE: (usize, usize) = (80, 24);

/// What clears a terminal.
pub fn cleared() -> String {
    "\x1b[0m\x1b[2J\x1b[H\x1b[?25h".into()
}

/// What makes a terminal that shows one screen, or was cleared, show another: the cells that differ.
pub fn drawn(before: Option<&Grid>, after: &Grid, palette: &Palette) -> String {
    let mut sent = String::from("\x1b[?25l");
    let mut tone = None;
    if before.is_none() {
        sent.push_str(&colours(Tone::Plain, palette));
        sent.push_str("\x1b[2J");
        tone = Some(Tone::Plain);
    }
    for (column, row, changed) in after.changed(before) {
        sent.push_str(&move_to((column, row)));
        // The second half of a wide sign has none of its own.
        for Cell { symbol, tone: own } in changed.iter().filter(|cell| cell.symbol != '\0') {
            if tone != Some(*own) {
                sent.push_str(&colours(*own, palette));
                tone = Some(*own);
            }
            sent.push(*symbol);
        }
    }
    if let Some(at) = after.cursor {
        sent.push_str(&move_to(at));
        sent.push_str("\x1b[?25h");
    }
    sent
}

fn move_to((column, row): (usize, usize)) -> String {
    format!("\x1b[{};{}H", row.saturating_add(1), column.saturating_add(1))
}

/// Select Graphic Rendition. Screens count colours with blue first, terminals with red first.
fn colours(tone: Tone, palette: &Palette) -> String {
    const ORDER: [u8; 8] = [0, 4, 2, 6, 1, 5, 3, 7];
    let (front, behind) = palette.on_console(tone.role());
    let of = |colour: u8| ORDER.get(usize::from(colour & 7)).copied().unwrap_or_default();
    let bright: u8 = if front & 8 != 0 { 90 } else { 30 };
    format!("\x1b[0;{};{}m", bright.saturating_add(of(front)), of(behind).saturating_add(40))
}

/// What a terminal's keys send, a byte at a time.
#[derive(Clone, Debug, Default)]
pub struct Keys {
    /// Bytes of a key that is not whole yet.
    pending: Vec<u8>,
    /// Whether a tick of the clock has come behind them.
    has_waited: bool,
    /// Whether the last key was a carriage return, behind which a line feed is none of its own.
    is_behind_return: bool,
}

/// A key takes no more bytes than this.
const MAX_PENDING: usize = 8;

impl Keys {
    /// The key that is whole with this byte.
    pub fn take(&mut self, byte: u8) -> Option<Key> {
        let is_behind_return = core::mem::replace(&mut self.is_behind_return, byte == b'\r');
        if self.pending.is_empty() && byte == b'\n' && is_behind_return {
            return None;
        }
        if self.pending.len() >= MAX_PENDING {
            self.pending.clear();
        }
        self.pending.push(byte);
        self.has_waited = false;
        let key = key(&self.pending)?;
        self.pending.clear();
        Some(key)
    }

    /// A tick of the clock: the key that those bytes are behind which nothing came for a whole one, Escape by itself.
    pub fn tick(&mut self) -> Option<Key> {
        if !core::mem::replace(&mut self.has_waited, true) {
            return None;
        }
        let pending = core::mem::take(&mut self.pending);
        (pending == [0x1b]).then_some(Key::Escape)
    }
}

/// The key that bytes stand for; nothing while more have to come.
fn key(bytes: &[u8]) -> Option<Key> {
    match bytes {
        [b'\r' | b'\n'] => Some(Key::Enter),
        [8 | 0x7f] => Some(Key::Backspace),
        [0x1b] => None,
        // Escape twice: the first one was it.
        [0x1b, 0x1b] => Some(Key::Escape),
        [0x1b, b'[' | b'O'] => None,
        [0x1b, b'O', last] => Some(single(*last)),
        [0x1b, b'[', numbers @ .., last] => match last {
            b'0'..=b'9' | b';' => None,
            b'~' => Some(numbered(numbers)),
            last => Some(single(*last)),
        },
        [0x1b, ..] => Some(Key::Other),
        [byte] if byte.is_ascii_graphic() || matches!(byte, b' ' | b'\t') => Some(Key::Char((*byte).into())),
        [byte] if byte.is_ascii() => Some(Key::Other),
        bytes => match core::str::from_utf8(bytes) {
            Ok(text) => Some(text.chars().next().map_or(Key::Other, Key::Char)),
            Err(error) if error.error_len().is_none() => None,
            Err(_) => Some(Key::Other),
        },
    }
}

/// A key by its final byte.
fn single(last: u8) -> Key {
    match last {
        b'A' => Key::Up,
        b'B' => Key::Down,
        b'C' => Key::Right,
        b'D' => Key::Left,
        b'H' => Key::Home,
        b'F' => Key::End,
        b'P'..=b'S' => Key::Function(last.saturating_sub(b'P').saturating_add(1)),
        _ => Key::Other,
    }
}

/// A key by the number before its tilde.
fn numbered(numbers: &[u8]) -> Key {
    let number = numbers.split(|byte| *byte == b';').next().and_then(|text| core::str::from_utf8(text).ok());
    match number.and_then(|text| text.parse::<u8>().ok()) {
        Some(1 | 7) => Key::Home,
        Some(3) => Key::Delete,
        Some(4 | 8) => Key::End,
        Some(5) => Key::PageUp,
        Some(6) => Key::PageDown,
        Some(number @ 11..=15) => Key::Function(number.saturating_sub(10)),
        Some(number @ 17..=21) => Key::Function(number.saturating_sub(11)),
        _ => Key::Other,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::appearance::Appearance;

    fn typed(bytes: &[u8]) -> Vec<Key> {
        let mut keys = Keys::default();
        let mut read: Vec<Key> = bytes.iter().filter_map(|byte| keys.take(*byte)).collect();
        assert_eq!(keys.tick(), None, "the rest of a key may be on its way");
        read.extend(keys.tick());
        read
    }

    #[test]
    fn keys_are_read_as_terminals_send_them() {
        assert_eq!(typed(b"\x1b[A\x1b[B\x1bOC\x1b[D"), [Key::Up, Key::Down, Key::Right, Key::Left]);
        assert_eq!(
            typed(b"\x1b[1~\x1b[H\x1b[4~\x1b[5~\x1b[6~\x1b[3~"),
            [Key::Home, Key::Home, Key::End, Key::PageUp, Key::PageDown, Key::Delete]
        );
        assert_eq!(typed(b"\x1bOP\x1b[15~\x1b[21~"), [Key::Function(1), Key::Function(5), Key::Function(10)]);
        assert_eq!(
            typed("a\u{e4}\r\n\n\x7f".as_bytes()),
            [Key::Char('a'), Key::Char('\u{e4}'), Key::Enter, Key::Enter, Key::Backspace]
        );
        assert_eq!(typed(b"\x1b"), [Key::Escape]);
        assert_eq!(typed(b"\xffq"), [Key::Other, Key::Char('q')]);
    }

    #[test]
    fn only_what_differs_is_sent() {
        let palette = Appearance::default().palette();
        let grid = |text: &str| {
            let mut grid = Grid::new(20, 2);
            grid.put(3, 0, text, Tone::Plain);
            grid
        };
        let all = drawn(None, &grid("Larkspur"), &palette);
        assert!(all.contains("\x1b[2J") && all.contains("\x1b[1;4H") && all.contains("Larkspur"), "{all:?}");
        let changed = drawn(Some(&grid("Larkspur")), &grid("Larkspuk"), &palette);
        assert!(changed.contains("\x1b[1;11H") && !changed.contains("Lark"), "{changed:?}");
        assert_eq!(drawn(Some(&grid("a")), &grid("a"), &palette), "\x1b[?25l");
    }

    proptest! {
        #[test]
        fn whatever_is_sent_is_read_and_forgotten(bytes: Vec<u8>) {
            let mut keys = Keys::default();
            for byte in bytes {
                keys.take(byte);
                prop_assert!(keys.pending.len() <= MAX_PENDING);
            }
            keys.tick();
            keys.tick();
            prop_assert_eq!(keys.take(b'x'), Some(Key::Char('x')));
        }
    }
}
