//! Tables without lines, as wide as the terminal, every line set in by two. What one would copy (a path, an id) is never cut:
//! a line that holds a longer one is longer.

use comfy_table::presets::NOTHING;
use comfy_table::{ColumnConstraint, ContentArrangement, Table as Grid, Width};
use unicode_width::UnicodeWidthStr;

use super::style;
use super::width::{HELD, held_together, width};

const INDENT: &str = "  ";
/// Columns between two cells.
const GAP: u16 = 2;

/// A table under way.
pub struct Table {
    grid: Grid,
    header: Vec<String>,
    /// How wide each column is, and its widest word.
    columns: Vec<(usize, usize)>,
}

impl Table {
    /// A table with these headings; empty ones where none are wanted.
    pub fn new(header: &[&str]) -> Self {
        let mut grid = Grid::new();
        grid.load_style(NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
        let columns = header.iter().map(|cell| (cell.width(), widest_word(cell))).collect();
        Self { grid, header: header.iter().map(ToString::to_string).collect(), columns }
    }

    /// Adds a row.
    pub fn row<const N: usize>(&mut self, cells: [String; N]) {
        let cells = cells.map(|cell| held_together(&cell));
        for ((whole, word), cell) in self.columns.iter_mut().zip(&cells) {
            *whole = cell.lines().map(UnicodeWidthStr::width).max().unwrap_or(0).max(*whole);
            *word = widest_word(cell).max(*word);
        }
        self.grid.add_row(cells);
    }

    /// The table's lines. Colour is put on whole lines only, which leaves the columns' widths alone.
    pub fn text(mut self) -> String {
        let has_header = self.header.iter().any(|cell| !cell.is_empty());
        if has_header {
            self.grid.set_header(&self.header);
        }
        let gaps = self.columns.len().saturating_sub(1) * usize::from(GAP);
        let widths = arranged(&self.columns, width().saturating_sub(INDENT.len() + gaps));
        for (column, width) in self.grid.column_iter_mut().zip(&widths) {
            column.set_padding((0, GAP));
            column.set_constraint(ColumnConstraint::Absolute(Width::Fixed(short(*width) + GAP)));
        }
        let mut text = String::new();
        for (index, line) in self.grid.lines().enumerate() {
            let line = format!("{INDENT}{}", line.replace(HELD, " ").trim_end());
            let line = if has_header && index == 0 { style::faint(&line) } else { line };
            text.push_str(&line);
            text.push('\n');
        }
        text
    }
}

/// The width of each column: the widest ones give way until all fit, none to less than its widest word.
fn arranged(columns: &[(usize, usize)], room: usize) -> Vec<usize> {
    let mut widths: Vec<usize> = columns.iter().map(|(whole, _)| (*whole).max(1)).collect();
    while widths.iter().sum::<usize>() > room {
        let can_give = widths.iter_mut().zip(columns).filter(|(width, (_, word))| **width > *word);
        let Some((widest, _)) = can_give.max_by_key(|(width, _)| **width) else { break };
        *widest -= 1;
    }
    widths
}

fn short(columns: usize) -> u16 {
    u16::try_from(columns).unwrap_or(u16::MAX)
}

fn widest_word(cell: &str) -> usize {
    cell.split([' ', '\n']).map(UnicodeWidthStr::width).max().unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_widest_columns_give_way_and_no_word_is_cut() {
        assert_eq!(arranged(&[(10, 4), (20, 6)], 40), [10, 20]);
        assert_eq!(arranged(&[(10, 4), (60, 6)], 40), [10, 30]);
        assert_eq!(arranged(&[(10, 4), (60, 36)], 40), [4, 36]);
        assert_eq!(arranged(&[(10, 10), (60, 36)], 40), [10, 36], "a longer line beats a cut path");
    }
}
