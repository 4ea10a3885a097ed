//! A machine around a menu and under the prompt's hands: the same at the desk and at boot.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::code::{self, SectorCode};
use signpost_firmware::image::linux::{self, HEAD_LEN};
use signpost_firmware::image::pe::{self, MachineType, Pe};
use signpost_menu::include::MAX_TEXT;
use signpost_menu::kernels::KernelHeader;
use signpost_menu::linux_system::LinuxKernel;
use signpost_menu::prompt::{Item, Names, VolumeFacts};
use signpost_menu::resolve::{UnifiedImage, Within};

use crate::finder;
use crate::reader::VolumeReader;
use crate::volumes::{Seen, Volumes};

/// Whether there is a firmware that starts boot sectors.
const STARTS_SECTORS: bool = cfg!(feature = "sectors");
const NO_SECTORS: &str = "UEFI firmware starts no boot sectors";
/// Bytes at the start of a program that hold its headers.
const PE_HEAD: usize = 64 * 1024;

/// A volume, opened.
///
/// # Errors
/// Why it cannot be, with its place.
pub fn reader(volumes: &impl Volumes, volume: usize) -> Result<&VolumeReader, String> {
    volumes.opened(volume).ok_or_else(|| {
        let kind = || volumes.seen(volume).map(|seen| format!("{} is not looked into", seen.kind));
        let why = volumes.fault(volume).or_else(kind).unwrap_or_else(|| "there is no such volume".into());
        format!("{}: {why}", volumes.name(volume))
    })
}

/// The first answer of a volume, or of those inside an image file on it.
///
/// # Errors
/// Why the volume or the image cannot be read.
pub fn first_in<T>(
    volumes: &impl Volumes,
    within: Within<'_>,
    ask: impl Fn(&VolumeReader) -> Option<T>,
) -> Result<Option<T>, String> {
    let reader = reader(volumes, within.volume)?;
    let Some(image) = within.image else { return Ok(ask(reader)) };
    let inside = reader.inside(image).map_err(|error| format!("{image}: {error}"))?;
    Ok(inside.into_iter().filter_map(|(_, reader)| reader).find_map(|reader| ask(&reader)))
}

pub(crate) fn files(
    volumes: &impl Volumes,
    within: Within<'_>,
    folder: &str,
) -> Result<Option<Vec<String>>, String> {
    let list = |reader: &VolumeReader| {
        let items = reader.list(folder).ok()?;
        Some(items.into_iter().filter(|item| !item.is_folder).map(|item| item.name).collect())
    };
    let mut names: Option<Vec<String>> = first_in(volumes, within, list)?;
    if within.image.is_none() {
        for (name, is_there) in volumes.planned_in(within.volume, folder) {
            if let Some(names) = &mut names {
                names.retain(|other| !other.eq_ignore_ascii_case(name));
            }
            if is_there {
                names.get_or_insert_default().push(name.to_string());
            }
        }
    }
    Ok(names)
}

/// What a plan makes of a file; `None` where it leaves it alone, as it does all within images.
fn planned<'v>(volumes: &'v impl Volumes, within: Within<'_>, path: &str) -> Option<Option<&'v [u8]>> {
    volumes.planned(within.volume, path).filter(|_| within.image.is_none())
}

pub(crate) fn has_file(volumes: &impl Volumes, within: Within<'_>, path: &str) -> Result<bool, String> {
    if let Some(planned) = planned(volumes, within, path) {
        return Ok(planned.is_some());
    }
    Ok(first_in(volumes, within, |reader| reader.has_file(path).then_some(()))?.is_some())
}

pub(crate) fn kernel_header(volumes: &impl Volumes, within: Within<'_>, path: &str) -> Option<KernelHeader> {
    let header = |head: &[u8]| linux::decode(head).map(|kernel| KernelHeader { version: kernel.version });
    if let Some(planned) = planned(volumes, within, path) {
        return planned.and_then(header);
    }
    first_in(volumes, within, |reader| header(&reader.read_head(path, HEAD_LEN).ok()?)).ok()?
}

pub(crate) fn has_closed_volumes(volumes: &impl Volumes) -> bool {
    all(volumes).any(|(_, seen)| seen.kind.is_encrypted())
}

fn all(volumes: &impl Volumes) -> impl Iterator<Item = (usize, Seen<'_>)> {
    (0..volumes.identities().len()).filter_map(|volume| Some((volume, volumes.seen(volume)?)))
}

pub(crate) fn text(volumes: &impl Volumes, volume: usize, path: &str) -> Option<String> {
    let bytes = match planned(volumes, Within::volume(volume), path) {
        Some(bytes) => bytes.filter(|bytes| bytes.len() <= MAX_TEXT)?.to_vec(),
        None => volumes.opened(volume)?.read(path, MAX_TEXT).ok()?,
    };
    String::from_utf8(bytes).ok()
}

pub(crate) fn unified_image(volumes: &impl Volumes, volume: usize, path: &str) -> Option<UnifiedImage> {
    if let Some(planned) = planned(volumes, Within::volume(volume), path) {
        let bytes = planned?;
        return said_by_image(bytes, |offset, length| {
            let rest = bytes.get(usize::try_from(offset).ok()?..)?;
            Some(rest.iter().take(length).copied().collect())
        });
    }
    let reader = volumes.opened(volume)?;
    said_by_image(&reader.read_head(path, PE_HEAD).ok()?, |offset, length| {
        let mut bytes = vec![0; length];
        let read = reader.read_at(path, offset, &mut bytes).ok()?;
        bytes.truncate(read);
        Some(bytes)
    })
}

/// What a program with this start says, of which any stretch can be read, at most as long as is asked for.
fn said_by_image(head: &[u8], read: impl Fn(u64, usize) -> Option<Vec<u8>>) -> Option<UnifiedImage> {
    let pe = Pe::decode(head).ok()?;
    pe.section(".linux")?;
    let text = |name: &str| {
        let section = pe.section(name)?;
        let bytes = read(u64::from(section.offset), (section.size as usize).min(MAX_TEXT))?;
        Some(pe::text(&bytes))
    };
    Some(UnifiedImage { os_release: text(".osrel").unwrap_or_default(), version: text(".uname") })
}

pub(crate) fn include_from(volumes: &impl Volumes, home: usize) -> Vec<usize> {
    let disk = volumes.seen(home).and_then(|seen| seen.disk);
    let beside = |(index, seen): &(usize, Seen<'_>)| {
        *index != home && seen.is_extended_boot && seen.disk == disk && disk.is_some()
    };
    core::iter::once(home).chain(all(volumes).filter(beside).map(|(index, _)| index)).collect()
}

pub(crate) fn architecture(volumes: &impl Volumes) -> &'static str {
    match volumes.machine_type() {
        MachineType::X64 => "x64",
        MachineType::AA64 => "aa64",
        _ => "",
    }
}

pub(crate) fn facts(volumes: &impl Volumes, volume: usize) -> VolumeFacts {
    let Some(seen) = volumes.seen(volume) else { return VolumeFacts::default() };
    VolumeFacts {
        kind: seen.kind.to_string(),
        label: seen.label.map(ToString::to_string),
        size: seen.size,
        is_encrypted: seen.kind.is_encrypted(),
        fault: volumes.fault(volume),
    }
}

pub(crate) fn items(
    volumes: &impl Volumes,
    volume: usize,
    folder: &str,
) -> Result<Option<Vec<Item>>, String> {
    let items = reader(volumes, volume)?.list(folder).ok();
    let item = |item: signpost_disk::file_system::Item| Item { name: item.name, is_folder: item.is_folder };
    Ok(items.map(|items| items.into_iter().map(item).collect()))
}

pub(crate) fn size(volumes: &impl Volumes, within: Within<'_>, path: &str) -> Option<u64> {
    if let Some(planned) = planned(volumes, within, path) {
        return planned.map(|bytes| bytes.len() as u64);
    }
    let size = |reader: &VolumeReader| {
        reader.metadata(path).ok().filter(|found| !found.is_folder).map(|found| found.size)
    };
    first_in(volumes, within, size).ok()?
}

pub(crate) fn inside(volumes: &impl Volumes, volume: usize, image: &str) -> Result<Option<Names>, String> {
    let inside = reader(volumes, volume)?.inside(image).map_err(|error| error.to_string())?;
    let first = inside.into_iter().find(|(_, reader)| reader.is_some());
    Ok(first.map(|(identity, _)| (identity.label, identity.uuid)))
}

pub(crate) fn kernels_in(volumes: &impl Volumes, within: Within<'_>, folder: &str) -> Vec<LinuxKernel> {
    let found = first_in(volumes, within, |reader| Some(finder::in_folder(reader, folder)));
    finder::as_started(found.ok().flatten().unwrap_or_default(), within.volume)
}

pub(crate) fn head(
    volumes: &impl Volumes,
    volume: usize,
    path: &str,
    most: usize,
) -> Result<Vec<u8>, String> {
    reader(volumes, volume)?.read_head(path, most).map_err(|error| error.to_string())
}

pub(crate) fn boot_sector(
    volumes: &impl Volumes,
    volume: usize,
    file: Option<&str>,
) -> Result<String, String> {
    if !STARTS_SECTORS {
        return Err(NO_SECTORS.into());
    }
    let (name, code) = match file {
        None => volumes
            .sector(volume)
            .map_or_else(|| (volumes.name(volume), None), |(name, code)| (name, Some(code))),
        Some(path) => {
            let head = head(volumes, volume, path, SECTOR)?;
            let sector: Option<&[u8; SECTOR]> = head.as_slice().try_into().ok();
            (format!("{}:{path}", volumes.name(volume)), sector.map(code::of_partition))
        }
    };
    match code {
        Some(SectorCode::Starts) => Ok(name),
        Some(code) => Err(format!("{name} has {}", code.words())),
        None => Err(format!("{name} has no boot sector that could be read")),
    }
}

pub(crate) fn first_sector(volumes: &impl Volumes, volume: usize) -> Result<String, String> {
    if !STARTS_SECTORS {
        return Err(NO_SECTORS.into());
    }
    match volumes.first_sector(volume) {
        Some((name, code, false)) if !code.starts_nothing() => Ok(name),
        Some((name, _, true)) => Err(format!("{name} is the disk that the menu itself starts from")),
        Some((name, _, false)) => Err(format!("the first sector of {name} starts nothing")),
        None => Err(format!("the first sector of the disk of {} cannot be read", volumes.name(volume))),
    }
}

/// Makes a machine with volumes what stands around a menu and what the prompt works on.
macro_rules! stands_around_a_menu {
    ($machine:ty) => {
        impl signpost_menu::resolve::Surroundings for $machine {
            fn volumes(&self) -> &[signpost_menu::place::VolumeIdentity] {
                $crate::volumes::Volumes::identities(self)
            }

            fn files(
                &self,
                within: signpost_menu::resolve::Within<'_>,
                folder: &str,
            ) -> Result<Option<Vec<String>>, String> {
                $crate::surroundings::files(self, within, folder)
            }

            fn has_file(
                &self,
                within: signpost_menu::resolve::Within<'_>,
                path: &str,
            ) -> Result<bool, String> {
                $crate::surroundings::has_file(self, within, path)
            }

            fn size(&self, within: signpost_menu::resolve::Within<'_>, path: &str) -> Option<u64> {
                $crate::surroundings::size(self, within, path)
            }

            fn kernel_header(
                &self,
                within: signpost_menu::resolve::Within<'_>,
                path: &str,
            ) -> Option<signpost_menu::kernels::KernelHeader> {
                $crate::surroundings::kernel_header(self, within, path)
            }

            fn firmware(&self) -> signpost_menu::resolve::Firmware {
                $crate::volumes::Volumes::firmware(self)
            }

            fn boot_sector(&self, volume: usize, file: Option<&str>) -> Result<String, String> {
                $crate::surroundings::boot_sector(self, volume, file)
            }

            fn first_sector(&self, volume: usize) -> Result<String, String> {
                $crate::surroundings::first_sector(self, volume)
            }

            fn has_closed_volumes(&self) -> bool {
                $crate::surroundings::has_closed_volumes(self)
            }

            fn text(&self, volume: usize, path: &str) -> Option<String> {
                $crate::surroundings::text(self, volume, path)
            }

            fn unified_image(
                &self,
                volume: usize,
                path: &str,
            ) -> Option<signpost_menu::resolve::UnifiedImage> {
                $crate::surroundings::unified_image(self, volume, path)
            }

            fn include_from(&self, home: usize) -> Vec<usize> {
                $crate::surroundings::include_from(self, home)
            }

            fn architecture(&self) -> &str {
                $crate::surroundings::architecture(self)
            }

            fn load_options(&self) -> Vec<signpost_menu::resolve::LoadOptionSeen> {
                $crate::volumes::Volumes::options(self)
            }
        }

        impl signpost_menu::prompt::Hands for $machine {
            fn facts(&self, volume: usize) -> signpost_menu::prompt::VolumeFacts {
                $crate::surroundings::facts(self, volume)
            }

            fn items(
                &self,
                volume: usize,
                folder: &str,
            ) -> Result<Option<Vec<signpost_menu::prompt::Item>>, String> {
                $crate::surroundings::items(self, volume, folder)
            }

            fn systems(&self) -> &[signpost_menu::linux_system::LinuxSystem] {
                &$crate::finder::WithSystems::systems(self).started
            }

            fn system_ids(&self) -> Vec<(String, usize)> {
                $crate::volumes::Volumes::system_ids(self)
            }

            fn kernels_on(&self, volume: usize) -> Vec<signpost_menu::linux_system::LinuxKernel> {
                $crate::finder::WithSystems::systems(self).kernels_on(volume)
            }

            fn kernels_in(
                &self,
                within: signpost_menu::resolve::Within<'_>,
                folder: &str,
            ) -> Vec<signpost_menu::linux_system::LinuxKernel> {
                $crate::surroundings::kernels_in(self, within, folder)
            }

            fn inside(
                &self,
                volume: usize,
                image: &str,
            ) -> Result<Option<signpost_menu::prompt::Names>, String> {
                $crate::surroundings::inside(self, volume, image)
            }

            fn head(&self, volume: usize, path: &str, most: usize) -> Result<Vec<u8>, String> {
                $crate::surroundings::head(self, volume, path, most)
            }

            fn kind_of_file(&self, head: &[u8]) -> Option<String> {
                signpost_firmware::image::in_words(head)
            }
        }
    };
}
pub(crate) use stands_around_a_menu;
