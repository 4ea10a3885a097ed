//! How wide output is.

use std::sync::OnceLock;

use terminal_size::{Width, terminal_size_of};

/// Where nothing says how wide the terminal is.
const USUAL: usize = 100;
/// Narrower is not a table any more, wider is hard to read.
const BOUNDS: (usize, usize) = (80, 200);

/// Columns of all output: the terminal's, else those that `COLUMNS` says, within bounds.
pub fn width() -> usize {
    static COLUMNS: OnceLock<usize> = OnceLock::new();
    *COLUMNS.get_or_init(|| {
        let of_terminal = terminal_size_of(std::io::stdout()).map(|(Width(columns), _)| usize::from(columns));
        let said = || std::env::var("COLUMNS").ok()?.parse().ok();
        of_terminal.or_else(said).unwrap_or(USUAL).clamp(BOUNDS.0, BOUNDS.1)
    })
}

/// A text in lines that fit behind something of this width, none of its words or commands cut.
pub fn wrapped(text: &str, behind: usize) -> Vec<String> {
    const LEAST: usize = 24;
    let room = width().saturating_sub(behind).max(LEAST);
    let options =
        textwrap::Options::new(room).break_words(false).word_splitter(textwrap::WordSplitter::NoHyphenation);
    let text = held_together(text);
    let lines = textwrap::wrap(&text, options);
    lines.into_iter().map(|line| line.replace(HELD, " ")).collect()
}

/// A blank at which no line ends.
pub const HELD: char = '\u{a0}';

/// A text whose commands, which stand in backquotes, are not broken: whoever copies one takes it from one line.
pub fn held_together(text: &str) -> String {
    let mut is_command = false;
    let held = text.chars().map(|c| {
        is_command ^= c == '`';
        if is_command && c == ' ' { HELD } else { c }
    });
    held.collect()
}

/// A text behind an indent, its further lines set in by two more.
pub fn hanging(text: &str, indent: &str) -> String {
    let lines = wrapped(text, indent.len() + 2);
    let lines = lines.iter().enumerate().map(|(index, line)| match index {
        0 => format!("{indent}{line}\n"),
        _ => format!("{indent}  {line}\n"),
    });
    lines.collect()
}
