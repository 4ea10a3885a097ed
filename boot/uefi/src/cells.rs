//! Consoles of letters: the firmware's own, which it shows on screens and serial lines alike, or, beside a screen of pixels,
//! the serial lines by themselves.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::appearance::{Appearance, Palette};
use signpost_menu::scene::{Frame, Scene, Tone};
use signpost_menu::screen::{Grid, paint, starting};
use signpost_menu::spoken::news;
use uefi::boot::{self, ScopedProtocol, SearchType};
use uefi::proto::console::text::{Color, Output};
use uefi::{CString16, Handle, Identify, system};

use crate::shared;

/// A serial line cannot say how large the terminal behind it is; larger ones than this are rare.
const LARGEST_SERIAL: (usize, usize) = (100, 31);

/// Consoles of letters, all of one size.
pub struct Cells {
    /// Serial lines by themselves; nothing where the firmware's console stands for all.
    lines: Option<Vec<ScopedProtocol<Output>>>,
    palette: Palette,
    size: (usize, usize),
    painted: Option<Grid>,
    /// What was said last, where it is said and not painted.
    said: Option<Vec<String>>,
}

impl Cells {
    /// The firmware's console, in the largest mode that it offers on screen and serial alike.
    pub fn alone(look: &Appearance) -> Self {
        let size = system::with_stdout(|out| largest_mode(out, (usize::MAX, usize::MAX)));
        Self::new(None, look, size)
    }

    /// The serial lines that the firmware's console writes on: its screen is drawn on by others.
    pub fn beside_graphics(look: &Appearance) -> Self {
        let handles = boot::locate_handle_buffer(SearchType::ByProtocol(&Output::GUID));
        let handles = handles.iter().flat_map(|handles| handles.iter());
        let mut lines: Vec<_> = handles.filter_map(|handle| serial_line(*handle)).collect();
        let sizes = lines.iter_mut().map(|line| largest_mode(line, LARGEST_SERIAL));
        let size = sizes.reduce(|a, b| (a.0.min(b.0), a.1.min(b.1))).unwrap_or((80, 25));
        Self::new(Some(lines), look, size)
    }

    fn new(lines: Option<Vec<ScopedProtocol<Output>>>, look: &Appearance, size: (usize, usize)) -> Self {
        let said = look.announce.then(Vec::new);
        let mut cells = Self { lines, palette: look.palette(), size, painted: None, said };
        cells.clear();
        cells
    }

    fn on_each(&mut self, mut show: impl FnMut(&mut Output)) {
        match &mut self.lines {
            Some(lines) => lines.iter_mut().for_each(|line| show(line)),
            None => system::with_stdout(show),
        }
    }

    /// Shows a scene: what differs from what stands there.
    pub fn show(&mut self, scene: &mut dyn FnMut(Frame) -> Scene) {
        if self.lines.as_ref().is_some_and(Vec::is_empty) {
            return;
        }
        let scene = scene(Frame::cells(self.size.0, self.size.1));
        if let Some(said) = self.said.take() {
            if let Ok(text) = CString16::try_from(news(&said, &scene.spoken).as_str()) {
                self.on_each(|out| drop(out.output_string_lossy(&text)));
            }
            self.said = Some(scene.spoken);
            return;
        }
        let grid = paint(&scene);
        let (before, palette) = (self.painted.take(), self.palette);
        self.on_each(|out| differences(out, before.as_ref(), &grid, &palette));
        self.painted = Some(grid);
    }

    /// An empty console.
    pub fn clear(&mut self) {
        self.painted = None;
        if let Some(said) = &mut self.said {
            said.clear();
        }
        let plain = colours(&self.palette, Tone::Plain);
        self.on_each(|out| {
            let _ = out.set_color(plain.0, plain.1);
            let _ = out.enable_cursor(false);
            let _ = out.clear();
        });
    }

    /// Empties everything, the screen that others drew on too, for what is started.
    pub fn leave_for(&mut self, title: &str) {
        self.painted = None;
        system::with_stdout(|out| {
            // Firmware takes its screen back with the mode.
            if let (Some(_), Ok(Some(mode))) = (&self.lines, out.current_mode()) {
                let _ = out.set_mode(mode);
            }
            let _ = out.set_color(Color::LightGray, Color::Black);
            let _ = out.clear();
            if let Ok(text) = CString16::try_from(starting(title).as_str()) {
                let _ = out.output_string_lossy(&text);
            }
        });
    }
}

/// A console on a serial line.
fn serial_line(handle: Handle) -> Option<ScopedProtocol<Output>> {
    shared::is_serial(handle)?.then(|| shared::open(handle).ok()).flatten()
}

/// Sets the largest mode up to a size; what the console's size is then.
fn largest_mode(out: &mut Output, most: (usize, usize)) -> (usize, usize) {
    let fits = |columns: usize, rows: usize| (80..=most.0).contains(&columns) && rows <= most.1;
    let fitting = out.modes().filter(|mode| fits(mode.columns(), mode.rows()));
    if let Some(mode) = fitting.max_by_key(|mode| mode.columns() * mode.rows()) {
        let is_set = out.current_mode().ok().flatten().is_some_and(|now| now.index() == mode.index());
        if !is_set {
            let _ = out.set_mode(mode);
        }
    }
    out.current_mode().ok().flatten().map_or((80, 25), |mode| (mode.columns(), mode.rows()))
}

/// Writes the rows that differ.
fn differences(out: &mut Output, before: Option<&Grid>, grid: &Grid, palette: &Palette) {
    for (number, row) in grid.rows().enumerate() {
        if before.is_some_and(|before| before.rows().nth(number) == Some(row)) {
            continue;
        }
        let _ = out.set_cursor_position(0, number);
        // The last cell of the last row would scroll the screen.
        let end = row.len().saturating_sub(1);
        for run in row[..end].chunk_by(|a, b| a.tone == b.tone) {
            let (front, back) = colours(palette, run[0].tone);
            let _ = out.set_color(front, back);
            let text: String = run.iter().map(|cell| cell.symbol).filter(|symbol| *symbol != '\0').collect();
            if let Ok(text) = CString16::try_from(text.as_str()) {
                let _ = out.output_string_lossy(&text);
            }
        }
    }
    let (front, back) = colours(palette, Tone::Plain);
    let _ = out.set_color(front, back);
    let _ = out.enable_cursor(grid.cursor.is_some());
    if let Some((column, row)) = grid.cursor {
        let _ = out.set_cursor_position(column, row);
    }
}

fn colours(palette: &Palette, tone: Tone) -> (Color, Color) {
    const COLOURS: [Color; 16] = [
        Color::Black,
        Color::Blue,
        Color::Green,
        Color::Cyan,
        Color::Red,
        Color::Magenta,
        Color::Brown,
        Color::LightGray,
        Color::DarkGray,
        Color::LightBlue,
        Color::LightGreen,
        Color::LightCyan,
        Color::LightRed,
        Color::LightMagenta,
        Color::Yellow,
        Color::White,
    ];
    let of = |number: u8| COLOURS[usize::from(number % 16)];
    let (front, behind) = palette.on_console(tone.role());
    (of(front), of(behind))
}
