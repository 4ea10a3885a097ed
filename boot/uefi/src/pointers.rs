//! Pointers that firmware has drivers for: touch screens and tablets, which say where, and mice, which say how far.

use alloc::vec::Vec;

use uefi::boot::{self, ScopedProtocol, SearchType};
use uefi::proto::ProtocolPointer;
use uefi::proto::console::pointer::{AbsolutePointer, Pointer};
use uefi::{Event, Identify};

use crate::shared;

/// `EFI_ABSP_TouchActive` (UEFI specification, 12.7): a finger, or the first button.
const TOUCH_ACTIVE: u32 = 1;

/// All of them, and where they point.
pub struct Pointers {
    absolute: Vec<ScopedProtocol<AbsolutePointer>>,
    relative: Vec<ScopedProtocol<Pointer>>,
    /// Pixels across the screen, and down.
    screen: (usize, usize),
    at: (usize, usize),
    is_pressed: bool,
}

/// What came of a pointer.
pub struct Moved {
    /// Where it points, in pixels.
    pub at: (usize, usize),
    /// Whether it was pressed just now.
    pub is_press: bool,
}

impl Pointers {
    /// Those of a screen of this width and height; they begin in its middle.
    pub fn of(screen: (usize, usize)) -> Self {
        let at = (screen.0 / 2, screen.1 / 2);
        Self { absolute: all(), relative: all(), screen, at, is_pressed: false }
    }

    /// What tells that one has moved.
    pub fn events(&self) -> impl Iterator<Item = Event> {
        let absolute = self.absolute.iter().filter_map(|pointer| pointer.wait_for_input_event().ok());
        absolute.chain(self.relative.iter().filter_map(|pointer| pointer.wait_for_input_event().ok()))
    }

    /// Where one has moved to, or that it was pressed.
    pub fn read(&mut self) -> Option<Moved> {
        let screen = self.screen;
        let absolute = self.absolute.iter_mut().find_map(|pointer| {
            let state = pointer.read_state().ok().flatten()?;
            let mode = pointer.mode();
            let x = scaled(state.current_x, (mode.absolute_min_x, mode.absolute_max_x), screen.0);
            let y = scaled(state.current_y, (mode.absolute_min_y, mode.absolute_max_y), screen.1);
            Some(((x, y), state.active_buttons & TOUCH_ACTIVE != 0))
        });
        let before = self.at;
        let mut relative = || {
            self.relative.iter_mut().find_map(|pointer| {
                let state = pointer.read_state().ok().flatten()?;
                let x = moved(before.0, state.relative_movement_x, screen.0);
                let y = moved(before.1, state.relative_movement_y, screen.1);
                Some(((x, y), bool::from(state.left_button)))
            })
        };
        let (at, is_pressed) = absolute.or_else(&mut relative)?;
        let is_press = is_pressed && !self.is_pressed;
        (self.at, self.is_pressed) = (at, is_pressed);
        Some(Moved { at, is_press })
    }
}

/// Every device that offers this. The console that stands for all of them has nothing left where a device was asked before.
fn all<P: ProtocolPointer + ?Sized + Identify>() -> Vec<ScopedProtocol<P>> {
    let handles = boot::locate_handle_buffer(SearchType::ByProtocol(&P::GUID));
    let handles = handles.iter().flat_map(|handles| handles.iter());
    handles.filter_map(|handle| shared::open(*handle).ok()).collect()
}

/// A place between the ends of a device, in pixels.
fn scaled(place: u64, (least, most): (u64, u64), pixels: usize) -> usize {
    let part = u128::from(place.clamp(least, most.max(least)) - least) * pixels as u128;
    let pixel = part / u128::from((most.saturating_sub(least)).max(1));
    usize::try_from(pixel).unwrap_or(0).min(pixels.saturating_sub(1))
}

/// A pixel so many steps on, within the screen; of large screens a step takes more.
fn moved(from: usize, steps: i32, pixels: usize) -> usize {
    let steps = steps as isize * (1 + pixels as isize / 1000);
    from.saturating_add_signed(steps).min(pixels.saturating_sub(1))
}
