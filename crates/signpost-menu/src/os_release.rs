//! `os-release`: what a Linux system says of itself (the freedesktop.org specification of that name).

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::text::{shown, shown_lines};

/// Where it may stand below a system's root; the first one counts.
pub const PATHS: [&str; 2] = ["/etc/os-release", "/usr/lib/os-release"];

/// The fields of an `os-release`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OsRelease {
    fields: Vec<(String, String)>,
}

impl OsRelease {
    /// Reads the file; lines that are not assignment are skipped.
    pub fn parse(text: &str) -> Self {
        let text = shown_lines(text);
        let assignments = text.lines().filter_map(|line| line.trim().split_once('='));
        let field = |(key, value): (&str, &str)| (key.to_string(), shown(&unquote(value)).into_owned());
        Self { fields: assignments.map(field).collect() }
    }

    fn get(&self, key: &str) -> Option<&str> {
        // Of two lines with one key the last counts.
        let (_, value) = self.fields.iter().rev().find(|(own, _)| own == key)?;
        Some(value.as_str()).filter(|value| !value.is_empty())
    }

    /// `ID`, the system's own, never its parent's.
    pub fn id(&self) -> Option<&str> {
        self.get("ID")
    }

    /// `ID_LIKE`: the systems that it is made from.
    pub fn id_like(&self) -> impl Iterator<Item = &str> {
        self.get("ID_LIKE").unwrap_or_default().split_whitespace()
    }

    /// The title, under the system's own name.
    pub fn title(&self) -> Option<String> {
        let pretty = self.get("PRETTY_NAME").map(str::to_string);
        pretty.or_else(|| {
            let name = self.get("NAME")?;
            let version = self.get("VERSION").or(self.get("VERSION_ID"));
            Some(version.map_or_else(|| name.to_string(), |version| format!("{name} {version}")))
        })
    }
}

/// A value without its quotes, with the escapes that a shell would undo.
fn unquote(value: &str) -> String {
    let value = value.trim();
    let inner = |quote: char| value.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote));
    if let Some(plain) = inner('\'') {
        return plain.to_string();
    }
    let Some(text) = inner('"') else { return value.to_string() };
    let mut out = String::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        // Before all else a shell leaves the backslash where it is.
        let escaped = chars.next_if(|next| c == '\\' && matches!(next, '"' | '$' | '`' | '\\'));
        out.push(escaped.unwrap_or(c));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_derived_system_goes_by_its_own_name() {
        let text =
            "# comment\nNAME=\"Larkspur\"\nID=larkspur\nID_LIKE='meadow field'\nVERSION_ID=14\nnonsense\n";
        let release = OsRelease::parse(text);
        assert_eq!(release.id(), Some("larkspur"));
        assert_eq!(release.title().as_deref(), Some("Larkspur 14"));
        let pretty = OsRelease::parse("PRETTY_NAME=\"The \\\"Blue\\\" One\"\n");
        assert_eq!(pretty.title().as_deref(), Some("The \"Blue\" One"));
        assert_eq!(OsRelease::parse("").title(), None);
    }
}
