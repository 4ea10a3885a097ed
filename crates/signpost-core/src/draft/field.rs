//! The value of an entry's key.

use serde::{Deserialize, Serialize};
use signpost_menu::quote::quoted;
use signpost_menu::text::shown;
use toml_edit::{Item, Value};

/// The value of an entry's key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub(crate) enum Field {
    /// A text.
    Text(String),
    /// Several.
    List(Vec<String>),
    /// Yes or no.
    Flag(bool),
}

impl Field {
    /// The value that stands in a file; `None` for one that no entry has.
    pub(crate) fn of_item(item: &Item) -> Option<Self> {
        let value = item.as_value()?;
        if let Some(text) = value.as_str() {
            return Some(Self::Text(text.to_string()));
        }
        if let Some(flag) = value.as_bool() {
            return Some(Self::Flag(flag));
        }
        let list: Option<Vec<String>> =
            value.as_array()?.iter().map(|one| one.as_str().map(str::to_string)).collect();
        list.map(Self::List)
    }

    pub(super) fn to_value(&self) -> Value {
        match self {
            Self::Text(text) => Value::from(text.as_str()),
            Self::List(list) => list.iter().map(String::as_str).collect::<toml_edit::Array>().into(),
            Self::Flag(flag) => Value::from(*flag),
        }
    }

    /// The value as the file writes it.
    pub(super) fn text(&self) -> String {
        match self {
            Self::Text(text) => quoted(text),
            Self::List(list) => {
                format!("[{}]", list.iter().map(|one| quoted(one)).collect::<Vec<_>>().join(", "))
            }
            Self::Flag(flag) => flag.to_string(),
        }
    }
}

impl From<&str> for Field {
    fn from(text: &str) -> Self {
        Self::Text(shown(text).into_owned())
    }
}

impl From<String> for Field {
    fn from(text: String) -> Self {
        Self::Text(shown(&text).into_owned())
    }
}
