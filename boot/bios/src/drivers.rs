//! What BIOS firmware brings to the loop that shows the menu.

use alloc::string::String;

use signpost_menu::appearance::Appearance;
use signpost_menu::resolve::StartTarget;
use signpost_menu::slot::Slots;
use signpost_place::serve::Drivers;

use crate::console::{self, Console};
use crate::home::Home;
use crate::machine::{self, Machine};
use crate::real::{Registers, interrupt};
use crate::{power, start};

/// This firmware.
pub struct Firmware {
    /// Where we came from.
    pub home: Option<Home>,
    /// Whether the first copy of the program did not count.
    pub is_second_copy: bool,
}

const NO_ENTRIES: &str = "BIOS firmware opens its setup by a key at power-on alone";

impl Drivers for Firmware {
    type Screen = Console;

    fn look(&mut self) -> Machine {
        machine::look(self.home.as_ref())
    }

    fn wake_disks(&mut self) -> bool {
        false
    }

    fn open_screen(&mut self, look: &Appearance) -> Console {
        Console::open(look)
    }

    /// Both numbers come as decimal digits of four bits each.
    fn time(&self) -> Option<(u8, u8)> {
        const CLOCK: u8 = 0x1a;
        let said = interrupt(CLOCK, Registers::ax(0x200));
        let [minutes, hours, ..] = said.cx.to_le_bytes().map(|digits| (digits >> 4) * 10 + (digits & 15));
        (!said.is_refused() && hours < 24 && minutes < 60).then_some((hours, minutes))
    }

    fn note(&self) -> Option<String> {
        let note =
            "the first copy of the boot program on this disk is damaged; `signpost hold` writes it again";
        self.is_second_copy.then(|| note.into())
    }

    fn is_menu_asked_for(&self) -> bool {
        console::is_shift_held()
    }

    fn remembered(&self, name: &str) -> Option<String> {
        self.home.as_ref()?.remembered(name)
    }

    fn remember(&mut self, name: &str, text: &str) -> bool {
        self.home.as_ref().is_some_and(|home| home.remember(name, Some(text)))
    }

    fn forget(&mut self, name: &str) {
        if let Some(home) = &self.home {
            home.remember(name, None);
        }
    }

    fn slots(&self, machine: &Machine, home: usize) -> Result<Slots, String> {
        let drive = machine.disk(home).and_then(machine::drive_of);
        let home = drive.and_then(|drive| Home::of(drive.number, &drive.sector(0)?));
        Ok(home.ok_or("nothing of ours is behind its first sector")?.slots())
    }

    fn write_slot(&mut self, index: usize, bytes: &[u8]) -> Result<(), String> {
        self.home.as_ref().ok_or("the disk this program came from is not found")?.write_slot(index, bytes)
    }

    fn start(&mut self, machine: &Machine, target: &StartTarget, args: Option<&str>) -> String {
        start::start(machine, target, args)
    }

    fn open_setup(&mut self) -> String {
        NO_ENTRIES.into()
    }

    fn set_next_boot(&mut self, _: u16) -> bool {
        false
    }

    fn put_first(&mut self, _: &Machine, _: u16) -> bool {
        false
    }

    fn restart(&mut self) -> ! {
        power::restart()
    }

    fn power_off(&mut self) -> String {
        power::off()
    }
}
