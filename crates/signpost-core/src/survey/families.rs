//! Systems that show by what lies on their volume: catalogue rows, then what a volume tells of itself.

use signpost_firmware::image::pe::Pe;
use signpost_firmware::image::version_resource;

use super::Look;
use super::facts::{System, Volume};
use super::systems::slug;
use crate::catalogue::{Catalogue, Family, SystemRow, VolumeMarks, fits};

/// Bytes of a program whose version is read.
const MAX_PROGRAM: usize = 32 << 20;
/// Files of a root folder that a boot sector may name.
const MAX_ROOT: usize = 512;

/// Adds the systems that volumes without an `os-release` hold; one that its loader showed already gets its root.
pub(super) fn assign(look: &mut Look<'_>, catalogue: &Catalogue) {
    for index in 0..look.survey.volumes.len() {
        let volume = &look.survey.volumes[index];
        let known = look.survey.systems.iter().any(|system| system.root == Some(volume.number));
        if known || volume.fault.is_some() {
            continue;
        }
        let found = by_row(look, index, catalogue).or_else(|| by_itself(look, index));
        let Some(mut system) = found else { continue };
        system.root = Some(volume.number);
        let by_loader = look
            .survey
            .systems
            .iter_mut()
            .find(|known| known.id == system.id && known.root.is_none() && known.image.is_none());
        match by_loader {
            Some(known) => {
                known.root = system.root;
                known.family = system.family;
            }
            None => look.survey.systems.push(system),
        }
    }
    super::systems::make_ids_unique(&mut look.survey.systems);
}

fn by_row(look: &Look<'_>, index: usize, catalogue: &Catalogue) -> Option<System> {
    let (row, marks) = catalogue.on_volumes().find(|(_, marks)| has(look, index, marks))?;
    let volume = &look.survey.volumes[index];
    let title = titled(look, index, volume, row, marks);
    Some(System::new(
        row.id.clone(),
        title,
        format!("the catalogue, by what lies on v{}", volume.number),
        row.family,
    ))
}

/// Whether a volume has all marks of a row; files are looked for last, since that takes reading.
fn has(look: &Look<'_>, index: usize, marks: &VolumeMarks) -> bool {
    let volume = &look.survey.volumes[index];
    let kind =
        marks.kinds.is_empty() || marks.kinds.iter().any(|kind| kind.eq_ignore_ascii_case(&volume.kind));
    let own_type = slice_type(look, volume).map(|kind| format!("{kind:02x}"));
    let of_type = marks.types.is_empty()
        || own_type.is_some_and(|own| marks.types.iter().any(|kind| kind.eq_ignore_ascii_case(&own)));
    let label = marks
        .label
        .as_ref()
        .is_none_or(|pattern| volume.label.iter().chain(&volume.inside).any(|label| fits(pattern, label)));
    if !(kind && of_type && label) {
        return false;
    }
    let sector = marks.boot_sector.as_ref().is_none_or(|text| {
        first_sector(look, index)
            .is_some_and(|sector| sector.windows(text.len().max(1)).any(|window| window == text.as_bytes()))
    });
    let is_there = |path: &String| look.reader(index).is_some_and(|reader| reader.has_file(path));
    sector && marks.files.iter().all(is_there)
}

/// The MBR type of a volume's own partition, or of the slice around it.
fn slice_type(look: &Look<'_>, volume: &Volume) -> Option<u8> {
    let (disk, own) = look.survey.partition_of(volume)?;
    let slice =
        own.slice.as_ref().and_then(|slice| slice.trim_end_matches(char::is_alphabetic).parse::<u32>().ok());
    match slice {
        Some(number) => look.slice_types.get(&(disk.number, number)).copied(),
        None => volume.mbr_type,
    }
}

fn titled(look: &Look<'_>, index: usize, volume: &Volume, row: &SystemRow, marks: &VolumeMarks) -> String {
    let label = volume.label.as_ref().or(volume.inside.first()).cloned().unwrap_or_default();
    let version = marks.version_of.as_ref().and_then(|path| {
        let bytes = look.reader(index)?.read(path, MAX_PROGRAM).ok()?;
        version_resource::decode(&Pe::decode(&bytes).ok()?, &bytes)?.product_version
    });
    let title = row.title.replace("{label}", &label).replace("{version}", &version.unwrap_or_default());
    title.trim().to_string()
}

/// A volume that no row knows, and that starts something all the same.
fn by_itself(look: &Look<'_>, index: usize) -> Option<System> {
    let volume = &look.survey.volumes[index];
    if let Some(name) = bsd_name(look, volume) {
        let from = format!("the label of v{}", volume.number);
        return Some(System::new(slug(&name), name, from, Family::Bsd));
    }
    let file = named_in_first_sector(look, index)?;
    let title = volume.label.clone().unwrap_or_else(|| "A system with a boot sector".into());
    let from = format!("the label of v{}, whose boot sector starts /{file}", volume.number);
    Some(System::new(slug(&title), title, from, Family::Dos))
}

/// UFS in the first partition of a BSD label: what the label, or the volume, calls it.
fn bsd_name(look: &Look<'_>, volume: &Volume) -> Option<String> {
    let (_, own) = look.survey.partition_of(volume)?;
    let is_root =
        own.slice.as_ref().is_some_and(|slice| slice.ends_with('a')) && volume.kind.starts_with("UFS");
    let name = Some(own.name.clone()).filter(|name| !name.is_empty()).or(volume.label.clone());
    is_root.then(|| name.unwrap_or_else(|| "BSD system".into()))
}

fn first_sector(look: &Look<'_>, index: usize) -> Option<Vec<u8>> {
    let device = look.device(index)?;
    let mut sector = vec![0; 512];
    device.read_at(0, &mut sector).ok()?;
    Some(sector)
}

/// A file of the root folder that the boot sector names, as it writes names: eight letters and three.
fn named_in_first_sector(look: &Look<'_>, index: usize) -> Option<String> {
    let volume = &look.survey.volumes[index];
    if volume.is_esp || !volume.kind.starts_with("FAT") {
        return None;
    }
    let sector = first_sector(look, index).filter(|sector| sector.ends_with(&[0x55, 0xaa]))?;
    let items = look.reader(index)?.list("/").ok()?;
    let names = items.into_iter().filter(|item| !item.is_folder).take(MAX_ROOT);
    names.map(|item| item.name).find(|name| {
        let (stem, extension) = name.split_once('.').unwrap_or((name, ""));
        let packed = format!("{:<8}{:<3}", stem.to_uppercase(), extension.to_uppercase());
        packed.len() == 11 && sector.windows(11).any(|window| window == packed.as_bytes())
    })
}
