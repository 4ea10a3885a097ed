//! A scene as plain lines, for a screen reader or a braille line behind a serial console: each thing is said once.

use alloc::string::String;

use crate::text::shown;

/// What is to be written where these lines were said last, so that the new ones are said: none again, and of a line that is
/// being typed what came to it. Lines begin with a line end.
pub fn news(before: &[String], after: &[String]) -> String {
    let same = before.iter().zip(after).take_while(|(before, after)| before == after).count();
    let behind = if same == 0 { overlap(before, after) } else { same };
    let mut text = String::new();
    let mut new = after.get(behind..).unwrap_or_default();
    // The last line goes on.
    if let (Some(last), [first, rest @ ..]) = (before.last(), new)
        && behind.saturating_add(1) == before.len()
        && let Some(more) = first.strip_prefix(last.as_str())
    {
        text.push_str(&shown(more));
        new = rest;
    }
    for line in new {
        text.push_str("\r\n");
        text.push_str(&shown(line));
    }
    text
}

/// How many lines of `after` are the end of `before`, whose first lines have been left behind.
fn overlap(before: &[String], after: &[String]) -> usize {
    let ends = (0..before.len()).filter_map(|start| before.get(start..));
    ends.into_iter().find(|end| after.starts_with(end)).map_or(0, <[String]>::len)
}

#[cfg(test)]
mod tests {
    use alloc::string::ToString;
    use alloc::vec::Vec;

    use super::*;

    fn said(before: &str, after: &str) -> String {
        let lines = |text: &str| text.split('|').map(ToString::to_string).collect::<Vec<_>>();
        news(&lines(before), &lines(after)).replace("\r\n", "|")
    }

    #[test]
    fn each_thing_is_said_once() {
        assert_eq!(said("Tide|Entry 1|starts in 5 s", "Tide|Entry 1|starts in 5 s"), "");
        assert_eq!(said("Tide|Entry 1|starts in 5 s", "Tide|Entry 2"), "|Entry 2");
        assert_eq!(said("Tide|Entry 2", "Tide|Entry 2|it cannot start"), "|it cannot start");
        assert_eq!(said("Tide|Entry 2", "Keys|Enter"), "|Keys|Enter");
    }

    #[test]
    fn what_is_typed_goes_on_in_its_line() {
        assert_eq!(said("a|> vol", "a|> volu"), "u");
        assert_eq!(said("a|> volumes", "a|> volumes|d1p1|> "), "|d1p1|> ");
        // What is taken away is said anew.
        assert_eq!(said("a|> volu", "a|> vol"), "|> vol");
        // The oldest lines are kept no more.
        assert_eq!(said("a|b|c|> x", "b|c|> x|d|> "), "|d|> ");
    }
}
