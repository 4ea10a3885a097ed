//! Text that is not ours: from disks, firmware, files of others. It may hold what moves a cursor, breaks a line, or turns the
//! order of letters around; shown, all of that is written out.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::String;

/// Whether a character does something else than stand where it is: control characters (C0, DEL, C1), marks of direction,
/// separators of lines and paragraphs, invisible tags (Unicode 15, 23.1, 23.2, 23.9).
pub fn acts(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}'
            | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// A text on one line, whatever stands in it: what acts is written as `\u{…}`.
pub fn shown(text: &str) -> Cow<'_, str> {
    if !text.contains(acts) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.chars().fold(String::new(), push))
}

/// The same for a text of several lines, which stay.
pub fn shown_lines(text: &str) -> Cow<'_, str> {
    let is_plain = |c: char| !acts(c) || matches!(c, '\n' | '\t');
    let text =
        if text.contains("\r\n") { Cow::Owned(text.replace("\r\n", "\n")) } else { Cow::Borrowed(text) };
    if text.chars().all(is_plain) {
        return text;
    }
    let keep = |mut out: String, c: char| {
        if is_plain(c) {
            out.push(c);
            return out;
        }
        push(out, c)
    };
    Cow::Owned(text.chars().fold(String::new(), keep))
}

fn push(mut out: String, c: char) -> String {
    if acts(c) {
        out.push_str(&format!("\\u{{{:x}}}", u32::from(c)));
    } else {
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_acts_is_written_out_and_nothing_else() {
        assert_eq!(shown("Größe 東京 ☂"), "Größe 東京 ☂");
        assert_eq!(
            shown("a\n\x1b[2Jb\u{9b}c\u{202e}d\u{2028}"),
            "a\\u{a}\\u{1b}[2Jb\\u{9b}c\\u{202e}d\\u{2028}"
        );
        assert_eq!(shown_lines("a\r\nb\tc\rd\n"), "a\nb\tc\\u{d}d\n");
        assert!(!shown("\0\u{7f}\u{e0041}").contains(acts));
    }
}
