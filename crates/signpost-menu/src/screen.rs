//! A scene painted into a grid of cells, which any text console can show.

use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use unicode_width::UnicodeWidthChar;

pub use crate::scene::Tone;
use crate::scene::{Frame, Piece, Scene, WHOLE, scene};
use crate::session::Session;
use crate::text::shown;

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

    /// What differs from a screen before, or from an empty one: column, row, and the cells from the first of the row that differs to
    /// the last, the blanks between too, so that words stay together.
    pub fn changed<'g>(
        &'g self,
        before: Option<&'g Self>,
    ) -> impl Iterator<Item = (usize, usize, &'g [Cell])> {
        self.rows().enumerate().filter_map(move |(number, row)| {
            let held = before.and_then(|before| before.rows().nth(number));
            let differs = |column: &usize| match held {
                Some(held) => held.get(*column) != row.get(*column),
                None => row.get(*column) != Some(&BLANK),
            };
            let (first, last) = ((0..row.len()).find(differs)?, (0..row.len()).rfind(differs)?);
            Some((first, number, row.get(first..=last)?))
        })
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

    fn fill(&mut self, (column, row): (usize, usize), columns: usize, cell: Cell) {
        let end = column.saturating_add(columns).min(self.width.saturating_sub(1));
        for column in column..end {
            self.set(column, row, cell.symbol, cell.tone);
        }
    }
}

/// What stands on the screen from the choice of an entry until what it starts speaks itself.
pub fn starting(title: &str) -> String {
    ["Starting ", &shown(title), " ...\r\n"].concat()
}

/// Draws the session on a console of this size.
pub fn draw(session: &Session, width: usize, height: usize) -> Grid {
    paint(&scene(session, Frame::cells(width, height)))
}

/// Paints a scene.
pub fn paint(scene: &Scene) -> Grid {
    let mut grid = Grid::new(scene.frame.width, scene.frame.height);
    for piece in &scene.pieces {
        match piece {
            Piece::Bar { column, row, columns } => {
                grid.fill((*column, *row), *columns, Cell { symbol: ' ', tone: Tone::Chosen });
            }
            Piece::Text { column, row, text, tone } => {
                grid.put(*column, *row, text, *tone);
            }
            Piece::Title { column, row, text } => {
                grid.put(*column, *row, text, Tone::Heading);
            }
            Piece::Symbol { .. } => {}
            Piece::Meter { column, row, columns, left } => {
                let filled = columns.saturating_mul(*left).div_ceil(WHOLE);
                grid.fill((*column, *row), *columns, Cell { symbol: '-', tone: Tone::Faint });
                grid.fill((*column, *row), filled, Cell { symbol: '=', tone: Tone::Heading });
            }
        }
    }
    grid.cursor = scene.cursor;
    grid
}
