//! The screen of pixels, where the look asks for one and the firmware has it.

use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use signpost_firmware::bios::vesa::{MODE_LENGTH, Mode};
use signpost_firmware::edid;
use signpost_look::picture::LONGEST_FILE;
use signpost_look::turned::picture_of;
use signpost_look::{Painter, Picture};
use signpost_menu::appearance::{Appearance, ScreenMode, Turn};
use signpost_menu::resolve::Firmware;
use signpost_menu::scene::{Frame, Scene};

use crate::memory;
use crate::real::{self, BOUNCE, Registers, interrupt};

const SCREEN: u8 = 0x10;
/// Functions of the VESA BIOS Extension, in AX.
const CONTROLLER: u16 = 0x4f00;
const MODE: u16 = 0x4f01;
const SET_MODE: u16 = 0x4f02;
const DISPLAY: u16 = 0x4f15;
/// What AX holds behind a function that did what it was asked.
const DONE: u16 = 0x004f;
/// Of a mode's number: its memory is wanted in one piece.
const LINEAR: u16 = 1 << 14;
/// Modes that are asked for.
const MAX_MODES: usize = 256;

/// A screen of pixels, with what stands on it.
pub struct Graphics {
    number: u16,
    mode: Mode,
    painter: Painter,
    turn: Turn,
    painted: Option<Scene>,
}

impl Graphics {
    /// The mode that the look asks for. Firmware leaves a screen of letters: one of pixels is taken only where a size is named, or
    /// the display's own.
    pub fn open(look: &Appearance, picture: Option<Picture>) -> Option<Self> {
        if !look.screen.is_drawn(Firmware::Bios) {
            return None;
        }
        let display = display();
        let of_display = Some(look.screen).filter(|screen| *screen == ScreenMode::Native);
        let of_display = of_display.and_then(|_| own_mode(display.as_ref()?));
        let wanted = of_display.unwrap_or(look.screen);
        let modes: Vec<(u16, Mode)> =
            numbers().into_iter().filter_map(|number| Some((number, mode(number)?))).collect();
        let sizes: Vec<(usize, usize)> = modes.iter().map(|(_, mode)| mode.size).collect();
        let (number, mode) = *modes.get(wanted.choose(&sizes)?)?;
        let millimetres = display.and_then(|display| edid::millimetres(&display));
        let tall = millimetres.map(|size| picture_of(size, look.turn).1);
        let painter = Painter::new(picture_of(mode.size, look.turn), tall, look);
        let painter = match picture {
            Some(picture) => painter.with_picture(picture, look.picture_fit),
            None => painter,
        };
        Some(Self { number, mode, painter, turn: look.turn, painted: None })
    }

    /// The screen's own width and height, in pixels.
    pub fn size(&self) -> (usize, usize) {
        self.mode.size
    }

    /// Shows a scene: what differs from what stands there.
    pub fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        let scene = scene(self.painter.metrics.frame);
        if self.painted.is_none() {
            call(SET_MODE, Registers { bx: u32::from(self.number | LINEAR), ..Registers::default() });
            let row = vec![self.painter.ground().0; self.mode.size.0];
            (0..self.mode.size.1).for_each(|y| self.put(0, y, &row));
        }
        self.painter.update(self.painted.as_ref(), &scene, self.turn, |area, pixels| {
            for (y, row) in pixels.chunks(area.width).enumerate() {
                self.put(area.x, area.y + y, row);
            }
        });
        self.painted = Some(scene);
    }

    /// Puts pixels into a row of the screen.
    fn put(&self, x: usize, y: usize, row: &[u32]) {
        if y >= self.mode.size.1 || x + row.len() > self.mode.size.0 {
            return;
        }
        let start = self.mode.memory as usize + y * self.mode.row + x * self.mode.pixel;
        for (place, pixel) in row.iter().enumerate() {
            let at = start + place * self.mode.pixel;
            let [blue, green, red, _] = pixel.to_le_bytes();
            // SAFETY: the row is within the mode's memory, which its description was checked for, and nothing else lies there.
            unsafe {
                if self.mode.pixel == 4 {
                    (at as *mut u32).write_unaligned(*pixel);
                } else {
                    (at as *mut [u8; 3]).write_volatile([blue, green, red]);
                }
            }
        }
    }

    /// What comes next is painted anew.
    pub fn forget(&mut self) {
        self.painted = None;
    }

    /// Gives the screen back, as one of letters.
    pub fn leave(&mut self) {
        self.painted = None;
        interrupt(SCREEN, Registers::ax(3));
    }
}

/// The picture behind the menu, from where its file is read.
///
/// # Errors
/// Why there is none, in words.
pub fn picture(read: &dyn Fn(usize) -> Result<Vec<u8>, String>) -> Result<Picture, String> {
    /// What everything else takes beside it.
    const BESIDE: usize = 3 << 20;
    // Where memory runs out, there is no menu at all.
    if memory::free() < LONGEST_FILE + BESIDE {
        return Err("there is too little memory for it".into());
    }
    Picture::parse(read(LONGEST_FILE)?).map_err(|fault| fault.to_string())
}

/// Calls a function, with room for its answer in the bounce buffer; whether it did what it was asked.
fn call(function: u16, registers: Registers) -> bool {
    let es = (BOUNCE >> 4) as u16;
    let said = interrupt(SCREEN, Registers { ax: function.into(), di: 0, es, ..registers });
    said.ax as u16 == DONE
}

/// The answer of a function.
fn answer<const N: usize>(function: u16, registers: Registers) -> Option<[u8; N]> {
    let mut block = [0; N];
    real::put_bounced(&block);
    call(function, registers).then(|| real::take_bounced(0, &mut block))?;
    Some(block)
}

/// The numbers of all modes (`VbeInfoBlock`, 4.3): the list lies where its far pointer says, with an end mark.
fn numbers() -> Vec<u16> {
    const END: u16 = 0xffff;
    real::put_bounced(b"VBE2");
    if !call(CONTROLLER, Registers::default()) {
        return Vec::new();
    }
    let mut block = [0; 20];
    real::take_bounced(0, &mut block);
    let [.., low, high, of_low, of_high, _, _] = block;
    let list = usize::from(u16::from_le_bytes([of_low, of_high])) * 16
        + usize::from(u16::from_le_bytes([low, high]));
    let all = (0..MAX_MODES).filter_map(|place| real::word_below_mebibyte(list + 2 * place));
    if block.starts_with(b"VESA") { all.take_while(|number| *number != END).collect() } else { Vec::new() }
}

fn mode(number: u16) -> Option<Mode> {
    let block = answer::<MODE_LENGTH>(MODE, Registers { cx: number.into(), ..Registers::default() })?;
    Mode::read(&block)
}

/// What the display says of itself.
fn display() -> Option<[u8; edid::LENGTH]> {
    const READ: u32 = 1;
    answer(DISPLAY, Registers { bx: READ, ..Registers::default() })
}

/// The display's own size.
fn own_mode(display: &[u8]) -> Option<ScreenMode> {
    let (width, height) = edid::own_size(display)?;
    Some(ScreenMode::Size { width: width.try_into().ok()?, height: height.try_into().ok()? })
}
