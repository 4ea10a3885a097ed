//! Keys of `tune` with their values as TOML, as a policy and a look that is handed on write them.

use signpost_menu::Problem;
use signpost_menu::keys::find;
use toml_edit::{Document, Item, Key, Table};

/// A key that is set.
pub(super) struct Wanted {
    /// Its name, as `tune` takes it.
    pub(super) name: String,
    /// Its value, as `tune` takes it.
    pub(super) value: String,
    /// Where it stands.
    pub(super) at: Position,
}

/// Where something stands in a file, both from 1.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Position {
    pub(super) line: usize,
    pub(super) column: usize,
}

impl Position {
    /// That of a byte of the text.
    pub(super) fn of(text: &str, at: usize) -> Self {
        let before = text.get(..at).unwrap_or(text);
        let line_start = before.rfind('\n').map_or(0, |end| end + 1);
        let line = before.matches('\n').count() + 1;
        Self { line, column: before[line_start..].chars().count() + 1 }
    }

    /// What is wrong there.
    pub(super) fn problem(self, message: impl Into<String>) -> Problem {
        Problem { line: self.line, column: self.column, message: message.into() }
    }
}

/// Reads keys: `timeout = 10` at the top, or under the table that the key's name begins with (`[kernel]`, `args = …`).
///
/// # Errors
/// All that is wrong with them.
pub(super) fn read(text: &str) -> Result<Vec<Wanted>, Vec<Problem>> {
    let text = plain(text);
    let (wanted, problems) = of_document(text, &document(text)?, &[]);
    if problems.is_empty() { Ok(wanted) } else { Err(problems) }
}

/// The text without what editors put before it.
pub(super) fn plain(text: &str) -> &str {
    text.strip_prefix('\u{feff}').unwrap_or(text)
}

/// The text as a document.
///
/// # Errors
/// Where it is none.
pub(super) fn document(text: &str) -> Result<Document<&str>, Vec<Problem>> {
    Document::parse(text).map_err(|error| {
        let at = error.span().map_or(0, |span| span.start);
        vec![Position::of(text, at).problem(error.message())]
    })
}

/// The keys of a document but for those that are read elsewhere, and all that is wrong with them.
pub(super) fn of_document(
    text: &str,
    document: &Document<&str>,
    others: &[&str],
) -> (Vec<Wanted>, Vec<Problem>) {
    let (mut wanted, mut problems) = (Vec::new(), Vec::new());
    keys((text, others), "", document.as_table(), &mut wanted, &mut problems);
    (wanted, problems)
}

fn keys(
    (text, others): (&str, &[&str]),
    prefix: &str,
    table: &Table,
    wanted: &mut Vec<Wanted>,
    problems: &mut Vec<Problem>,
) {
    for (name, item) in table {
        let at = Position::of(text, table.key(name).and_then(Key::span).map_or(0, |span| span.start));
        let value = match item {
            _ if prefix.is_empty() && others.contains(&name) => continue,
            Item::Table(inner) if prefix.is_empty() => {
                keys((text, others), &format!("{name}."), inner, wanted, problems);
                continue;
            }
            Item::Value(value) if value.is_str() => value.as_str().map(str::to_string),
            Item::Value(value) if value.is_integer() => value.as_integer().map(|number| number.to_string()),
            Item::Value(value) if value.is_float() => value.as_float().map(|number| number.to_string()),
            Item::Value(value) => value.as_bool().map(|flag| flag.to_string()),
            _ => None,
        };
        let name = format!("{prefix}{name}");
        match value {
            Some(value) => wanted.push(Wanted { name, value, at }),
            // That there is no such key is more than that its value is none.
            None if find(&name).is_none() => wanted.push(Wanted { name, value: String::new(), at }),
            None => problems.push(at.problem(format!("{name} takes a text, a number, true or false"))),
        }
    }
}
