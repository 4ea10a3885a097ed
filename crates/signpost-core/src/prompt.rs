//! The prompt at the desk: a surveyed machine in the language that the boot program speaks too.

use std::path::Path;

use signpost_firmware::image;
use signpost_menu::document::Entry;
use signpost_menu::prompt::{Hands, Item, Names, Subvolume, VolumeFacts};
use signpost_menu::resolve::Within;

use crate::draft::{self, Field, Offer};
use crate::edit;
use crate::error::{Error, Result};
use crate::menu_file;
use crate::resolve::first_in;
use crate::survey::{Look, VolumeReader, slug};

impl Look<'_> {
    fn opened(&self, volume: usize) -> std::result::Result<&VolumeReader, String> {
        self.reader(volume).ok_or_else(|| {
            let facts = &self.survey.volumes[volume];
            facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind))
        })
    }
}

impl Hands for Look<'_> {
    fn facts(&self, volume: usize) -> VolumeFacts {
        let Some(facts) = self.survey.volumes.get(volume) else { return VolumeFacts::default() };
        VolumeFacts {
            kind: facts.kind.to_string(),
            label: facts.label.clone(),
            size: facts.size,
            is_encrypted: facts.is_encrypted,
            fault: facts.fault.clone(),
        }
    }

    fn items(&self, volume: usize, folder: &str) -> std::result::Result<Option<Vec<Item>>, String> {
        let items = self.opened(volume)?.list(folder).ok();
        let item = |item: crate::survey::Item| Item { name: item.name, is_folder: item.is_folder };
        Ok(items.map(|items| items.into_iter().map(item).collect()))
    }

    fn size(&self, within: Within<'_>, path: &str) -> Option<u64> {
        let size = |reader: &VolumeReader| {
            reader.metadata(path).ok().filter(|found| !found.is_folder).map(|found| found.size)
        };
        first_in(self, within, size).ok()?
    }

    fn inside(&self, volume: usize, image: &str) -> std::result::Result<Option<Names>, String> {
        let inside = self.opened(volume)?.inside(image).map_err(|error| error.to_string())?;
        let first = inside.into_iter().find(|(_, reader)| reader.is_some());
        Ok(first.map(|(identity, _)| (identity.label, identity.uuid)))
    }

    fn subvolumes(&self, volume: usize) -> Vec<Subvolume> {
        let found = self.reader(volume).map(VolumeReader::subvolumes).unwrap_or_default().into_iter();
        found.map(|found| Subvolume { path: found.path, is_default: found.is_default }).collect()
    }

    fn head(&self, volume: usize, path: &str, most: usize) -> std::result::Result<Vec<u8>, String> {
        self.opened(volume)?.read_head(path, most).map_err(|error| error.to_string())
    }

    fn kind_of_file(&self, head: &[u8]) -> Option<String> {
        image::in_words(head)
    }
}

/// The menu file's text with an entry that was composed at the prompt, and the entry's id; `body` are its keys with values
/// as the file writes them.
///
/// # Errors
/// Where the file has errors, or would not hold.
pub fn save(
    path: &Path,
    title: &str,
    is_default: bool,
    body: &[(&'static str, String)],
) -> Result<(String, String)> {
    let file = menu_file::load(path)?;
    let mut fields = Vec::new();
    for (key, value) in body {
        let read = format!("{key} = {value}").parse::<toml_edit::DocumentMut>();
        let field = read.ok().and_then(|read| Field::of_item(&read[*key]));
        fields.push((*key, field.ok_or_else(|| Error::WrongUse(format!("{key} = {value} is no value")))?));
    }
    let taken: Vec<String> = file.document.entries.iter().map(|entry: &Entry| entry.id.clone()).collect();
    let id = draft::free_id(&slug(title), &taken);
    let offer = Offer::by_hand(title.to_string(), (fields, "composed at the prompt".into()));
    let text = draft::append(&file.text, &id, &offer);
    menu_file::check(path, &text)?;
    let text = if is_default { edit::with_default(path, &text, &id)? } else { text };
    Ok((text, id))
}
