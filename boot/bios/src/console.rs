//! The firmware's text screen, its keys and its clock. What is written there, firmware with a serial console sends on; where it has none,
//! a serial port of our own may stand beside it.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_look::Picture;
use signpost_menu::appearance::{Appearance, Palette};
use signpost_menu::keyboard::{Keyboard, UNITED_STATES};
use signpost_menu::scene::{Frame, Scene, Tone};
use signpost_menu::screen::{Cell, Grid, paint, starting};
use signpost_menu::session::Key;
use signpost_menu::spoken::news;
use signpost_place::serve::{Input, Screen, without_picture};

use crate::graphics::{self, Graphics};
use crate::real::{self, Registers, interrupt};
use crate::serial::Terminal;

const SCREEN: u8 = 0x10;
const KEYS: u8 = 0x16;
/// Of the firmware's data, from 0x400 on: which of Shift and the like are held, columns, rows less one.
const HELD: usize = 0x17;
const COLUMNS: usize = 0x4a;
const ROWS: usize = 0x84;
/// Right Alt, in the second byte of what is held.
const RIGHT_ALT: (usize, u8) = (0x96, 0x08);
/// Shift, either.
const SHIFT: u8 = 3;
/// Ticks of a day: then the clock begins anew.
const DAY: u32 = 0x0018_00b0;
/// 55 milliseconds less a little a tick.
const TICK: u32 = 55;

/// What code page 437 has behind ASCII, which every screen of this kind shows.
const UPPER: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀\
                     αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■ ";

/// Screen and keys.
pub struct Console {
    keyboard: &'static Keyboard,
    look: Appearance,
    /// A serial port of our own.
    terminal: Option<Terminal>,
    /// What is shown on, from the first time on: a menu that is not shown touches no screen.
    shown: Option<Shown>,
    /// The picture behind the menu, until it is shown.
    picture: Option<Picture>,
    /// Why it is not.
    without_picture: Option<String>,
    ticks: u32,
}

/// Screens.
struct Shown {
    palette: Palette,
    /// The screen of pixels, where the look asks for one.
    graphics: Option<Graphics>,
    painted: Option<Grid>,
    /// What was said last, where it is said and not painted.
    said: Option<Vec<String>>,
    size: (usize, usize),
}

impl Shown {
    /// Takes the screen, in its mode of 80 columns. What is told in plain lines, is told on a serial port of our own where there is one.
    fn open(look: &Appearance, has_terminal: bool, picture: Option<Picture>) -> Self {
        interrupt(SCREEN, Registers::ax(3));
        let columns = usize::from(real::data_byte(COLUMNS)).clamp(40, 132);
        // The mode is one of 25 rows; firmware of old leaves a zero there.
        let rows = (usize::from(real::data_byte(ROWS)) + 1).clamp(25, 60);
        let said = (look.announce && !has_terminal).then(Vec::new);
        let graphics = Graphics::open(look, picture);
        let mut shown =
            Self { palette: look.palette(), graphics, painted: None, said, size: (columns, rows) };
        shown.clear();
        shown
    }

    /// Writes a cell so many times, by the call that firmware with a serial console sends on.
    fn put(&self, cell: Cell, at: (usize, usize), times: usize) {
        if cell.symbol == '\0' {
            return;
        }
        let (code, colours) = (u32::from(code_of(cell.symbol)), u32::from(self.attribute(cell.tone)));
        move_to(at);
        interrupt(
            SCREEN,
            Registers { ax: 0x900 | code, bx: colours, cx: times as u32, ..Registers::default() },
        );
    }

    /// The colours of a tone as the screen takes them: the one behind in the upper half.
    fn attribute(&self, tone: Tone) -> u8 {
        let (front, behind) = self.palette.on_console(tone.role());
        behind << 4 | front
    }

    fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        if let Some(graphics) = &mut self.graphics {
            graphics.show(scene);
            return;
        }
        let scene = scene(Frame::cells(self.size.0, self.size.1));
        if let Some(said) = &mut self.said {
            write(&news(said, &scene.spoken));
            *said = scene.spoken;
            return;
        }
        let grid = paint(&scene);
        for (mut column, row, mut cells) in grid.changed(self.painted.as_ref()) {
            while let Some(cell) = cells.first() {
                // Blanks go in one call; of letters each in its own, since the cursor stays behind the first of several.
                let most = if cell.symbol == ' ' { cells.len() } else { 1 };
                let length = cells.iter().take(most).take_while(|other| *other == cell).count();
                self.put(*cell, (column, row), length);
                column += length;
                cells = &cells[length..];
            }
        }
        set_cursor(grid.cursor);
        self.painted = Some(grid);
    }

    fn clear(&mut self) {
        self.painted = None;
        if let Some(graphics) = &mut self.graphics {
            // What comes next is painted over all of it.
            graphics.forget();
            return;
        }
        if let Some(said) = &mut self.said {
            said.clear();
        }
        let last = (self.size.1 as u32 - 1) << 8 | (self.size.0 as u32 - 1);
        let blank = u32::from(self.attribute(Tone::Plain)) << 8;
        interrupt(SCREEN, Registers { ax: 0x600, bx: blank, dx: last, ..Registers::default() });
        set_cursor(None);
    }

    fn clear_for(&mut self, title: &str) {
        if let Some(graphics) = &mut self.graphics {
            graphics.leave();
        }
        self.clear();
        set_cursor(Some((0, 0)));
        write(&starting(title));
    }
}

impl Console {
    /// Takes the keys, and the clock.
    pub fn open(look: &Appearance) -> Self {
        Self {
            keyboard: &UNITED_STATES,
            look: look.clone(),
            terminal: None,
            shown: None,
            picture: None,
            without_picture: None,
            ticks: real::ticks(),
        }
    }

    /// A key that is there already.
    fn key(&self) -> Option<Key> {
        const NONE: u16 = 1 << 6;
        let asked = interrupt(KEYS, Registers::ax(0x1100));
        if asked.flags & NONE != 0 {
            return None;
        }
        let said = interrupt(KEYS, Registers::ax(0x1000));
        let [character, scan, ..] = said.ax.to_le_bytes();
        let third = real::data_byte(RIGHT_ALT.0) & RIGHT_ALT.1 != 0;
        Some(key_of(character, scan, |read| self.keyboard.letter(read, third)))
    }

    /// Milliseconds since the last look at the clock; nothing where there are none.
    fn passed(&mut self) -> Option<u32> {
        let now = real::ticks();
        let passed = if now >= self.ticks { now - self.ticks } else { now + DAY - self.ticks };
        self.ticks = now;
        (passed > 0).then(|| passed.saturating_mul(TICK))
    }
}

/// Whether a Shift key is held.
pub fn is_shift_held() -> bool {
    real::data_byte(HELD) & SHIFT != 0
}

impl Screen for Console {
    fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        let (look, has_terminal, picture) = (&self.look, self.terminal.is_some(), &mut self.picture);
        self.shown.get_or_insert_with(|| Shown::open(look, has_terminal, picture.take())).show(scene);
        if let Some(terminal) = &mut self.terminal {
            terminal.show(scene);
        }
    }

    fn otherwise(&self) -> Option<String> {
        let graphics = self.shown.as_ref()?.graphics.as_ref();
        self.look.screen.otherwise(graphics.map(Graphics::size)).or_else(|| self.without_picture.clone())
    }

    fn clear(&mut self) {
        if let Some(shown) = &mut self.shown {
            shown.clear();
            self.terminal.iter_mut().for_each(Terminal::clear);
        }
    }

    fn clear_for(&mut self, title: &str) {
        if let Some(shown) = &mut self.shown {
            shown.clear_for(title);
            self.terminal.iter_mut().for_each(|terminal| terminal.clear_for(title));
        }
    }

    fn wait(&mut self) -> Input {
        loop {
            if let Some(key) = self.key().or_else(|| self.terminal.as_mut()?.key()) {
                return Input::Key(key);
            }
            if let Some(passed) = self.passed() {
                let escape = self.terminal.as_mut().and_then(Terminal::tick);
                return escape.map_or(Input::Tick(passed), Input::Key);
            }
            // A serial line holds no more than sixteen bytes, fewer than come in a tick: it is looked at all the time.
            if self.terminal.is_none() {
                real::idle();
            }
        }
    }

    fn keyboard(&self) -> &'static Keyboard {
        self.keyboard
    }

    fn add_serial_port(&mut self, number: u8) {
        self.terminal = Terminal::open(number, &self.look);
    }

    fn take_picture(&mut self, read: &dyn Fn(usize) -> Result<Vec<u8>, String>) {
        if !self.look.screen.is_drawn(signpost_menu::resolve::Firmware::Bios) {
            return;
        }
        match graphics::picture(read) {
            Ok(picture) => self.picture = Some(picture),
            Err(why) => self.without_picture = Some(without_picture(&why)),
        }
    }

    fn set_keyboard(&mut self, keyboard: &'static Keyboard) {
        self.keyboard = keyboard;
    }
}

/// Puts the cursor there, or hides it.
fn set_cursor(at: Option<(usize, usize)>) {
    let shape = if at.is_some() { 0x0607 } else { 0x2000 };
    interrupt(SCREEN, Registers { ax: 0x100, cx: shape, ..Registers::default() });
    move_to(at.unwrap_or_default());
}

fn move_to((column, row): (usize, usize)) {
    let place = (row as u32) << 8 | column as u32;
    interrupt(SCREEN, Registers { ax: 0x200, dx: place, ..Registers::default() });
}

/// Writes text at the cursor.
pub fn write(text: &str) {
    for symbol in text.chars() {
        let letter = u32::from(code_of(symbol));
        interrupt(SCREEN, Registers { ax: 0xe00 | letter, bx: 7, ..Registers::default() });
    }
}

/// The code of a sign; of one that the screen has not, that of a question mark.
fn code_of(symbol: char) -> u8 {
    match symbol {
        symbol if symbol.is_ascii() => symbol as u8,
        '–' | '—' => b'-',
        '‘' | '’' => b'\'',
        '“' | '”' => b'"',
        symbol => UPPER
            .chars()
            .position(|known| known == symbol)
            .and_then(|index| u8::try_from(index + 0x80).ok())
            .unwrap_or(b'?'),
    }
}

fn key_of(character: u8, scan: u8, letter: impl FnOnce(char) -> char) -> Key {
    match (character, scan) {
        (b'\r' | b'\n', _) => Key::Enter,
        (8 | 0x7f, _) => Key::Backspace,
        (0x1b, _) => Key::Escape,
        // Keys without a character; those of the block between letters and numbers come with E0.
        (0 | 0xe0, scan) => match scan {
            0x48 => Key::Up,
            0x50 => Key::Down,
            0x4b => Key::Left,
            0x4d => Key::Right,
            0x47 => Key::Home,
            0x4f => Key::End,
            0x49 => Key::PageUp,
            0x51 => Key::PageDown,
            0x53 => Key::Delete,
            0x3b..=0x44 => Key::Function(scan - 0x3a),
            _ => Key::Other,
        },
        (character, _) if character.is_ascii_graphic() || matches!(character, b' ' | b'\t') => {
            Key::Char(letter(character.into()))
        }
        (character, _) => {
            let known = character.checked_sub(0x80).and_then(|index| UPPER.chars().nth(index.into()));
            known.map_or(Key::Other, Key::Char)
        }
    }
}
