//! Lines that fit a screen.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

/// A line in pieces of this many characters, at blanks where there are any.
pub(crate) fn wrapped(line: &str, columns: usize) -> Vec<String> {
    let mut rows = Vec::new();
    let mut rest: Vec<char> = line.chars().collect();
    while rest.len() > columns {
        let head = rest.get(..columns).unwrap_or(&rest);
        let at = head.iter().rposition(|c| *c == ' ').filter(|at| *at > columns / 2);
        let at = at.map_or(columns, |at| at.saturating_add(1));
        rows.push(rest.drain(..at).collect::<String>().trim_end().to_string());
        // What goes on is set in, so that it is not taken for a line of its own.
        let mut next: Vec<char> = "    ".chars().collect();
        next.append(&mut rest);
        rest = if columns > 8 { next } else { next.split_off(4) };
    }
    rows.push(rest.into_iter().collect());
    rows
}
