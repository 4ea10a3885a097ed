//! What the entries of a menu would start on a surveyed machine, and whether it is there.

use serde::Serialize;
use signpost_firmware::image::pe::MachineType;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::resolve::{LoadOptionSeen, Surroundings, UnifiedImage, Within};
use signpost_menu::{MenuDocument, include};

pub use signpost_menu::resolve::{ResolvedEntry, StartTarget, describe, resolve, resolve_entry};

use crate::survey::{Look, Volume, VolumeReader};

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
    /// Whether it does not stand in the menu file, but was found as an entry file or unified image.
    pub is_included: bool,
    /// Whether what it starts is there.
    pub is_there: bool,
    /// What it starts, or why it cannot.
    pub starts: String,
    /// What else is worth saying.
    pub notes: Vec<String>,
}

/// The menu as a table of facts.
pub fn rows(look: &Look<'_>, document: &MenuDocument) -> Vec<MenuRow> {
    let mut document = document.clone();
    include::complete(look, &mut document);
    let document = &document;
    let default = document.default_entry(None).map(|entry| entry.id.as_str());
    resolve(look, document)
        .into_iter()
        .map(|resolved| MenuRow {
            id: resolved.entry.id.clone(),
            title: resolved.entry.title.clone(),
            kind: resolved.entry.starts.word(),
            is_default: default == Some(resolved.entry.id.as_str()),
            group: resolved.entry.group.clone(),
            is_included: resolved.entry.line == 0,
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

    fn files(&self, within: Within<'_>, folder: &str) -> Result<Option<Vec<String>>, String> {
        let list = |reader: &VolumeReader| {
            let items = reader.list(folder).ok()?;
            Some(items.into_iter().filter(|item| !item.is_folder).map(|item| item.name).collect())
        };
        first_in(self, within, list)
    }

    fn has_file(&self, within: Within<'_>, path: &str) -> Result<bool, String> {
        Ok(first_in(self, within, |reader| reader.has_file(path).then_some(()))?.is_some())
    }

    fn text(&self, volume: usize, path: &str) -> Option<String> {
        self.reader(volume)?.text(path)
    }

    fn unified_image(&self, volume: usize, path: &str) -> Option<UnifiedImage> {
        let hints = &self.survey.startup_files[self.survey.startup_file(volume, path)?].hints;
        hints.has_kernel_section.then(|| UnifiedImage {
            os_release: hints.os_release.clone().unwrap_or_default(),
            version: hints.uname.clone(),
        })
    }

    fn include_from(&self) -> Vec<usize> {
        let Some(home) = self.home() else { return Vec::new() };
        let volumes = &self.survey.volumes;
        let beside = |(index, volume): &(usize, &Volume)| {
            *index != home && volume.is_extended_boot && volume.disk == volumes[home].disk
        };
        let others = volumes.iter().enumerate().filter(beside).map(|(index, _)| index);
        std::iter::once(home).chain(others).collect()
    }

    fn architecture(&self) -> &str {
        match self.machine.architecture {
            MachineType::X64 => "x64",
            MachineType::AA64 => "aa64",
            _ => "",
        }
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

/// The first answer of a volume, or of those inside an image file on it.
pub(crate) fn first_in<T>(
    look: &Look<'_>,
    within: Within<'_>,
    ask: impl Fn(&VolumeReader) -> Option<T>,
) -> Result<Option<T>, String> {
    let reader = open(look, within.volume)?;
    Ok(match within.image {
        None => ask(reader),
        Some(image) => inside(reader, image)?.iter().find_map(ask),
    })
}

fn inside(reader: &VolumeReader, image: &str) -> Result<Vec<VolumeReader>, String> {
    let volumes = reader.inside(image).map_err(|error| format!("{image}: {error}"))?;
    Ok(volumes.into_iter().filter_map(|(_, reader)| reader).collect())
}

fn open<'l>(look: &'l Look<'_>, volume: usize) -> Result<&'l VolumeReader, String> {
    look.reader(volume).ok_or_else(|| {
        let facts = &look.survey.volumes[volume];
        let why = facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind));
        format!("{}: {why}", facts.where_it_is())
    })
}
