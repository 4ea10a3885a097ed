//! What the menu stands on, and keys with a clock.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::appearance::Appearance;
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
    look: Appearance,
    /// What is shown on, from the first time on: a menu that is not shown touches no screen.
    shown: Option<Shown>,
}

/// Screens.
struct Shown {
    /// The screen of pixels, where there is one.
    graphics: Option<Graphics>,
    /// What shows letters beside it, or alone.
    cells: Cells,
}

impl Shown {
    fn open(look: &Appearance) -> Self {
        let graphics = Graphics::open(look);
        let cells = if graphics.is_some() { Cells::beside_graphics(look) } else { Cells::alone(look) };
        Self { graphics, cells }
    }
}

impl Console {
    /// Takes the keys, and the clock.
    pub fn open(look: &Appearance) -> Self {
        // SAFETY: the event has no function that could be called.
        let timer = unsafe { boot::create_event(EventType::TIMER, Tpl::APPLICATION, None, None) }.ok();
        if let Some(timer) = &timer {
            let _ = boot::set_timer(
                timer,
                TimerTrigger::Periodic(core::time::Duration::from_millis(u64::from(TICK))),
            );
        }
        Self { timer, keys: Keys::new(), look: look.clone(), shown: None }
    }

    fn graphics(&self) -> Option<&Graphics> {
        self.shown.as_ref()?.graphics.as_ref()
    }

    /// Waits until something happens; whether that is the clock.
    fn is_tick(&self) -> bool {
        let of_keys: Vec<Event> = self.keys.events();
        if let Some(timer) = self.timer.as_ref().filter(|_| !of_keys.is_empty()) {
            // The clock comes first: firmware looks at events in their order, and a key's may be there at every look.
            // SAFETY: the copy is only waited for; the event itself is never closed here.
            let mut events = Vec::from([unsafe { timer.unsafe_clone() }]);
            events.extend(of_keys);
            events.extend(self.graphics().into_iter().flat_map(Graphics::events));
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
        let look = &self.look;
        let shown = self.shown.get_or_insert_with(|| Shown::open(look));
        if let Some(graphics) = &mut shown.graphics {
            graphics.show(scene);
        }
        shown.cells.show(scene);
    }

    fn otherwise(&self) -> Option<String> {
        self.shown.as_ref()?;
        let screen = self.look.screen.otherwise(self.graphics().map(Graphics::size));
        screen.or_else(|| self.graphics()?.without_picture())
    }

    fn clear(&mut self) {
        let Some(shown) = &mut self.shown else { return };
        if let Some(graphics) = &mut shown.graphics {
            // What comes next is drawn over all of it at once.
            graphics.forget();
        }
        shown.cells.clear();
    }

    fn clear_for(&mut self, title: &str) {
        let Some(shown) = &mut self.shown else { return };
        if let Some(graphics) = &mut shown.graphics {
            graphics.leave();
        }
        shown.cells.leave_for(title);
    }

    // Firmware tells of Shift and the like too, as of a key that then is none: no time has passed by that.
    fn wait(&mut self) -> Input {
        loop {
            if let Some(key) = self.keys.read() {
                return Input::Key(key);
            }
            let graphics = self.shown.as_mut().and_then(|shown| shown.graphics.as_mut());
            if let Some(key) = graphics.and_then(Graphics::pointed) {
                return Input::Key(key);
            }
            if self.is_tick() {
                return self.keys.read().map_or(Input::Tick(TICK), Input::Key);
            }
        }
    }
}
