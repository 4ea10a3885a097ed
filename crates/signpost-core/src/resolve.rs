//! What the entries of a menu would start on a surveyed machine, and whether it is there.

use serde::Serialize;
use signpost_firmware::image::linux::{self, HEAD_LEN};
use signpost_firmware::image::pe::MachineType;
use signpost_menu::document::Host;
use signpost_menu::kernels::KernelHeader;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::policy::{ChosenBy, Opening, Situation, open};
use signpost_menu::resolve::{LoadOptionSeen, Surroundings, UnifiedImage, Within};
use signpost_menu::{MenuDocument, include};

pub use signpost_menu::resolve::{ResolvedEntry, StartTarget, describe, resolve, resolve_entry};

use crate::survey::{Look, Volume, VolumeReader};

/// How a menu opens on this machine, but for what is asked for the next start alone. The firmware's own list knows nothing
/// of what was kept or started last.
pub fn opening(look: &Look<'_>, document: &MenuDocument, resolved: &[ResolvedEntry<'_>]) -> Opening {
    let faults = faults(resolved);
    let ours = Some(&look.ours).filter(|_| document.settings.host == Host::Signpost);
    open(&Situation {
        document,
        faults: &faults,
        once: None,
        kept: ours.and_then(|ours| ours.kept.as_deref()),
        last_started: ours.and_then(|ours| ours.last.as_deref()),
        failed: None,
    })
}

/// For each entry, why it cannot start, in words.
pub fn faults(resolved: &[ResolvedEntry<'_>]) -> Vec<Option<String>> {
    resolved.iter().map(|entry| entry.target.as_ref().err().map(ToString::to_string)).collect()
}

/// The home volume, or the one that would be it.
pub(crate) fn home_or_chosen(look: &Look<'_>) -> Option<usize> {
    look.home().or_else(|| crate::home::choose(look, None).ok().map(|home| home.volume))
}

/// A row of the menu, as facts.
#[derive(Clone, Debug, Serialize)]
pub struct MenuRow {
    /// Its number on the screen: its place in the menu, or in its group, from 1.
    pub number: usize,
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
    /// Why the menu's host cannot start it, though it is there.
    pub host_cannot: Option<String>,
    /// What else is worth saying.
    pub notes: Vec<String>,
}

/// The menu as a table of facts.
pub fn rows(look: &Look<'_>, document: &MenuDocument) -> Vec<MenuRow> {
    let mut document = document.clone();
    let is_ours = document.settings.host == Host::Signpost;
    include::complete(look, home_or_chosen(look).filter(|_| is_ours), &mut document);
    let document = &document;
    let resolved = resolve(look, document);
    let opening = opening(look, document, &resolved);
    let numbers = document.numbers();
    resolved
        .into_iter()
        .zip(numbers)
        .enumerate()
        .map(|(index, (resolved, number))| MenuRow {
            number,
            id: resolved.entry.id.clone(),
            title: resolved.entry.title.clone(),
            kind: resolved.entry.starts.word(),
            is_default: opening.chosen == Some(index) && opening.by != ChosenBy::Once,
            group: resolved.entry.group.clone(),
            is_included: resolved.entry.line == 0,
            is_there: resolved.target.is_ok(),
            starts: describe(look, &resolved),
            host_cannot: crate::plan::host_cannot(look, document.settings.host, &resolved),
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

    fn kernel_header(&self, within: Within<'_>, path: &str) -> Option<KernelHeader> {
        let header = |reader: &VolumeReader| {
            let head = reader.read_head(path, HEAD_LEN).ok()?;
            linux::decode(&head).map(|kernel| KernelHeader { version: kernel.version })
        };
        first_in(self, within, header).ok()?
    }

    fn has_closed_volumes(&self) -> bool {
        self.survey.volumes.iter().any(|volume| volume.is_encrypted)
    }

    fn text(&self, volume: usize, path: &str) -> Option<String> {
        String::from_utf8(self.reader(volume)?.read(path, include::MAX_TEXT).ok()?).ok()
    }

    fn unified_image(&self, volume: usize, path: &str) -> Option<UnifiedImage> {
        let hints = &self.survey.startup_files[self.survey.startup_file(volume, path)?].hints;
        hints.has_kernel_section.then(|| UnifiedImage {
            os_release: hints.os_release.clone().unwrap_or_default(),
            version: hints.uname.clone(),
        })
    }

    fn include_from(&self, home: usize) -> Vec<usize> {
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
                fault: entry
                    .judged
                    .as_ref()
                    .filter(|verdict| verdict.starts_nothing())
                    .map(|_| entry.finding.clone()),
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
    let reader = opened(look, within.volume)?;
    Ok(match within.image {
        None => ask(reader),
        Some(image) => inside(reader, image)?.iter().find_map(ask),
    })
}

fn inside(reader: &VolumeReader, image: &str) -> Result<Vec<VolumeReader>, String> {
    let volumes = reader.inside(image).map_err(|error| format!("{image}: {error}"))?;
    Ok(volumes.into_iter().filter_map(|(_, reader)| reader).collect())
}

fn opened<'l>(look: &'l Look<'_>, volume: usize) -> Result<&'l VolumeReader, String> {
    look.reader(volume).ok_or_else(|| {
        let facts = &look.survey.volumes[volume];
        let why = facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind));
        format!("{}: {why}", facts.where_it_is())
    })
}
