//! What UEFI firmware brings to the loop that shows the menu.

use alloc::string::String;

use signpost_menu::appearance::Appearance;
use signpost_menu::resolve::StartTarget;
use signpost_menu::slot::Slots;
use signpost_place::serve::Drivers;
use signpost_place::slots;
use uefi::proto::loaded_image::LoadedImage;
use uefi::{Handle, boot, cstr16};

use crate::console::Console;
use crate::machine::{self, Machine};
use crate::{home, power, start, variables};

/// This firmware.
pub struct Firmware {
    /// The volume that it started us from.
    home: Option<Handle>,
}

impl Firmware {
    /// As it has started us.
    pub fn here() -> Self {
        Self {
            home: boot::open_protocol_exclusive::<LoadedImage>(boot::image_handle())
                .ok()
                .and_then(|image| image.device()),
        }
    }
}

impl Drivers for Firmware {
    type Screen = Console;

    fn look(&mut self) -> Machine {
        machine::look(self.home)
    }

    fn wake_disks(&mut self) -> bool {
        let handles = boot::locate_handle_buffer(boot::SearchType::AllHandles);
        for handle in handles.iter().flat_map(|handles| handles.iter()) {
            let _ = boot::connect_controller(*handle, &[], None, true);
        }
        true
    }

    fn open_screen(&mut self, look: &Appearance) -> Console {
        Console::open(look)
    }

    fn time(&self) -> Option<(u8, u8)> {
        uefi::runtime::get_time().ok().map(|time| (time.hour(), time.minute()))
    }

    fn note(&self) -> Option<String> {
        None
    }

    /// This firmware tells of keys that were pressed, and not of those that are held.
    fn is_menu_asked_for(&self) -> bool {
        false
    }

    fn remembered(&self, name: &str) -> Option<String> {
        variables::text(name)
    }

    fn remember(&mut self, name: &str, text: &str) -> bool {
        variables::set_text(name, text)
    }

    fn forget(&mut self, name: &str) {
        variables::remove(name);
    }

    fn slots(&self, machine: &Machine, home: usize) -> Result<Slots, String> {
        machine.file_system(home).map(slots::read)
    }

    fn write_slot(&mut self, index: usize, bytes: &[u8]) -> Result<(), String> {
        home::write_slot(index, bytes)
    }

    fn start(&mut self, machine: &Machine, target: &StartTarget, args: Option<&str>) -> String {
        start::start(machine, target, args)
    }

    fn open_setup(&mut self) -> String {
        power::setup_screen()
    }

    fn set_next_boot(&mut self, number: u16) -> bool {
        variables::set_global(cstr16!("BootNext"), &number.to_le_bytes())
    }

    fn put_first(&mut self, machine: &Machine, number: u16) -> bool {
        let others = machine.boot.order.iter().filter(|other| **other != number);
        let order = core::iter::once(&number).chain(others).flat_map(|number| number.to_le_bytes());
        variables::set_global(cstr16!("BootOrder"), &order.collect::<alloc::vec::Vec<u8>>())
    }

    fn restart(&mut self) -> ! {
        power::restart()
    }

    fn power_off(&mut self) -> String {
        power::off()
    }
}
