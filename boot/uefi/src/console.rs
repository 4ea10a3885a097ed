//! The firmware's text console: painting a grid, and keys with a clock.

use alloc::vec::Vec;

use signpost_menu::keyboard::Keyboard;
use signpost_menu::screen::{Grid, Tone, starting};
use signpost_place::serve::{Input, Screen};
use uefi::boot::{self, EventType, TimerTrigger, Tpl};
use uefi::proto::console::text::Color;
use uefi::{CString16, Event, system};

use crate::keys::Keys;

/// A tick of the clock, in milliseconds.
pub const TICK: u32 = 100;

/// Screen and keys.
pub struct Console {
    timer: Option<Event>,
    keys: Keys,
    painted: Option<Grid>,
    size: (usize, usize),
}

impl Console {
    /// Takes the console, in the largest mode that it offers on screen and serial alike.
    pub fn open() -> Self {
        let size = system::with_stdout(|out| {
            let largest = out
                .modes()
                .filter(|mode| mode.columns() >= 80)
                .max_by_key(|mode| mode.columns() * mode.rows());
            if let Some(mode) = largest {
                let is_set = out.current_mode().ok().flatten().is_some_and(|now| now.index() == mode.index());
                if !is_set {
                    let _ = out.set_mode(mode);
                }
            }
            let _ = out.set_color(Color::LightGray, Color::Black);
            let _ = out.enable_cursor(false);
            let _ = out.clear();
            out.current_mode().ok().flatten().map_or((80, 25), |mode| (mode.columns(), mode.rows()))
        });
        // SAFETY: the event has no function that could be called.
        let timer = unsafe { boot::create_event(EventType::TIMER, Tpl::APPLICATION, None, None) }.ok();
        if let Some(timer) = &timer {
            let _ = boot::set_timer(
                timer,
                TimerTrigger::Periodic(core::time::Duration::from_millis(u64::from(TICK))),
            );
        }
        Self { timer, keys: Keys::new(), painted: None, size }
    }

    /// Waits until something happens; whether that is the clock.
    fn is_tick(&self) -> bool {
        let of_keys: Vec<Event> = self.keys.events();
        if let Some(timer) = self.timer.as_ref().filter(|_| !of_keys.is_empty()) {
            // The clock comes first: firmware looks at events in their order, and a key's may be there at every look.
            // SAFETY: the copy is only waited for; the event itself is never closed here.
            let mut events = Vec::from([unsafe { timer.unsafe_clone() }]);
            events.extend(of_keys);
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

    fn size(&self) -> (usize, usize) {
        self.size
    }

    fn paint(&mut self, grid: Grid) {
        system::with_stdout(|out| {
            let before = self.painted.as_ref();
            for (number, row) in grid.rows().enumerate() {
                if before.is_some_and(|before| before.rows().nth(number) == Some(row)) {
                    continue;
                }
                let _ = out.set_cursor_position(0, number);
                // The last cell of the last row would scroll the screen.
                let end = row.len().saturating_sub(1);
                for run in row[..end].chunk_by(|a, b| a.tone == b.tone) {
                    let (front, back) = colours(run[0].tone);
                    let _ = out.set_color(front, back);
                    let text: alloc::string::String =
                        run.iter().map(|cell| cell.symbol).filter(|symbol| *symbol != '\0').collect();
                    if let Ok(text) = CString16::try_from(text.as_str()) {
                        let _ = out.output_string_lossy(&text);
                    }
                }
            }
            let _ = out.set_color(Color::LightGray, Color::Black);
            let _ = out.enable_cursor(grid.cursor.is_some());
            if let Some((column, row)) = grid.cursor {
                let _ = out.set_cursor_position(column, row);
            }
        });
        self.painted = Some(grid);
    }

    fn clear(&mut self) {
        self.painted = None;
        system::with_stdout(|out| {
            let _ = out.set_color(Color::LightGray, Color::Black);
            let _ = out.clear();
        });
    }

    fn clear_for(&mut self, title: &str) {
        self.clear();
        if let Ok(text) = CString16::try_from(starting(title).as_str()) {
            system::with_stdout(|out| {
                let _ = out.output_string_lossy(&text);
            });
        }
    }

    // Firmware tells of Shift and the like too, as of a key that then is none: no time has passed by that.
    fn wait(&mut self) -> Input {
        loop {
            if let Some(key) = self.keys.read() {
                return Input::Key(key);
            }
            if self.is_tick() {
                return self.keys.read().map_or(Input::Tick(TICK), Input::Key);
            }
        }
    }
}

fn colours(tone: Tone) -> (Color, Color) {
    match tone {
        Tone::Plain => (Color::LightGray, Color::Black),
        Tone::Heading => (Color::White, Color::Black),
        Tone::Chosen => (Color::Black, Color::LightGray),
        Tone::Faint => (Color::Cyan, Color::Black),
        Tone::Warning => (Color::Yellow, Color::Black),
    }
}
