//! Files of one line, as the kernel has them below `/sys` and `/proc`.

use std::fs;
use std::path::Path;

/// A file of one line; `None` where it is not there, or empty.
pub fn text(path: &Path) -> Option<String> {
    let text = fs::read_to_string(path).ok()?;
    let text = text.trim();
    (!text.is_empty()).then(|| text.to_string())
}

/// The number in such a file.
pub(super) fn number(path: &Path) -> Option<u64> {
    text(path)?.parse().ok()
}
