//! Setting the menu's policy: several values at once, all of them or none.

use std::path::Path;

use serde::{Deserialize, Serialize};
use signpost_facts::{Error, Result};
use signpost_menu::document::{Show, Timeout};
use signpost_menu::ids::EntryId;
use signpost_menu::keys::{self, KEYS, Key};
use signpost_menu::nearest::nearest;
use signpost_menu::{MenuDocument, Problem, parse_leniently};
use toml_edit::{Item, Value};

use super::{assignments, wrong};
use crate::menu_file::{self, MenuFile};
use crate::menu_text::MenuText;
use crate::named::find;

/// What `tune` did, or would do.
#[derive(Clone, Debug, Serialize)]
pub struct Tuned {
    /// Each key with its value then.
    pub settings: Vec<Setting>,
    /// What nobody would expect of these values.
    pub warnings: Vec<String>,
    /// What a policy changes beside keys: titles, order, what is hidden.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub entries: Vec<Difference>,
    /// What of a policy fits nothing on this machine.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Entries that are in the menu no more since a policy hides them: draft is not to take them for removed by hand.
    #[serde(skip)]
    pub hidden: Vec<EntryId>,
    /// The file's text then.
    #[serde(skip)]
    pub text: String,
}

impl Tuned {
    /// All that changes: keys, then what a policy changes beside them.
    pub fn differences(&self) -> Vec<Difference> {
        let keys = self.settings.iter().filter_map(|setting| {
            let before = setting.before.clone()?;
            Some(Difference { key: setting.name.to_string(), value: setting.value.clone(), before })
        });
        keys.chain(self.entries.iter().cloned()).collect()
    }
}

/// What is another than it was, or than a policy says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Difference {
    /// The key, as it stands in a policy.
    pub key: String,
    /// Its value then.
    pub value: String,
    /// Its value now.
    pub before: String,
}

/// A key and its value.
#[derive(Clone, Debug, Serialize)]
pub struct Setting {
    /// The key as it is typed.
    pub name: &'static str,
    /// Its values, in words.
    pub values: &'static str,
    /// What counts where the file does not say it.
    pub default: &'static str,
    /// What it is for.
    pub meaning: &'static str,
    /// One that may be typed.
    pub example: &'static str,
    /// Its value then.
    pub value: String,
    /// Its value before, where that was another.
    pub before: Option<String>,
}

/// Sets keys (`timeout=10`) in the text of a menu file, which need not hold, and puts others back to their defaults.
///
/// # Errors
/// Where a key or a value is wrong: all of them at once, each with what would be right.
pub fn tune(path: &Path, text: &str, assignments: &[String], resets: &[String]) -> Result<Tuned> {
    change(path, text, |text, before| {
        let mut errors = Vec::new();
        for assignment in assignments {
            if let Err(why) = assign(text, before, assignment) {
                errors.push(why);
            }
        }
        for name in resets {
            match key(name) {
                Ok(key) => reset(text, key),
                Err(why) => errors.push(why),
            }
        }
        if errors.is_empty() { Ok(()) } else { Err(wrong(errors.join("\n"))) }
    })
}

/// Changes the text of a menu file by keys, and tells what came of it.
pub(super) fn change(
    path: &Path,
    text: &str,
    set: impl FnOnce(&mut MenuText, &MenuDocument) -> Result<()>,
) -> Result<Tuned> {
    let (mut text, before, fault) = loaded(path, text)?;
    set(&mut text, &before)?;
    // What is wrong with the file may be what is set here; where it is not, that is what there is to say.
    let text = match (text.finish(path), fault) {
        (Err(_), Some(fault)) => return Err(fault),
        (text, _) => text?,
    };
    let after = menu_file::check(path, &text)?;
    let settings = KEYS.iter().map(|key| (key, (key.value)(&before), (key.value)(&after)));
    let settings = settings.map(|(key, before, value)| Setting {
        name: key.name,
        values: key.values,
        default: key.default,
        meaning: key.meaning,
        example: key.example,
        before: (before != value).then_some(before),
        value,
    });
    Ok(Tuned {
        settings: settings.collect(),
        warnings: warnings(&after),
        entries: Vec::new(),
        notes: Vec::new(),
        hidden: Vec::new(),
        text,
    })
}

/// The file, with what it says as far as it holds, and its errors.
fn loaded(path: &Path, text: &str) -> Result<(MenuText, MenuDocument, Option<Error>)> {
    match MenuFile::new(path, text.to_string()).and_then(|menu| MenuText::of(&menu)) {
        Ok((text, document)) => Ok((text, document, None)),
        Err(fault @ Error::MenuFile { .. }) => match (MenuText::new(path, text), parse_leniently(text).0) {
            (Ok(text), Some(document)) => Ok((text, document, Some(fault))),
            _ => Err(fault),
        },
        Err(error) => Err(error),
    }
}

/// Takes over a look that was handed on: a file with a `[look]` of its own, which stands for all of the menu's.
///
/// # Errors
/// Where the file is wrong, or has other keys: all of it at once, with line and column.
pub fn tune_look(path: &Path, text: &str, look: (&Path, &str)) -> Result<Tuned> {
    let faulty = |problems| Error::MenuFile { file: look.0.display().to_string(), problems };
    let wanted = assignments::read(look.1).map_err(faulty)?;
    change(path, text, |text, before| {
        for key in KEYS.iter().filter(|key| key.table == LOOK) {
            reset(text, key);
        }
        let problems = wanted.iter().filter_map(|wanted| {
            let message = match key(&wanted.name) {
                Ok(key) if key.table != LOOK => format!("{} is no key of a look", wanted.name),
                _ => assign_value(text, before, (&wanted.name, &wanted.value)).err()?,
            };
            Some(wanted.at.problem(message))
        });
        let problems: Vec<Problem> = problems.collect();
        match wanted.first() {
            _ if !problems.is_empty() => Err(faulty(problems)),
            None => Err(wrong(format!("{} has no [look]", look.0.display()))),
            Some(_) => Ok(()),
        }
    })
}

/// The table of the look's keys.
pub(super) const LOOK: &str = "look";

/// The look of a menu as a file that can be handed on.
pub fn look_file(document: &MenuDocument) -> String {
    let of_look = KEYS.iter().filter(|key| key.table == LOOK);
    let set = of_look.map(|key| (key, (key.value)(document)));
    // The name says on which look the rest stands.
    let set = set.filter(|(key, value)| key.name == LOOK || value != key.default);
    let lines = set.map(|(key, value)| match key.kind {
        keys::Kind::Flag => format!("{} = {value}\n", key.key),
        _ => format!("{} = {}\n", key.key, Value::from(value)),
    });
    format!("# A look for `signpost tune look=FILE`.\n[look]\n{}", lines.collect::<String>())
}

/// The key of this name.
fn key(name: &str) -> std::result::Result<&'static Key, String> {
    keys::find(name).ok_or_else(|| {
        let names = KEYS.iter().map(|key| key.name);
        match nearest(name, names.clone()) {
            Some(near) => format!("there is no key {name}; did you mean {near}?"),
            None => format!("there is no key {name}; there are {}", names.collect::<Vec<_>>().join(", ")),
        }
    })
}

fn assign(text: &mut MenuText, document: &MenuDocument, assignment: &str) -> std::result::Result<(), String> {
    let Some((name, value)) = assignment.split_once('=') else {
        let example = key(assignment).map_or(KEYS[0].example, |key| key.example);
        return Err(format!("{assignment} has no value; write it as {example}"));
    };
    assign_value(text, document, (name, value))
}

/// Sets one key, whose name and value are as typed.
pub(super) fn assign_value(
    text: &mut MenuText,
    document: &MenuDocument,
    (name, value): (&str, &str),
) -> std::result::Result<(), String> {
    let key = key(name.trim())?;
    let value = match (key.name, value.trim()) {
        // An entry may be named as everywhere else; the file holds its id.
        ("default", value) if !matches!(value, "first" | "last-started") => {
            let index = find(document, value).map_err(|error| format!("{}: {error}", key.name))?;
            Value::from(document.entries[index].id.as_str())
        }
        (_, value) => match key.parse(value)? {
            keys::Value::Text(text) => Value::from(text),
            keys::Value::Number(number) => Value::from(number),
            keys::Value::Flag(flag) => Value::from(flag),
        },
    };
    text.set_in(key.table, key.key, value).map_err(|error| error.to_string())
}

fn reset(text: &mut MenuText, key: &Key) {
    if let Some(table) = text.document.get_mut(key.table).and_then(Item::as_table_like_mut) {
        table.remove(key.key);
    }
}

fn warnings(document: &MenuDocument) -> Vec<String> {
    let settings = &document.settings;
    let mut warnings = Vec::new();
    if settings.show == Show::Never {
        warnings.push(
            "nobody sees this menu: show=on-key shows it where a key is pressed, `signpost once menu` shows it at the next start"
                .into(),
        );
    } else if settings.timeout == Timeout::Seconds(0) && settings.show == Show::Always {
        warnings.push(
            "with timeout=0 the default starts before anybody sees the menu: show=on-key shows it where a key is pressed, \
             timeout=5 waits for one"
                .into(),
        );
    }
    warnings
}
