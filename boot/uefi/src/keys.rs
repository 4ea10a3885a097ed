//! Keys, of keyboards that firmware takes for those of the United States, and of serial lines that need no such help.

use alloc::vec::Vec;

use signpost_menu::keyboard::{Keyboard, UNITED_STATES};
use signpost_menu::session::Key;
use uefi::boot::{self, ScopedProtocol, SearchType};
use uefi::proto::console::text::{Input, InputEx, Key as FirmwareKey, ScanCode};
use uefi::{Event, Handle, Identify, system};

use crate::shared;

/// Of `KeyShiftState` (UEFI specification, 12.3).
const RIGHT_ALT_PRESSED: u32 = 0x10;

/// All that keys come from.
pub struct Keys {
    keyboard: &'static Keyboard,
    /// Each device by itself, where the keyboard is another than firmware reads it as; else the firmware's console has
    /// them all.
    devices: Vec<Device>,
}

struct Device {
    input: ScopedProtocol<InputEx>,
    is_serial: bool,
}

impl Keys {
    /// The firmware's console, read as it is.
    pub fn new() -> Self {
        Self { keyboard: &UNITED_STATES, devices: Vec::new() }
    }

    /// Reads keyboards as these from now on.
    pub fn set_keyboard(&mut self, keyboard: &'static Keyboard) {
        self.keyboard = keyboard;
        self.devices = if keyboard.is_united_states() { Vec::new() } else { devices() };
    }

    /// What keyboards are read as.
    pub fn keyboard(&self) -> &'static Keyboard {
        self.keyboard
    }

    /// A key that is there already.
    pub fn read(&mut self) -> Option<Key> {
        if self.devices.is_empty() {
            let key = system::with_stdin(Input::read_key).ok().flatten()?;
            return Some(key_of(key, |read| self.keyboard.letter(read, false)));
        }
        self.devices.iter_mut().find_map(|device| {
            let found = device.input.read_key().ok().flatten()?;
            let held = found.key_state.key_shift_state;
            let third = held.is_some_and(|held| held.bits() & RIGHT_ALT_PRESSED != 0);
            Some(key_of(
                found.key,
                |read| {
                    if device.is_serial { read } else { self.keyboard.letter(read, third) }
                },
            ))
        })
    }

    /// What tells that a key has come.
    pub fn events(&self) -> Vec<Event> {
        if self.devices.is_empty() {
            return system::with_stdin(|input| input.wait_for_key_event()).into_iter().collect();
        }
        self.devices.iter().filter_map(|device| device.input.wait_for_key_event().ok()).collect()
    }
}

/// The devices behind the firmware's console; none where firmware does not show them.
fn devices() -> Vec<Device> {
    let handles = boot::locate_handle_buffer(SearchType::ByProtocol(&InputEx::GUID));
    let devices: Vec<Device> =
        handles.iter().flat_map(|handles| handles.iter()).filter_map(|handle| device(*handle)).collect();
    // A serial line alone would leave keyboards unread.
    if devices.iter().all(|device| device.is_serial) { Vec::new() } else { devices }
}

/// A device; the console that stands for all of them has no device path.
fn device(handle: Handle) -> Option<Device> {
    let is_serial = shared::is_serial(handle)?;
    Some(Device { input: shared::open(handle).ok()?, is_serial })
}

fn key_of(key: FirmwareKey, letter: impl FnOnce(char) -> char) -> Key {
    match key {
        FirmwareKey::Printable(c) => match char::from(c) {
            '\r' | '\n' => Key::Enter,
            '\u{8}' | '\u{7f}' => Key::Backspace,
            '\u{1b}' => Key::Escape,
            c => Key::Char(letter(c)),
        },
        FirmwareKey::Special(code) => match code {
            ScanCode::UP => Key::Up,
            ScanCode::DOWN => Key::Down,
            ScanCode::LEFT => Key::Left,
            ScanCode::RIGHT => Key::Right,
            ScanCode::HOME => Key::Home,
            ScanCode::END => Key::End,
            ScanCode::PAGE_UP => Key::PageUp,
            ScanCode::PAGE_DOWN => Key::PageDown,
            ScanCode::DELETE => Key::Delete,
            ScanCode::ESCAPE => Key::Escape,
            ScanCode::FUNCTION_1 => Key::Function(1),
            ScanCode::FUNCTION_2 => Key::Function(2),
            ScanCode::FUNCTION_3 => Key::Function(3),
            ScanCode::FUNCTION_4 => Key::Function(4),
            _ => Key::Other,
        },
    }
}
