//! What is on the menu's screen, before cells or pixels: pieces with a role and a place. The unit is a line of text and the
//! width of a letter, which a painter makes as large as its screen wants.

mod menu;

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

pub use menu::scene;

use crate::appearance::{Align, Role, Width};
pub use crate::symbol::Symbol;

/// How a piece is meant; a painter gives each a colour, or none.
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

impl Tone {
    /// The role whose colour its text has.
    pub fn role(self) -> Role {
        match self {
            Self::Plain => Role::Text,
            Self::Heading => Role::Heading,
            Self::Chosen => Role::ChosenText,
            Self::Faint => Role::Faint,
            Self::Warning => Role::Warning,
        }
    }
}

/// Something on the screen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// What lies behind the chosen line.
    Bar {
        /// Where it starts.
        column: usize,
        /// The line.
        row: usize,
        /// How far it goes.
        columns: usize,
    },
    /// A text, cut off where the scene's texts end.
    Text {
        /// Where it starts.
        column: usize,
        /// The line.
        row: usize,
        /// What it says.
        text: String,
        /// How it is meant.
        tone: Tone,
    },
    /// The heading of the whole screen: larger, where letters have sizes.
    Title {
        /// Where it starts.
        column: usize,
        /// Its middle line.
        row: usize,
        /// What it says.
        text: String,
    },
    /// A symbol, two columns wide; cells have none.
    Symbol {
        /// Where it starts.
        column: usize,
        /// The line.
        row: usize,
        /// Which.
        symbol: Symbol,
        /// How the text beside it is meant.
        tone: Tone,
    },
    /// How much is left of something.
    Meter {
        /// Where it starts.
        column: usize,
        /// The line.
        row: usize,
        /// How long it is when all is left.
        columns: usize,
        /// How much is left, of [`WHOLE`].
        left: usize,
    },
}

impl Piece {
    /// The line that it stands on.
    pub fn row(&self) -> usize {
        match self {
            Self::Bar { row, .. }
            | Self::Text { row, .. }
            | Self::Title { row, .. }
            | Self::Symbol { row, .. }
            | Self::Meter { row, .. } => *row,
        }
    }
}

/// All of what a [`Piece::Meter`] shows.
pub const WHOLE: usize = 200;

/// What a scene is for: how many columns and lines, and whether they are drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Frame {
    /// Columns.
    pub width: usize,
    /// Lines.
    pub height: usize,
    /// Whether it is drawn pixel by pixel: with symbols, and with more room around.
    pub is_drawn: bool,
    /// Where the text stands, where it is drawn.
    pub align: Align,
    /// How wide it is, where it is drawn.
    pub text: Width,
}

impl Frame {
    /// A console of cells.
    pub fn cells(width: usize, height: usize) -> Self {
        Self { width, height, is_drawn: false, align: Align::default(), text: Width::default() }
    }
}

/// All that is on the screen, what lies on top last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Scene {
    /// What it was made for.
    pub frame: Frame,
    /// What is on it.
    pub pieces: Vec<Piece>,
    /// Where the cursor is to be shown: column and row.
    pub cursor: Option<(usize, usize)>,
    /// The same as lines that are read out one after the other; what changes most stands last.
    pub spoken: Vec<String>,
    /// Lines on which rows of the list stand, and each one's place in the list: what a pointer points at.
    pub rows: Vec<(usize, usize)>,
    /// The column where texts are cut off.
    pub end: usize,
    /// Where texts begin.
    left: usize,
    /// Columns from there to where they should end.
    columns: usize,
    /// The first line that is used.
    top: usize,
    /// The last.
    bottom: usize,
}

/// Columns left free at either side.
const MARGIN: usize = 2;
/// The same where it is drawn.
const DRAWN_MARGIN: usize = 4;
/// Lines are not longer where they are drawn, and stand in the middle: the eye finds the next one.
const LONGEST: usize = 92;
/// Lower screens give no line away.
const LOW_DRAWN: usize = 14;

impl Scene {
    /// An empty one, with so many columns free at either side of cells, and lines that are this long at most where they are drawn.
    pub(crate) fn new(frame: Frame, margin: usize, longest: usize) -> Self {
        let Frame { width, height, is_drawn, .. } = frame;
        let margin = if is_drawn { DRAWN_MARGIN } else { margin };
        let columns = width.saturating_sub(margin.saturating_mul(2)).max(1);
        let columns = if is_drawn { columns.min(frame.text.most(longest)) } else { columns };
        let left = match frame.align {
            Align::Centre if is_drawn => width.saturating_sub(columns) / 2,
            Align::Right if is_drawn => width.saturating_sub(columns).saturating_sub(margin),
            _ => margin,
        };
        let top = usize::from(is_drawn && height >= LOW_DRAWN);
        let end = if is_drawn { left.saturating_add(columns) } else { width.saturating_sub(1) };
        let bottom = height.saturating_sub(1).saturating_sub(top);
        Self {
            frame,
            pieces: Vec::new(),
            cursor: None,
            spoken: Vec::new(),
            rows: Vec::new(),
            end,
            left,
            columns,
            top,
            bottom,
        }
    }

    /// One with nothing on it.
    pub fn empty(frame: Frame) -> Self {
        Self::new(frame, MARGIN, LONGEST)
    }

    /// The columns that texts take, with two more at either side, or all up to the edge that they stand at: what lies behind them
    /// is calm.
    pub fn panel(&self) -> Range<usize> {
        let (start, end) = (self.left.saturating_sub(2), self.end.saturating_add(2));
        match self.frame.align {
            Align::Left => 0..end,
            Align::Centre => start..end,
            Align::Right => start..self.frame.width,
        }
    }

    /// Columns from where texts begin to where they should end.
    pub(crate) fn columns(&self) -> usize {
        self.columns
    }

    /// Lines that are used.
    pub(crate) fn lines(&self) -> usize {
        self.bottom.saturating_add(1).saturating_sub(self.top)
    }

    /// Texts at a place counted from where texts begin.
    pub(crate) fn text(&mut self, column: usize, row: usize, text: &str, tone: Tone) {
        let (column, row) = (column.saturating_add(self.left), row.saturating_add(self.top));
        self.pieces.push(Piece::Text { column, row, text: text.to_string(), tone });
    }

    /// The cursor, at a place counted the same way.
    pub(crate) fn set_cursor(&mut self, column: usize, row: usize) {
        let (column, row) = (column.saturating_add(self.left), row.saturating_add(self.top));
        self.cursor = (column < self.frame.width).then_some((column, row));
    }

    fn title(&mut self, row: usize, text: &str) {
        let (column, row) = (self.left, row.saturating_add(self.top));
        self.pieces.push(Piece::Title { column, row, text: text.to_string() });
    }

    /// Over the whole width of cells; where it is drawn, a column more than the text at either side.
    fn bar(&mut self, row: usize) {
        let row = row.saturating_add(self.top);
        let (column, columns) = match self.frame.is_drawn {
            true => (self.left.saturating_sub(1), self.columns().saturating_add(2)),
            false => (0, self.frame.width.saturating_sub(1)),
        };
        self.pieces.push(Piece::Bar { column, row, columns });
    }
}
