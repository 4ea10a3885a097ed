//! What the menu stands on, and keys with a clock.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::appearance::{Appearance, ScreenMode};
use signpost_menu::keyboard::Keyboard;
use signpost_menu::scene::{Frame, Scene};
use signpost_place::serve::{Input, Screen};
use uefi::Event;
use uefi::boot::{self, EventType, TimerTrigger, Tpl};

use crate::cells::Cells;
use crate::graphics::Graphics;
use crate::keys::Keys;

/// A tick of the clock, in milliseconds.
pub const TICK: u32 = 100;

/// Screens and keys.
pub struct Console {
    timer: Option<Event>,
    keys: Keys,
    /// The screen of pixels, where there is one.
    graphics: Option<Graphics>,
    /// What shows letters beside it, or alone.
    cells: Cells,
    wanted: ScreenMode,
}

impl Console {
    /// Takes the console.
    pub fn open(look: &Appearance) -> Self {
        let graphics = Graphics::open(look);
        let cells = if graphics.is_some() { Cells::beside_graphics(look) } else { Cells::alone(look) };
        // SAFETY: the event has no function that could be called.
        let timer = unsafe { boot::create_event(EventType::TIMER, Tpl::APPLICATION, None, None) }.ok();
        if let Some(timer) = &timer {
            let _ = boot::set_timer(
                timer,
                TimerTrigger::Periodic(core::time::Duration::from_millis(u64::from(TICK))),
            );
        }
        Self { timer, keys: Keys::new(), graphics, cells, wanted: look.screen }
    }

    /// Waits until something happens; whether that is the clock.
    fn is_tick(&self) -> bool {
        let of_keys: Vec<Event> = self.keys.events();
        if let Some(timer) = self.timer.as_ref().filter(|_| !of_keys.is_empty()) {
            // The clock comes first: firmware looks at events in their order, and a key's may be there at every look.
            // SAFETY: the copy is only waited for; the event itself is never closed here.
            let mut events = Vec::from([unsafe { timer.unsafe_clone() }]);
            events.extend(of_keys);
            events.extend(self.graphics.iter().flat_map(Graphics::events));
            if let Ok(index) = boot::wait_for_event(&events) {
                return index == 0;
            }
        }
        boot::stall(core::time::Duration::from_millis(u64::from(TICK)));
        true
    }
}

impl Screen for Console {
    fn set_keyboard(&mut self, keyboard: &'static Keyboard) {
        self.keys.set_keyboard(keyboard);
    }

    fn keyboard(&self) -> &'static Keyboard {
        self.keys.keyboard()
    }

    fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        if let Some(graphics) = &mut self.graphics {
            graphics.show(scene);
        }
        self.cells.show(scene);
    }

    fn otherwise(&self) -> Option<String> {
        let screen = self.wanted.otherwise(self.graphics.as_ref().map(Graphics::size));
        screen.or_else(|| self.graphics.as_ref()?.without_picture())
    }

    fn clear(&mut self) {
        if let Some(graphics) = &mut self.graphics {
            // What comes next is drawn over all of it at once.
            graphics.forget();
        }
        self.cells.clear();
    }

    fn clear_for(&mut self, title: &str) {
        if let Some(graphics) = &mut self.graphics {
            graphics.leave();
        }
        self.cells.leave_for(title);
    }

    // Firmware tells of Shift and the like too, as of a key that then is none: no time has passed by that.
    fn wait(&mut self) -> Input {
        loop {
            if let Some(key) = self.keys.read() {
                return Input::Key(key);
            }
            if let Some(key) = self.graphics.as_mut().and_then(Graphics::pointed) {
                return Input::Key(key);
            }
            if self.is_tick() {
                return self.keys.read().map_or(Input::Tick(TICK), Input::Key);
            }
        }
    }
}
