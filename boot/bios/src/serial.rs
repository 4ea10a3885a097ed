//! A serial port of our own, where the firmware sends nothing to one: a terminal behind it shows the menu and has its keys read.

use alloc::string::String;
use alloc::vec::Vec;
use core::arch::asm;

use signpost_menu::appearance::{Appearance, Palette};
use signpost_menu::scene::{Frame, Scene};
use signpost_menu::screen::{Grid, paint, starting};
use signpost_menu::session::Key;
use signpost_menu::spoken::news;
use signpost_menu::terminal::{Keys, SIZE, cleared, drawn};

use crate::real;

/// The ports of COM1 to COM4, where the firmware does not say others in its data from 0x400 on.
const PORTS: [u16; 4] = [0x3f8, 0x2f8, 0x3e8, 0x2e8];
/// A line that takes a byte in no longer than this many looks has nobody who would.
const PATIENCE: u32 = 1 << 20;

/// Registers of the 16550, from its port on.
mod register {
    pub const DATA: u16 = 0;
    pub const INTERRUPTS: u16 = 1;
    pub const BUFFERS: u16 = 2;
    pub const LINE: u16 = 3;
    pub const MODEM: u16 = 4;
    pub const STATUS: u16 = 5;
    pub const SCRATCH: u16 = 7;
}

/// The port, and what stands on the terminal behind it.
pub struct Terminal {
    port: u16,
    palette: Palette,
    painted: Option<Grid>,
    /// What was said last, where it is said and not painted.
    said: Option<Vec<String>>,
    keys: Keys,
}

impl Terminal {
    /// Opens a port, counted from 0: 115200 baud, 8 bits, no parity, 1 stop bit. Nothing where there is none.
    pub fn open(number: u8, look: &Appearance) -> Option<Self> {
        let index = usize::from(number);
        let known = u16::from_le_bytes([real::data_byte(2 * index), real::data_byte(2 * index + 1)]);
        let port = if known == 0 { *PORTS.get(index)? } else { known };
        let is_there = [0x5a, 0xa5].into_iter().all(|sign| {
            write(port + register::SCRATCH, sign);
            read(port + register::SCRATCH) == sign
        });
        if !is_there {
            return None;
        }
        write(port + register::INTERRUPTS, 0);
        // The divisor's two bytes take the places of data and interrupts meanwhile.
        write(port + register::LINE, 0x80);
        write(port + register::DATA, 1);
        write(port + register::INTERRUPTS, 0);
        write(port + register::LINE, 0x03);
        write(port + register::BUFFERS, 0x07);
        write(port + register::MODEM, 0x03);
        let said = look.announce.then(Vec::new);
        Some(Self { port, palette: look.palette(), painted: None, said, keys: Keys::default() })
    }

    /// Shows a scene: what differs from what stands there; or says what is new in it.
    pub fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        let scene = scene(Frame::cells(SIZE.0, SIZE.1));
        if let Some(said) = &self.said {
            self.send(&news(said, &scene.spoken));
            self.said = Some(scene.spoken);
            return;
        }
        let grid = paint(&scene);
        self.send(&drawn(self.painted.as_ref(), &grid, &self.palette));
        self.painted = Some(grid);
    }

    /// Clears the terminal, for what is shown or started next.
    pub fn clear(&mut self) {
        self.painted = None;
        match &mut self.said {
            Some(said) => said.clear(),
            None => self.send(&cleared()),
        }
    }

    /// The same, and says what is started.
    pub fn clear_for(&mut self, title: &str) {
        self.clear();
        self.send(&starting(title));
    }

    /// A key that is whole.
    pub fn key(&mut self) -> Option<Key> {
        const RECEIVED: u8 = 1;
        while read(self.port + register::STATUS) & RECEIVED != 0 {
            if let Some(key) = self.keys.take(read(self.port + register::DATA)) {
                return Some(key);
            }
        }
        None
    }

    /// A tick of the clock: what was typed, where nothing came behind it.
    pub fn tick(&mut self) -> Option<Key> {
        self.keys.tick()
    }

    fn send(&self, text: &str) {
        const EMPTY: u8 = 0x20;
        for byte in text.bytes() {
            if !(0..PATIENCE).any(|_| read(self.port + register::STATUS) & EMPTY != 0) {
                return;
            }
            write(self.port + register::DATA, byte);
        }
    }
}

fn write(port: u16, value: u8) {
    // SAFETY: the ports are those of a serial line, which nobody else uses while this program runs.
    unsafe { asm!("out dx, al", in("dx") port, in("al") value, options(nomem, nostack)) };
}

fn read(port: u16) -> u8 {
    let value: u8;
    // SAFETY: as for writing.
    unsafe { asm!("in al, dx", in("dx") port, out("al") value, options(nomem, nostack)) };
    value
}
