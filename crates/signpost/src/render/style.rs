//! Colours. No meaning hangs on one alone: words and marks say the same.

use anstyle::{AnsiColor, Style};

fn paint(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// A section's heading.
pub fn heading(text: &str) -> String {
    paint(Style::new().bold(), text)
}

/// What is well.
pub fn good(text: &str) -> String {
    paint(AnsiColor::Green.on_default(), text)
}

/// What is not.
pub fn bad(text: &str) -> String {
    paint(AnsiColor::Red.on_default(), text)
}

/// What wants a look.
pub fn problem(text: &str) -> String {
    paint(AnsiColor::Yellow.on_default(), text)
}

/// What matters less.
pub fn faint(text: &str) -> String {
    paint(Style::new().dimmed(), text)
}

/// With a capital letter at its start.
pub fn sentence(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}
