//! What the entries of a menu would start on a surveyed machine, and whether it is there.

use serde::Serialize;
use signpost_menu::MenuDocument;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::resolve::{LoadOptionSeen, Surroundings};

pub use signpost_menu::resolve::{ResolvedEntry, StartTarget, describe, resolve};

use crate::survey::{Look, VolumeReader};

/// A row of the menu, as facts.
#[derive(Clone, Debug, Serialize)]
pub struct MenuRow {
    /// The entry's id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Its kind.
    pub kind: &'static str,
    /// Whether it starts where nobody chooses.
    pub is_default: bool,
    /// Its group.
    pub group: Option<String>,
    /// Whether what it starts is there.
    pub is_there: bool,
    /// What it starts, or why it cannot.
    pub starts: String,
    /// What else is worth saying.
    pub notes: Vec<String>,
}

/// The menu as a table of facts.
pub fn rows(look: &Look<'_>, document: &MenuDocument) -> Vec<MenuRow> {
    let default = document.default_entry(None).map(|entry| entry.id.as_str());
    resolve(look, document)
        .into_iter()
        .map(|resolved| MenuRow {
            id: resolved.entry.id.clone(),
            title: resolved.entry.title.clone(),
            kind: resolved.entry.starts.word(),
            is_default: default == Some(resolved.entry.id.as_str()),
            group: resolved.entry.group.clone(),
            is_there: resolved.target.is_ok(),
            starts: describe(look, &resolved),
            notes: resolved.notes,
        })
        .collect()
}

impl Surroundings for Look<'_> {
    fn volumes(&self) -> &[VolumeIdentity] {
        self.identities()
    }

    fn whereabouts(&self, volume: usize) -> String {
        self.survey.volumes[volume].where_it_is()
    }

    fn files(&self, volume: usize, folder: &str) -> Result<Option<Vec<String>>, String> {
        let items = open(self, volume)?.list(folder);
        Ok(items
            .ok()
            .map(|items| items.into_iter().filter(|item| !item.is_folder).map(|item| item.name).collect()))
    }

    fn has_file(&self, volume: usize, path: &str) -> Result<bool, String> {
        Ok(open(self, volume)?.has_file(path))
    }

    fn load_options(&self) -> Vec<LoadOptionSeen> {
        let entries = self.survey.firmware.entries.iter();
        entries
            .map(|entry| LoadOptionSeen {
                number: entry.number(),
                label: entry.label.clone(),
                target: entry.target.as_ref().map(|target| (target.volume - 1, target.file.clone())),
            })
            .collect()
    }
}

fn open<'l>(look: &'l Look<'_>, volume: usize) -> Result<&'l VolumeReader, String> {
    look.reader(volume).ok_or_else(|| {
        let facts = &look.survey.volumes[volume];
        let why = facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind));
        format!("{} cannot be read: {why}", facts.where_it_is())
    })
}
