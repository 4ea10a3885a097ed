//! A policy file: keys of `tune` with their values, as TOML, the same for many machines.

use signpost_menu::Problem;
use toml_edit::{Document, Item, Key, Table};

/// A key that the policy sets.
pub(super) struct Wanted {
    /// `KEY=VALUE`, as `tune` takes it.
    pub(super) assignment: String,
    /// Where it stands, both from 1.
    pub(super) line: usize,
    pub(super) column: usize,
}

impl Wanted {
    /// What is wrong with it, where it stands.
    pub(super) fn problem(&self, message: String) -> Problem {
        Problem { line: self.line, column: self.column, message }
    }
}

/// Reads a policy: `timeout = 10` at the top, or under the table that the key's name begins with (`[kernel]`, `args = …`).
///
/// # Errors
/// All that is wrong with it.
pub(super) fn read(text: &str) -> Result<Vec<Wanted>, Vec<Problem>> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let document = Document::parse(text).map_err(|error| {
        let at = error.span().map_or(0, |span| span.start);
        vec![problem(text, at, error.message().to_string())]
    })?;
    let (mut wanted, mut problems) = (Vec::new(), Vec::new());
    keys(text, "", document.as_table(), &mut wanted, &mut problems);
    if problems.is_empty() { Ok(wanted) } else { Err(problems) }
}

fn keys(text: &str, prefix: &str, table: &Table, wanted: &mut Vec<Wanted>, problems: &mut Vec<Problem>) {
    for (name, item) in table {
        let at = table.key(name).and_then(Key::span).map_or(0, |span| span.start);
        let value = match item {
            Item::Table(inner) if prefix.is_empty() => {
                keys(text, &format!("{name}."), inner, wanted, problems);
                continue;
            }
            Item::Value(value) if value.is_str() => value.as_str().map(str::to_string),
            Item::Value(value) if value.is_integer() => value.as_integer().map(|number| number.to_string()),
            Item::Value(value) if value.is_float() => value.as_float().map(|number| number.to_string()),
            Item::Value(value) => value.as_bool().map(|flag| flag.to_string()),
            _ => None,
        };
        match value {
            Some(value) => {
                let Problem { line, column, .. } = problem(text, at, String::new());
                wanted.push(Wanted { assignment: format!("{prefix}{name}={value}"), line, column });
            }
            None => {
                let message = format!("{prefix}{name} takes a text, a number, true or false");
                problems.push(problem(text, at, message));
            }
        }
    }
}

/// What is wrong at a byte of the text.
fn problem(text: &str, at: usize, message: String) -> Problem {
    let before = text.get(..at).unwrap_or(text);
    let line_start = before.rfind('\n').map_or(0, |end| end + 1);
    let line = before.matches('\n').count() + 1;
    Problem { line, column: before[line_start..].chars().count() + 1, message }
}
