//! The screen of pixels: which mode, and putting a painted scene on it.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use signpost_firmware::edid;
use signpost_look::picture::LONGEST_FILE;
use signpost_look::turned::{in_picture, picture_of};
use signpost_look::{Area, Painter, Picture};
use signpost_menu::appearance::{Appearance, Turn};
use signpost_menu::picture_place::PICTURE_PATH;
use signpost_menu::resolve::Firmware;
use signpost_menu::scene::{Frame, Scene};
use signpost_menu::session::Key;
use signpost_place::serve::without_picture;
use uefi::boot::{self, ScopedProtocol, SearchType};
use uefi::proto::console::gop::{BltOp, BltPixel, BltRegion, EdidDiscovered, GraphicsOutput, Mode};
use uefi::{Event, Handle, Identify};

use crate::pointers::{Moved, Pointers};
use crate::{home, shared};

/// No screen is larger, in pixels either way.
const LARGEST: usize = 16_384;

/// A screen of pixels, with what stands on it.
pub struct Graphics {
    output: ScopedProtocol<GraphicsOutput>,
    painter: Painter,
    turn: Turn,
    /// The mode that the menu is drawn in, where it is not the one that was there.
    own: Option<Mode>,
    /// The mode that was there.
    before: Option<Mode>,
    painted: Option<Scene>,
    /// Why the look's picture is not behind the menu.
    without_picture: Option<String>,
    pointers: Pointers,
    /// The row that a pointer has pointed at last.
    pointed: Option<usize>,
}

impl Graphics {
    /// The screen that the console stands on, where the look is to be drawn and there is one.
    pub fn open(look: &Appearance) -> Option<Self> {
        if !look.screen.is_drawn(Firmware::Uefi) {
            return None;
        }
        let output = screen()?;
        let panel = Some(output.current_mode_info().resolution()).filter(|panel| is_drawn_on(*panel))?;
        let modes: Vec<Mode> = output.modes().collect();
        let sizes: Vec<(usize, usize)> = modes.iter().map(|mode| mode.info().resolution()).collect();
        let before = modes.iter().find(|mode| mode.info().resolution() == panel).copied();
        let own = look.screen.choose(&sizes).and_then(|place| modes.get(place)).copied();
        let own = own.filter(|mode| mode.info().resolution() != panel);
        let panel = own.map_or(panel, |mode| mode.info().resolution());
        let tall = millimetres().map(|size| picture_of(size, look.turn).1);
        let painter = Painter::new(picture_of(panel, look.turn), tall, look);
        let (painter, without_picture) = match picture(look) {
            Ok(None) => (painter, None),
            Ok(Some(picture)) => (painter.with_picture(picture, look.picture_fit), None),
            Err(why) => (painter, Some(without_picture(&why))),
        };
        let pointers = Pointers::of(panel);
        let (painted, pointed) = (None, None);
        Some(Self {
            output,
            painter,
            turn: look.turn,
            own,
            before,
            painted,
            without_picture,
            pointers,
            pointed,
        })
    }

    /// Why the look's picture is not behind the menu, in words.
    pub fn without_picture(&self) -> Option<String> {
        self.without_picture.clone()
    }

    /// The screen's own width and height, in pixels.
    pub fn size(&self) -> (usize, usize) {
        picture_of(self.painter.metrics.screen, self.turn)
    }

    /// Shows a scene: what differs from what stands there.
    pub fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        let scene = scene(self.painter.metrics.frame);
        if self.painted.is_none() {
            if let Some(mode) = &self.own {
                let _ = self.output.set_mode(mode);
            }
            self.fill();
        }
        let output = &mut self.output;
        self.painter
            .update(self.painted.as_ref(), &scene, self.turn, |area, pixels| put(output, area, pixels));
        self.painted = Some(scene);
    }

    /// What a pointer has done on what stands there, as a key.
    pub fn pointed(&mut self) -> Option<Key> {
        let Moved { at, is_press } = self.pointers.read()?;
        let scene = self.painted.as_ref()?;
        let row = self.painter.row_at(scene, in_picture(self.size(), self.turn, at));
        let is_other = row != core::mem::replace(&mut self.pointed, row);
        if is_press { Some(Key::Press(row)) } else { row.filter(|_| is_other).map(Key::Point) }
    }

    /// What tells that a pointer has moved.
    pub fn events(&self) -> impl Iterator<Item = Event> {
        self.pointers.events()
    }

    /// The ground alone.
    fn fill(&mut self) {
        let dims = self.size();
        let color = BltPixel::from(self.painter.ground().0);
        let _ = self.output.blt(BltOp::VideoFill { color, dest: (0, 0), dims });
    }

    /// What stands on the screen is drawn over by others.
    pub fn forget(&mut self) {
        self.painted = None;
    }

    /// Gives the screen back as it was.
    pub fn leave(&mut self) {
        self.painted = None;
        if let (Some(_), Some(before)) = (&self.own, &self.before) {
            let _ = self.output.set_mode(before);
        }
    }
}

/// The look's picture, where it has one.
fn picture(look: &Appearance) -> Result<Option<Picture>, String> {
    if look.picture.is_none() {
        return Ok(None);
    }
    let bytes = home::read(PICTURE_PATH, LONGEST_FILE)?;
    Picture::parse(bytes).map(Some).map_err(|fault| format!("{PICTURE_PATH}: {fault}"))
}

/// Width and height of the screen in millimetres, where there is one display and it says so.
fn millimetres() -> Option<(usize, usize)> {
    let handles = boot::locate_handle_buffer(SearchType::ByProtocol(&EdidDiscovered::GUID)).ok()?;
    let [handle] = handles[..] else { return None };
    let display = shared::open::<EdidDiscovered>(handle).ok()?;
    edid::millimetres(display.edid()?)
}

/// Puts pixels on the screen.
fn put(output: &mut GraphicsOutput, area: Area, pixels: &[u32]) {
    const { assert!(size_of::<BltPixel>() == size_of::<u32>() && align_of::<BltPixel>() <= align_of::<u32>()) };
    // SAFETY: a pixel of the firmware's is blue, green, red and a byte that nobody reads (UEFI specification, 12.9.2): the bytes
    // of `0x00RRGGBB` in the order of this processor; size and alignment fit.
    let buffer = unsafe { core::slice::from_raw_parts(pixels.as_ptr().cast::<BltPixel>(), pixels.len()) };
    let _ = output.blt(BltOp::BufferToVideo {
        buffer,
        src: BltRegion::Full,
        dest: (area.x, area.y),
        dims: (area.width, area.height),
    });
}

/// The screen that the firmware's console stands on, which stands for all of them; else any.
fn screen() -> Option<ScopedProtocol<GraphicsOutput>> {
    // SAFETY: the table stays there as long as boot services do, and nothing is written.
    let console = uefi::table::system_table_raw().map(|table| unsafe { table.as_ref() }.stdout_handle);
    // SAFETY: it is a handle of the firmware's, or none.
    let console = console.and_then(|handle| unsafe { Handle::from_ptr(handle) });
    let opened = console.and_then(|handle| shared::open::<GraphicsOutput>(handle).ok());
    opened.or_else(|| shared::open(boot::get_handle_for_protocol::<GraphicsOutput>().ok()?).ok())
}

/// Whether a screen of this size is one.
fn is_drawn_on((width, height): (usize, usize)) -> bool {
    (1..=LARGEST).contains(&width) && (1..=LARGEST).contains(&height)
}
