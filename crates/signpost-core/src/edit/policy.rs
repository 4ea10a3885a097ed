//! A policy: what one file says of the menus of many machines. Its keys are those of `tune`; beside them it says which systems come
//! first, which are hidden, and what they are called. It names them by title or id and never by a volume, so that one file fits
//! machines whose disks differ: each machine's own survey fills it in.

mod follow;
mod images;
mod names;
mod refresh;

use std::path::{Path, PathBuf};

use serde::Serialize;
use signpost_facts::{Error, Result};
use signpost_menu::Problem;
use signpost_menu::document::Host;
use toml_edit::{Document, Key, TableLike};

use super::assignments::{self, Position, Wanted};
pub use refresh::Refreshed;

/// A key that policies have beside those of `tune`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct OwnKey {
    /// As it stands in the file.
    pub name: &'static str,
    /// Its values, in words.
    pub values: &'static str,
    /// What it is for.
    pub meaning: &'static str,
    /// A line that may be written.
    pub example: &'static str,
}

const STRICT: &str = "strict";
const ORDER: &str = "order";
const HIDE: &str = "hide";
const ADD: &str = "add";
const TITLES: &str = "titles";

/// The keys that policies have beside those of `tune`.
pub const OWN_KEYS: [OwnKey; 5] = [
    OwnKey {
        name: STRICT,
        values: "true or false",
        meaning: "what fits nothing on a machine is an error there, and not a note",
        example: "strict = true",
    },
    OwnKey {
        name: ORDER,
        values: "a list of systems or entries",
        meaning: "these come first in the menu, in this order",
        example: "order = [\"Meridian Desktop 4\", \"larkspur\"]",
    },
    OwnKey {
        name: HIDE,
        values: "a list of systems or entries",
        meaning: "these are not in the menu, and draft never offers them",
        example: "hide = [\"Larkspur Linux 12\"]",
    },
    OwnKey {
        name: ADD,
        values: "a list of systems in image files",
        meaning: "these come into the menu too, as the recipe for their image says",
        example: "add = [\"Lantern Live\"]",
    },
    OwnKey {
        name: TITLES,
        values: "a table: a system or entry, and its title",
        meaning: "what the menu calls them",
        example: "titles.larkspur = \"Larkspur for guests\"",
    },
];

/// A policy that was read.
pub struct Policy {
    file: PathBuf,
    is_strict: bool,
    /// The keys of `tune`.
    settings: Vec<Wanted>,
    order: Vec<Named>,
    hidden: Vec<Named>,
    added: Vec<Named>,
    titles: Vec<(Named, String)>,
}

/// A system or an entry, as it is named in the file.
struct Named {
    name: String,
    at: Position,
}

impl Policy {
    /// Reads a policy; `file` is where it stands.
    ///
    /// # Errors
    /// [`Error::MenuFile`] with all that is wrong with it.
    pub fn parse(file: &Path, text: &str) -> Result<Self> {
        let text = assignments::plain(text);
        let faulty = |problems| Error::MenuFile { file: file.display().to_string(), problems };
        let document = assignments::document(text).map_err(faulty)?;
        let own = OWN_KEYS.map(|key| key.name);
        let (settings, problems) = assignments::of_document(text, &document, &own);
        let mut reader = Reader { text, problems };
        let policy = Self {
            file: file.to_path_buf(),
            is_strict: reader.flag(&document, STRICT),
            settings,
            order: reader.names(&document, ORDER),
            hidden: reader.names(&document, HIDE),
            added: reader.names(&document, ADD),
            titles: reader.titles(&document),
        };
        reader.contradictions(&policy);
        reader.problems.sort_by_key(|problem| (problem.line, problem.column));
        if reader.problems.is_empty() { Ok(policy) } else { Err(faulty(reader.problems)) }
    }

    /// Who shows the menu, where it says so.
    pub fn host(&self) -> Option<Host> {
        let setting = self.settings.iter().rfind(|setting| setting.name == "host")?;
        Host::ALL.into_iter().find(|host| host.word() == setting.value)
    }
}

/// Reads what is not a key of `tune`.
struct Reader<'t> {
    text: &'t str,
    problems: Vec<Problem>,
}

impl Reader<'_> {
    /// Where a key of a table stands.
    fn position(&self, table: &dyn TableLike, name: &str) -> Position {
        Position::of(self.text, table.key(name).and_then(Key::span).map_or(0, |span| span.start))
    }

    fn wrong(&mut self, at: Position, message: impl Into<String>) {
        self.problems.push(at.problem(message));
    }

    fn flag(&mut self, document: &Document<&str>, name: &str) -> bool {
        let Some(item) = document.get(name) else { return false };
        item.as_bool().unwrap_or_else(|| {
            let at = self.position(document.as_table(), name);
            self.wrong(at, format!("{name} takes true or false"));
            false
        })
    }

    fn names(&mut self, document: &Document<&str>, name: &str) -> Vec<Named> {
        let Some(item) = document.get(name) else { return Vec::new() };
        let at = self.position(document.as_table(), name);
        let Some(values) = item.as_array() else {
            self.wrong(at, format!("{name} takes a list of titles or ids, such as [\"larkspur\"]"));
            return Vec::new();
        };
        let mut names: Vec<Named> = Vec::new();
        for value in values {
            let at = value.span().map_or(at, |span| Position::of(self.text, span.start));
            match value.as_str() {
                Some(named) if names.iter().any(|other| other.name == named) => {
                    self.wrong(at, format!("{named} stands in {name} twice"));
                }
                Some(named) => names.push(Named { name: named.to_string(), at }),
                None => self.wrong(at, format!("{name} takes titles or ids, as text")),
            }
        }
        names
    }

    fn titles(&mut self, document: &Document<&str>) -> Vec<(Named, String)> {
        let Some(item) = document.get(TITLES) else { return Vec::new() };
        let Some(table) = item.as_table_like() else {
            let at = self.position(document.as_table(), TITLES);
            self.wrong(at, "titles is a table: a system's or entry's title or id, and its title in the menu");
            return Vec::new();
        };
        let mut titles = Vec::new();
        for (name, item) in table.iter() {
            let at = self.position(table, name);
            match item.as_str() {
                Some(title) => titles.push((Named { name: name.to_string(), at }, title.to_string())),
                None => self.wrong(at, format!("titles.{name} takes a text")),
            }
        }
        titles
    }

    /// What is hidden has no place and no title, and is not added.
    fn contradictions(&mut self, policy: &Policy) {
        let others = policy.order.iter().map(|named| (ORDER, named));
        let others = others.chain(policy.added.iter().map(|named| (ADD, named)));
        let others = others.chain(policy.titles.iter().map(|(named, _)| (TITLES, named)));
        for (key, named) in others {
            if policy.hidden.iter().any(|hidden| hidden.name == named.name) {
                self.wrong(named.at, format!("{} stands in {key} and in {HIDE}", named.name));
            }
        }
    }
}
