//! An entry as the menu file writes it.

use alloc::format;
use alloc::string::String;

use crate::text::shown;

/// An `[[entry]]` with the reason for it above; keys with their values as the file writes them.
pub fn entry_text<'k>(why: &str, fields: impl IntoIterator<Item = (&'k str, String)>) -> String {
    let mut text = format!("\n# {}\n[[entry]]\n", shown(why));
    for (key, value) in fields {
        text.push_str(&format!("{key:<8}= {value}\n"));
    }
    text
}
