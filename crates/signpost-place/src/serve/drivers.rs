//! What a boot program brings to the loop: screen and keys, what is remembered from start to start, the slots, starting.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::appearance::Appearance;
use signpost_menu::keyboard::Keyboard;
use signpost_menu::resolve::StartTarget;
use signpost_menu::scene::{Frame, Scene};
use signpost_menu::session::Key;
use signpost_menu::slot::Slots;

use crate::at_boot::BootMachine;

/// That the menu is shown without its picture, and why.
pub fn without_picture(why: &str) -> String {
    format!("the menu is without its picture: {why}")
}

/// What came in.
pub enum Input {
    /// A key.
    Key(Key),
    /// Time passed, in milliseconds.
    Tick(u32),
}

/// Screen and keys.
pub trait Screen {
    /// Shows what differs from what is there; `scene` makes what stands in a frame, of which a screen may have several.
    fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene);

    /// What of the look it could not do.
    fn otherwise(&self) -> Option<String>;

    /// An empty screen.
    fn clear(&mut self);

    /// A screen for what is started: what it is stands there until it has something to say itself.
    fn clear_for(&mut self, title: &str);

    /// Waits for a key, or for time to pass.
    fn wait(&mut self) -> Input;

    /// What keyboards are read as.
    fn keyboard(&self) -> &'static Keyboard;

    /// Shows everything on a serial port too, counted from 0, and reads its keys; nothing where the firmware itself does that.
    fn add_serial_port(&mut self, _number: u8) {}

    /// Takes the picture behind the menu from wherever `read` reads it, of at most so many bytes, before anything is shown; nothing
    /// where the picture lies beside the program.
    fn take_picture(&mut self, _read: &dyn Fn(usize) -> Result<Vec<u8>, String>) {}

    /// Reads keyboards as these from now on.
    fn set_keyboard(&mut self, keyboard: &'static Keyboard);
}

/// A boot program's own part. What is remembered goes by the names of [`signpost_menu::ours`].
pub trait Drivers {
    /// Its screen.
    type Screen: Screen;

    /// Looks at every disk that the firmware has found.
    fn look(&mut self) -> BootMachine;

    /// Has the firmware find disks that it has skipped in a hurry; whether that can be.
    fn wake_disks(&mut self) -> bool;

    /// A screen, which is taken once something is shown on it, and its keys.
    fn open_screen(&mut self, look: &Appearance) -> Self::Screen;

    /// Hours and minutes, by the machine's own clock.
    fn time(&self) -> Option<(u8, u8)>;

    /// What is to be said of how the program itself was started.
    fn note(&self) -> Option<String>;

    /// Whether somebody holds a key that asks for the menu, whatever would start by itself.
    fn is_menu_asked_for(&self) -> bool;

    /// Something that is remembered.
    fn remembered(&self, name: &str) -> Option<String>;

    /// Remembers a text; whether that could be.
    fn remember(&mut self, name: &str, text: &str) -> bool;

    /// Forgets something.
    fn forget(&mut self, name: &str);

    /// Both slots of a home as they are: of a volume, or of a disk whose sectors it is, by its index.
    ///
    /// # Errors
    /// Why they cannot be looked for, in words.
    fn slots(&self, machine: &BootMachine, home: usize) -> Result<Slots, String>;

    /// Overwrites a slot, and reads it back.
    ///
    /// # Errors
    /// Why that could not be, in words.
    fn write_slot(&mut self, index: usize, bytes: &[u8]) -> Result<(), String>;

    /// Starts something; comes back with the reason why it is not running.
    fn start(&mut self, machine: &BootMachine, target: &StartTarget, args: Option<&str>) -> String;

    /// Restarts into firmware setup; comes back with the reason why not.
    fn open_setup(&mut self) -> String;

    /// Has the firmware start a load option next; whether that could be.
    fn set_next_boot(&mut self, number: u16) -> bool;

    /// Puts a load option first; whether that could be.
    fn put_first(&mut self, machine: &BootMachine, number: u16) -> bool;

    /// Restarts the machine.
    fn restart(&mut self) -> !;

    /// Turns the machine off; comes back with the reason why it is still on.
    fn power_off(&mut self) -> String;
}
