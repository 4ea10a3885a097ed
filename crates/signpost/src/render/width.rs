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

/// A text in lines that fit behind something of this width, none of its words cut.
pub fn wrapped(text: &str, behind: usize) -> Vec<String> {
    const LEAST: usize = 24;
    let room = width().saturating_sub(behind).max(LEAST);
    let options =
        textwrap::Options::new(room).break_words(false).word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, options).into_iter().map(std::borrow::Cow::into_owned).collect()
}
