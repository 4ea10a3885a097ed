//! Systems that show by what lies on their volume: catalogue rows, then what a volume tells of itself.

use memchr::memmem;
use signpost_disk::probe::VolumeKind;
use signpost_facts::{Family, System};
use signpost_firmware::image::pe::Pe;
use signpost_firmware::image::version_resource;
use signpost_menu::place::fits_in_any_case;

use super::found::OneVolume;
use super::systems::slug;
use crate::catalogue::{Catalogue, SystemRow, VolumeMarks};

/// Bytes of a program whose version is read.
const MAX_PROGRAM: usize = 32 << 20;
/// Files of a root folder that a boot sector may name.
const MAX_ROOT: usize = 512;

/// The system that a volume without an `os-release` holds.
pub(crate) fn on_volume(volume: &OneVolume<'_>, catalogue: &Catalogue) -> Option<System> {
    let mut system = by_row(volume, catalogue).or_else(|| by_itself(volume))?;
    system.root = Some(volume.facts.number);
    Some(system)
}

fn by_row(volume: &OneVolume<'_>, catalogue: &Catalogue) -> Option<System> {
    let (row, marks) = catalogue.on_volumes().find(|(_, marks)| has(volume, marks))?;
    let title = titled(volume, row, marks);
    Some(System::new(
        row.id.clone(),
        title,
        format!("the catalogue, by what is on {}", volume.facts.name),
        row.family,
    ))
}

/// Whether a volume has all marks of a row; files are looked for last, since that takes reading.
fn has(volume: &OneVolume<'_>, marks: &VolumeMarks) -> bool {
    let facts = volume.facts;
    let kind =
        marks.kinds.is_empty() || marks.kinds.iter().any(|kind| kind.eq_ignore_ascii_case(facts.kind.name()));
    let of_type = || {
        let own = || slice_type(volume).map(|kind| format!("{kind:02x}"));
        marks.types.is_empty()
            || own().is_some_and(|own| marks.types.iter().any(|kind| kind.eq_ignore_ascii_case(&own)))
    };
    let label = || {
        let mut labels = facts.label.iter().chain(&facts.inside);
        marks.label.as_ref().is_none_or(|pattern| labels.any(|label| fits_in_any_case(pattern, label)))
    };
    if !(kind && of_type() && label()) {
        return false;
    }
    let sector = marks.boot_sector.as_ref().is_none_or(|text| {
        first_sector(volume).is_some_and(|sector| memmem::find(&sector, text.as_bytes()).is_some())
    });
    let is_there = |path: &String| volume.reader.is_some_and(|reader| reader.has_file(path));
    sector && marks.files.iter().all(is_there)
}

/// The MBR type of a volume's own partition, or of the slice around it.
fn slice_type(volume: &OneVolume<'_>) -> Option<u8> {
    let (disk, own) = volume.survey.partition_of(volume.facts)?;
    match own.slice_of() {
        Some(around) => volume.slice_types.get(&(disk.number, around.0)).copied(),
        None => volume.facts.mbr_type,
    }
}

fn titled(volume: &OneVolume<'_>, row: &SystemRow, marks: &VolumeMarks) -> String {
    let label = volume.facts.label.as_ref().or(volume.facts.inside.first()).cloned().unwrap_or_default();
    let version = marks.version_of.as_ref().and_then(|path| {
        let bytes = volume.reader?.read(path, MAX_PROGRAM).ok()?;
        version_resource::decode(&Pe::decode(&bytes).ok()?, &bytes)?.product_version
    });
    let title = row.title.replace("{label}", &label).replace("{version}", &version.unwrap_or_default());
    title.trim().to_string()
}

/// A volume that no row knows, and that starts something anyway.
fn by_itself(volume: &OneVolume<'_>) -> Option<System> {
    let facts = volume.facts;
    if let Some(name) = bsd_name(volume) {
        let from = format!("the label of {}", facts.name);
        return Some(System::new(slug(&name), name, from, Family::Bsd));
    }
    let file = named_in_first_sector(volume)?;
    let title = facts.label.clone().unwrap_or_else(|| "A system with a boot sector".into());
    let from = format!("the label of {}, whose boot sector starts /{file}", facts.name);
    Some(System::new(slug(&title), title, from, Family::Dos))
}

/// UFS in the first partition of a BSD label: what the label, or the volume, calls it.
fn bsd_name(volume: &OneVolume<'_>) -> Option<String> {
    if !matches!(volume.facts.kind, VolumeKind::Ufs1 | VolumeKind::Ufs2) {
        return None;
    }
    let (_, own) = volume.survey.partition_of(volume.facts)?;
    let is_root = own.slice.as_ref().is_some_and(|slice| slice.ends_with('a'));
    is_root.then(|| {
        let name = Some(&own.name).filter(|name| !name.is_empty()).or(volume.facts.label.as_ref());
        name.cloned().unwrap_or_else(|| "BSD system".into())
    })
}

fn first_sector(volume: &OneVolume<'_>) -> Option<Vec<u8>> {
    let device = volume.source.device.as_ref()?;
    let mut sector = vec![0; 512];
    device.read_at(0, &mut sector).ok()?;
    Some(sector)
}

/// A file of the root folder that the boot sector names, as it writes names: eight letters and three.
fn named_in_first_sector(volume: &OneVolume<'_>) -> Option<String> {
    if volume.facts.is_esp || !volume.facts.holds_fat() {
        return None;
    }
    let sector = first_sector(volume).filter(|sector| sector.ends_with(&[0x55, 0xaa]))?;
    let items = volume.reader?.plain("/").ok()?;
    let names = items.into_iter().filter(|item| !item.is_folder).take(MAX_ROOT);
    names
        .map(|item| item.name)
        .find(|name| packed(name).is_some_and(|packed| memmem::find(&sector, &packed).is_some()))
}

/// A short name as folders and boot sectors write it: blanks behind either part, no dot.
fn packed(name: &str) -> Option<[u8; 11]> {
    let (stem, extension) = name.split_once('.').unwrap_or((name, ""));
    let mut packed = [b' '; 11];
    let (first, second) = packed.split_at_mut(8);
    first.get_mut(..stem.len())?.copy_from_slice(stem.as_bytes());
    second.get_mut(..extension.len())?.copy_from_slice(extension.as_bytes());
    packed.make_ascii_uppercase();
    Some(packed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_packed_as_boot_sectors_write_them() {
        assert_eq!(packed("gauge.sys").as_ref(), Some(b"GAUGE   SYS"));
        assert_eq!(packed("LOADER").as_ref(), Some(b"LOADER     "));
        assert_eq!(packed("a rather long name"), None);
        assert_eq!(packed("a.conf"), None);
    }
}
