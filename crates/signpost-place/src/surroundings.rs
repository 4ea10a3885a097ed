//! A surveyed machine around a menu and under the prompt's hands.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_facts::survey::Volume;
use signpost_firmware::image;
use signpost_firmware::image::linux::{self, HEAD_LEN};
use signpost_firmware::image::pe::MachineType;
use signpost_menu::include;
use signpost_menu::kernels::KernelHeader;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::prompt::{Hands, Item, Names, Subvolume, VolumeFacts};
use signpost_menu::resolve::{LoadOptionSeen, Surroundings, UnifiedImage, Within};

use crate::look::Look;
use crate::reader::VolumeReader;

impl Surroundings for Look {
    fn volumes(&self) -> &[VolumeIdentity] {
        &self.identities
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
        core::iter::once(home).chain(others).collect()
    }

    fn architecture(&self) -> &str {
        match self.architecture {
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
pub fn first_in<T>(
    look: &Look,
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

fn opened(look: &Look, volume: usize) -> Result<&VolumeReader, String> {
    look.reader(volume).ok_or_else(|| {
        let facts = &look.survey.volumes[volume];
        let why = facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind));
        format!("{}: {why}", facts.where_it_is())
    })
}

impl Look {
    fn opened(&self, volume: usize) -> Result<&VolumeReader, String> {
        self.reader(volume).ok_or_else(|| {
            let facts = &self.survey.volumes[volume];
            facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind))
        })
    }
}

impl Hands for Look {
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

    fn items(&self, volume: usize, folder: &str) -> Result<Option<Vec<Item>>, String> {
        let items = self.opened(volume)?.list(folder).ok();
        let item =
            |item: signpost_disk::file_system::Item| Item { name: item.name, is_folder: item.is_folder };
        Ok(items.map(|items| items.into_iter().map(item).collect()))
    }

    fn size(&self, within: Within<'_>, path: &str) -> Option<u64> {
        let size = |reader: &VolumeReader| {
            reader.metadata(path).ok().filter(|found| !found.is_folder).map(|found| found.size)
        };
        first_in(self, within, size).ok()?
    }

    fn inside(&self, volume: usize, image: &str) -> Result<Option<Names>, String> {
        let inside = self.opened(volume)?.inside(image).map_err(|error| error.to_string())?;
        let first = inside.into_iter().find(|(_, reader)| reader.is_some());
        Ok(first.map(|(identity, _)| (identity.label, identity.uuid)))
    }

    fn subvolumes(&self, volume: usize) -> Vec<Subvolume> {
        let found = self.reader(volume).map(VolumeReader::subvolumes).unwrap_or_default().into_iter();
        found.map(|found| Subvolume { path: found.path, is_default: found.is_default }).collect()
    }

    fn head(&self, volume: usize, path: &str, most: usize) -> Result<Vec<u8>, String> {
        self.opened(volume)?.read_head(path, most).map_err(|error| error.to_string())
    }

    fn kind_of_file(&self, head: &[u8]) -> Option<String> {
        image::in_words(head)
    }
}
