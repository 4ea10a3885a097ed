//! The text of a menu file under change: what is not touched stays to the byte.

use signpost_menu::ids::EntryId;
use std::path::Path;

use signpost_facts::{Error, Result};
use signpost_menu::MenuDocument;
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, TableLike, Value};

use crate::menu_file::{self, MenuFile};

/// A byte order mark, as some editors leave it.
const MARK: char = '\u{feff}';

/// What draft writes behind `host` in a new file: on BIOS machines, where firmware has no list, for the firmware's own, for ours.
pub(crate) const HOST_COMMENTS: [&str; 3] = [
    "# no menu is shown: the default starts, by the active partition",
    "# the firmware's own list shows it",
    "# the boot program shows it",
];

/// A menu file that is being changed.
pub(crate) struct MenuText {
    pub(super) document: DocumentMut,
    has_mark: bool,
    has_crlf: bool,
}

impl MenuText {
    /// Takes a file that holds.
    pub(crate) fn of(menu: &MenuFile) -> Result<(Self, MenuDocument)> {
        Ok((Self::new(&menu.path, &menu.text)?, menu.document.clone()))
    }

    /// Takes a text; `path` is where it stands, for errors.
    pub(crate) fn new(path: &Path, text: &str) -> Result<Self> {
        let plain = text.strip_prefix(MARK).unwrap_or(text);
        let document = plain.parse().map_err(|error| Error::unusable(path.display(), error))?;
        Ok(Self { document, has_mark: text.starts_with(MARK), has_crlf: text.contains("\r\n") })
    }

    /// The changed text, which must hold again.
    pub(crate) fn finish(self, path: &Path) -> Result<String> {
        let mut text = self.document.to_string();
        if self.has_crlf {
            text = text.replace("\r\n", "\n").replace('\n', "\r\n");
        }
        if self.has_mark {
            text.insert(0, MARK);
        }
        match menu_file::check(path, &text) {
            Ok(_) => Ok(text),
            // The lines are those of a file that is not written.
            Err(Error::MenuFile { problems, .. }) => {
                let all: Vec<String> = problems.into_iter().map(|problem| problem.message).collect();
                Err(Error::WrongUse(format!("{}; nothing was written", all.join("; "))))
            }
            Err(error) => Err(error),
        }
    }

    /// Says that draft is not to offer an entry again.
    pub(crate) fn hide_entry(&mut self, id: &str, why: Option<&str>) -> Result<()> {
        self.hide("entry", id, why)
    }

    /// A `[[hide]]` more: of an entry, a system, a volume, or a file.
    pub(super) fn hide(&mut self, key: &str, value: &str, why: Option<&str>) -> Result<()> {
        let mut table = Table::new();
        table.insert(key, Item::Value(Value::from(value)));
        if let Some(why) = why {
            table.insert("why", Item::Value(Value::from(why)));
        }
        self.sections("hide")?.push(table);
        Ok(())
    }

    /// The sections of this name, made where there are none.
    pub(super) fn sections(&mut self, name: &str) -> Result<&mut ArrayOfTables> {
        let item = self.document.entry(name).or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
        item.as_array_of_tables_mut().ok_or_else(|| {
            Error::WrongUse(format!(
                "the file writes {name} in another way than as [[{name}]] sections; edit it by hand"
            ))
        })
    }

    /// Sets a key of one of the file's tables.
    ///
    /// # Errors
    /// Where what the file has by that name is not a table.
    pub(crate) fn set_in(&mut self, table: &str, key: &str, value: Value) -> Result<()> {
        let item = self.document.entry(table).or_insert_with(|| Item::Table(Table::new()));
        let held = item
            .as_table_like_mut()
            .ok_or_else(|| Error::WrongUse(format!("{table} is not a table in the file")))?;
        let before = held.get(key).and_then(Item::as_str).map(str::to_string);
        let is_other = before.as_deref() != value.as_str();
        set(held, key, value);
        if (table, key) == ("menu", "host") && is_other {
            drop_host_comment(held);
        }
        Ok(())
    }

    /// The entries as they stand: id, group, what they start.
    pub(crate) fn list(&self) -> Vec<(EntryId, Option<EntryId>, String)> {
        let sections = self.document.get("entry").and_then(Item::as_array_of_tables);
        let text = |table: &Table, key: &str| table.get(key).and_then(Item::as_str).map(str::to_string);
        let of = |table: &Table| {
            (
                text(table, "id").unwrap_or_default().into(),
                text(table, "in").map(EntryId::from),
                text(table, "starts").unwrap_or_default(),
            )
        };
        sections.into_iter().flat_map(ArrayOfTables::iter).map(of).collect()
    }

    fn place_of(&self, id: &str) -> Result<usize> {
        let place = self.list().iter().position(|(own, ..)| own == id);
        place.ok_or_else(|| Error::WrongUse(format!("the entry {id} is not written as an [[entry]] section")))
    }

    /// The section of the entry of this id.
    pub(crate) fn entry(&mut self, id: &str) -> Result<&mut Table> {
        let index = self.place_of(id)?;
        self.sections("entry")?
            .get_mut(index)
            .ok_or_else(|| Error::WrongUse("the file has changed; try again".into()))
    }

    /// The section of the entry of this id as a text by itself, with the comments before it.
    pub(crate) fn block(&mut self, id: &str) -> Result<String> {
        let mut sections = ArrayOfTables::new();
        sections.push(self.entry(id)?.clone());
        let mut alone = DocumentMut::new();
        alone.insert("entry", Item::ArrayOfTables(sections));
        Ok(alone.to_string())
    }

    /// Takes the entry of this id out.
    pub(crate) fn remove_entry(&mut self, id: &str) -> Result<()> {
        let index = self.place_of(id)?;
        self.sections("entry")?.remove(index);
        Ok(())
    }

    /// Puts the entries into this order, by their indexes. Where each stands in the file is the list's, what stands before it goes
    /// with it.
    pub(super) fn reorder(&mut self, order: &[usize]) -> Result<()> {
        let sections = self.sections("entry")?;
        let tables: Vec<Table> = sections.iter().cloned().collect();
        let places: Vec<_> = tables.iter().map(Table::position).collect();
        sections.clear();
        for (table, place) in order.iter().filter_map(|index| tables.get(*index)).zip(places) {
            let mut table = table.clone();
            table.set_position(place);
            sections.push(table);
        }
        Ok(())
    }

    /// Puts the one section of a text before the entry that stands at an index; what stands behind the last section
    /// stays before one that is put behind it.
    pub(crate) fn insert_entry(&mut self, at: usize, text: &str) -> Result<()> {
        let parsed: DocumentMut =
            text.parse().map_err(|error| Error::WrongUse(format!("the new entry: {error}")))?;
        let sections = parsed.get("entry").and_then(Item::as_array_of_tables);
        let mut table = sections
            .and_then(|sections| sections.get(0))
            .cloned()
            .ok_or_else(|| Error::WrongUse("no entry".into()))?;
        let places = |name: &str| -> Vec<Option<isize>> {
            let sections = self.document.get(name).and_then(Item::as_array_of_tables);
            sections.into_iter().flat_map(ArrayOfTables::iter).map(Table::position).collect()
        };
        let held = places("entry");
        // A section without a place of its own follows the one before it.
        table.set_position(if at == 0 { held.first().copied().flatten() } else { None });
        let is_last = at >= held.len() && places("hide").iter().max() <= held.iter().max();
        if is_last {
            let behind = self.document.trailing().as_str().unwrap_or_default().to_string();
            let prefix =
                table.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default().to_string();
            let line_end = if behind.is_empty() || behind.ends_with('\n') { "" } else { "\n" };
            table.decor_mut().set_prefix(format!("{behind}{line_end}{prefix}"));
            self.document.set_trailing("");
        }
        let sections = self.sections("entry")?;
        let mut tables: Vec<Table> = sections.iter().cloned().collect();
        tables.insert(at.min(tables.len()), table);
        sections.clear();
        tables.into_iter().for_each(|table| sections.push(table));
        Ok(())
    }
}

/// Takes away what draft said behind the host that was there: it is not said of this one.
fn drop_host_comment(menu: &mut dyn TableLike) {
    let Some(host) = menu.get_mut("host").and_then(Item::as_value_mut) else { return };
    let behind = host.decor().suffix().and_then(|suffix| suffix.as_str()).unwrap_or_default();
    if HOST_COMMENTS.contains(&behind.trim()) {
        host.decor_mut().set_suffix("");
    }
}

/// Sets a value; blanks before it and a comment behind it stay.
pub(crate) fn set(table: &mut dyn TableLike, key: &str, value: Value) {
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(held) => {
            let decor = held.decor().clone();
            *held = value;
            *held.decor_mut() = decor;
        }
        None => {
            table.insert(key, Item::Value(value));
        }
    }
}
