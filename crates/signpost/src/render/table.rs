//! Tables without lines, at most 100 columns wide, every line set in by two.

use comfy_table::presets::NOTHING;
use comfy_table::{ContentArrangement, Table as Grid};

use super::style;

/// Columns of all output.
pub const WIDTH: usize = 100;
const INDENT: &str = "  ";

/// A table under way.
pub struct Table {
    grid: Grid,
    header: Vec<String>,
}

impl Table {
    /// A table with these headings; empty ones where none are wanted.
    pub fn new(header: &[&str]) -> Self {
        let mut grid = Grid::new();
        grid.load_style(NOTHING)
            .set_content_arrangement(ContentArrangement::Dynamic)
            .set_width((WIDTH - INDENT.len()) as u16);
        Self { grid, header: header.iter().map(ToString::to_string).collect() }
    }

    /// Adds a row.
    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.grid.add_row(cells);
    }

    /// The table's lines. Colour is put on whole lines only, which leaves the columns' widths alone.
    pub fn text(mut self) -> String {
        let has_header = self.header.iter().any(|cell| !cell.is_empty());
        if has_header {
            self.grid.set_header(&self.header);
        }
        for column in self.grid.column_iter_mut() {
            column.set_padding((0, 2));
        }
        let mut text = String::new();
        for (index, line) in self.grid.lines().enumerate() {
            let line = format!("{INDENT}{}", line.trim_end());
            let line = if has_header && index == 0 { style::faint(&line) } else { line };
            text.push_str(&line);
            text.push('\n');
        }
        text
    }
}
