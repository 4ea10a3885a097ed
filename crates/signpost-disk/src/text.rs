//! Text in fields of on-disk structures.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

/// Text in a field of fixed length, ended by NUL or its end, trailing blanks dropped; `None` where empty.
pub(crate) fn fixed_text(field: &[u8]) -> Option<String> {
    let text = field.split(|byte| *byte == 0).next().unwrap_or_default();
    trimmed(&String::from_utf8_lossy(text))
}

/// Text of 16-bit units, ended by a zero or the field's end, trailing blanks dropped; `None` where empty.
pub(crate) fn utf16_text(field: &[u8], unit: fn([u8; 2]) -> u16) -> Option<String> {
    let units = field.as_chunks::<2>().0.iter().map(|pair| unit(*pair)).take_while(|unit| *unit != 0);
    trimmed(&String::from_utf16_lossy(&units.collect::<Vec<u16>>()))
}

fn trimmed(text: &str) -> Option<String> {
    let text = text.trim_end();
    (!text.is_empty()).then(|| text.to_string())
}
