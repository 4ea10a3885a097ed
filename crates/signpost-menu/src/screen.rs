//! The menu drawn into a grid of cells, which any text console can paint.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use unicode_width::UnicodeWidthChar;

use crate::session::{LineEditor, Session, View};
use crate::text::shown;

/// How a cell is meant; a console gives each a colour, or none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tone {
    /// Plain text.
    #[default]
    Plain,
    /// The heading.
    Heading,
    /// The chosen line. It also carries a mark.
    Chosen,
    /// What matters less.
    Faint,
    /// What wants a look.
    Warning,
}

/// One cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cell {
    /// What stands in it; NUL behind a character that is two cells wide.
    pub symbol: char,
    /// How it is meant.
    pub tone: Tone,
}

/// A screen of cells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grid {
    width: usize,
    height: usize,
    cells: Vec<Cell>,
    /// Where the cursor is to be shown: column and row.
    pub cursor: Option<(usize, usize)>,
}

const BLANK: Cell = Cell { symbol: ' ', tone: Tone::Plain };
/// Cells left free at either side.
const MARGIN: usize = 2;

impl Grid {
    /// An empty screen.
    pub fn new(width: usize, height: usize) -> Self {
        Self { width, height, cells: vec![BLANK; width.saturating_mul(height)], cursor: None }
    }

    /// Columns.
    pub fn width(&self) -> usize {
        self.width
    }

    /// The rows, from the top.
    pub fn rows(&self) -> impl Iterator<Item = &[Cell]> {
        self.cells.chunks(self.width.max(1))
    }

    /// A row's text, without the blanks at its end.
    pub fn row_text(&self, row: usize) -> String {
        let cells = self.rows().nth(row).unwrap_or_default();
        let text: String = cells.iter().map(|cell| cell.symbol).filter(|symbol| *symbol != '\0').collect();
        text.trim_end().to_string()
    }

    /// Writes text from a cell on, as far as the row goes; gives the column behind it. A text that does not
    /// fit ends in `~`.
    pub(crate) fn put(&mut self, column: usize, row: usize, text: &str, tone: Tone) -> usize {
        let end = self.width.saturating_sub(1);
        let mut at = column;
        for symbol in shown(text).chars() {
            let wide = symbol.width().unwrap_or(1);
            if wide == 0 {
                continue;
            }
            if at.saturating_add(wide) > end {
                self.set(at.min(end.saturating_sub(1)), row, '~', tone);
                return end;
            }
            self.set(at, row, symbol, tone);
            if wide == 2 {
                self.set(at.saturating_add(1), row, '\0', tone);
            }
            at = at.saturating_add(wide);
        }
        at
    }

    fn set(&mut self, column: usize, row: usize, symbol: char, tone: Tone) {
        if column >= self.width {
            return;
        }
        let index = row.saturating_mul(self.width).saturating_add(column);
        if let Some(cell) = self.cells.get_mut(index) {
            *cell = Cell { symbol, tone };
        }
    }

    fn fill(&mut self, row: usize, tone: Tone) {
        for column in 0..self.width.saturating_sub(1) {
            self.set(column, row, ' ', tone);
        }
    }
}

/// Draws the session on a screen of this size.
pub fn draw(session: &Session, width: usize, height: usize) -> Grid {
    let mut grid = Grid::new(width, height);
    match &session.view {
        View::Help => help(&mut grid),
        View::List => list(&mut grid, session),
        View::Args(editor) => {
            list(&mut grid, session);
            arguments(&mut grid, session, editor);
        }
    }
    grid
}

/// Rows below the list: what is chosen, what is said, the keys, with a free row above and between.
const FOOT: usize = 5;
/// Rows above it.
const HEAD: usize = 3;

fn list(grid: &mut Grid, session: &Session) {
    let heading = match session.open_group() {
        Some(group) => format!("{} / {group}", session.heading),
        None => session.heading.clone(),
    };
    grid.put(MARGIN, usize::from(grid.height > 12), &heading, Tone::Heading);
    // A low screen gives its rows to the list first.
    let (head, foot) =
        if grid.height > 12 { (HEAD, FOOT) } else { (1, 3.min(grid.height.saturating_sub(2))) };
    let room = grid.height.saturating_sub(head).saturating_sub(foot).max(1);
    let rows = session.visible();
    let chosen = session.chosen();
    let top = (chosen.saturating_add(1)).saturating_sub(room);
    for (line, (place, row)) in rows.iter().enumerate().skip(top).take(room).enumerate() {
        let at = head.saturating_add(line);
        let tone = match (place == chosen, row.can_start) {
            (true, _) => Tone::Chosen,
            (false, true) => Tone::Plain,
            (false, false) => Tone::Faint,
        };
        if place == chosen {
            grid.fill(at, tone);
        }
        let mark = if place == chosen { ">" } else { " " };
        let number = if place < 9 { format!("{}", place.saturating_add(1)) } else { " ".into() };
        let cannot = if row.can_start { "" } else { " (cannot start)" };
        grid.put(MARGIN, at, &format!("{mark} {number}  {}{cannot}", row.title), tone);
    }
    if rows.len() > room {
        let shown = format!("{} of {}", chosen.saturating_add(1), rows.len());
        let column = grid.width.saturating_sub(shown.len().saturating_add(MARGIN));
        grid.put(column, head.saturating_sub(1), &shown, Tone::Faint);
    }
    let foot_at = grid.height.saturating_sub(foot.min(4));
    if let Some(row) = rows.get(chosen) {
        grid.put(MARGIN, foot_at, &row.line, if row.can_start { Tone::Plain } else { Tone::Warning });
    }
    let said_at = foot_at.saturating_add(1);
    let mut note_at = said_at;
    if let Some(seconds) = session.countdown() {
        grid.put(MARGIN, said_at, &format!("Starts in {seconds} s. Any key stops."), Tone::Heading);
        note_at = said_at.saturating_add(1);
    }
    if let Some(note) = &session.note {
        grid.put(MARGIN, note_at, note, Tone::Warning);
        let below = note_at.saturating_add(1);
        if session.has_failed() && below.saturating_add(1) < grid.height {
            grid.put(MARGIN, below, "The prompt (:) brings it up by hand.", Tone::Plain);
        }
    }
    if grid.height > 4 {
        let keys = match (session.open_group().is_some(), grid.width >= 60) {
            (false, true) => "Enter start   = arguments   * keep as default   : prompt   ? help",
            (true, true) => "Enter start   = arguments   : prompt   Escape back   ? help",
            (false, false) => "Enter start   ? help",
            (true, false) => "Enter start   Escape back   ? help",
        };
        grid.put(MARGIN, grid.height.saturating_sub(1), keys, Tone::Faint);
    }
}

/// The arguments over the two rows that speak of the chosen entry; a long line shows the part around the
/// cursor.
fn arguments(grid: &mut Grid, session: &Session, editor: &LineEditor) {
    let title = session.visible().get(session.chosen()).map(|row| row.title.clone()).unwrap_or_default();
    let row = grid.height.saturating_sub(4.min(grid.height));
    for line in row..grid.height {
        grid.fill(line, Tone::Plain);
    }
    grid.put(MARGIN, row, &format!("Arguments of {title}, for this start only:"), Tone::Heading);
    let room = grid.width.saturating_sub(MARGIN.saturating_mul(2)).saturating_sub(1).max(1);
    let from = editor.cursor().saturating_sub(room.saturating_sub(1));
    let part: String = editor.text().chars().skip(from).take(room).collect();
    let text_row = row.saturating_add(1).min(grid.height.saturating_sub(1));
    grid.put(MARGIN, text_row, &part, Tone::Chosen);
    let column = MARGIN.saturating_add(editor.cursor().saturating_sub(from));
    grid.cursor = (column < grid.width).then_some((column, text_row));
    let keys = "Enter start with these   Escape back";
    grid.put(MARGIN, grid.height.saturating_sub(1), keys, Tone::Faint);
}

const HELP: [(&str, &str); 10] = [
    ("Arrows, Home, End, page keys", "move the mark"),
    ("1 to 9", "go to that entry"),
    ("a letter", "go to the next title that starts with it"),
    ("Enter", "start the marked entry, or open the group"),
    ("Escape", "go back"),
    ("= or F2", "change a Linux entry's arguments, for this start only"),
    ("* or F3", "keep the marked entry as the default for good"),
    ("? or F1", "this help"),
    (": or F4", "the prompt: look around, put a start together by hand"),
    ("any key", "stops the countdown"),
];

fn help(grid: &mut Grid) {
    grid.put(MARGIN, usize::from(grid.height > 12), "Keys", Tone::Heading);
    let from = if grid.height > 12 { HEAD } else { 1 };
    let wide = grid.width >= 60;
    for (line, (keys, what)) in HELP.iter().enumerate() {
        let row = from.saturating_add(line);
        if wide {
            grid.put(MARGIN, row, keys, Tone::Plain);
            grid.put(34, row, what, Tone::Faint);
        } else {
            grid.put(MARGIN, row, &format!("{keys}: {what}"), Tone::Plain);
        }
    }
    grid.put(MARGIN, grid.height.saturating_sub(1), "Any key goes back", Tone::Faint);
}
