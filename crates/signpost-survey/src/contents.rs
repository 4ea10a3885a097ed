//! What lies on each volume, looked at by itself: all of a survey that reads files, disk by disk side by side.

use std::collections::BTreeMap;

use signpost_facts::{DiskNumber, Survey, Volume};
use signpost_place::finder;
use signpost_place::reader::Names;

use super::found::{Contents, OneVolume};
use super::side_by_side::side_by_side;
use super::source::Source;
use super::{boot_files, families, images, states};
use crate::catalogue::Catalogue;
use crate::guard::guarded;

/// Looks at all volumes; those of one disk one after the other.
pub(crate) fn gather(
    survey: &Survey,
    slice_types: &BTreeMap<(DiskNumber, u32), u8>,
    sources: &[Source],
    catalogue: &Catalogue,
) -> Vec<Contents> {
    let mut by_disk: BTreeMap<DiskNumber, Vec<usize>> = BTreeMap::new();
    for (index, volume) in survey.volumes.iter().enumerate() {
        by_disk.entry(volume.disk).or_default().push(index);
    }
    let groups: Vec<Vec<usize>> = by_disk.into_values().collect();
    let found = side_by_side(&groups, |group| {
        let look = |index: &usize| {
            let (facts, source) = (&survey.volumes[*index], &sources[*index]);
            let contents = guarded(|| of_volume(survey, slice_types, source, facts, catalogue));
            (*index, contents.unwrap_or_default())
        };
        group.iter().map(look).collect::<Vec<_>>()
    });
    let mut contents: Vec<Contents> = Vec::new();
    contents.resize_with(sources.len(), Contents::default);
    for (index, found) in found.into_iter().flatten() {
        contents[index] = found;
    }
    contents
}

fn of_volume(
    survey: &Survey,
    slice_types: &BTreeMap<(DiskNumber, u32), u8>,
    source: &Source,
    facts: &Volume,
    catalogue: &Catalogue,
) -> Contents {
    let mut found = Contents::default();
    if survey.is_on_medium(facts) {
        return found;
    }
    let reader = crate::source::open(source, Names::default()).unwrap_or_else(|fault| {
        found.fault = Some(fault);
        None
    });
    if let Some(reader) = &reader {
        found.boot_files = boot_files::on_volume(reader, facts);
        found.linux = finder::on_volume(reader);
        found.images = images::on_volume(reader, facts);
        found.is_asleep = states::is_asleep(reader, facts);
    }
    if found.linux.roots.is_empty() && facts.fault.is_none() {
        let volume = OneVolume { survey, slice_types, source, facts, reader: reader.as_ref() };
        found.other = families::on_volume(&volume, catalogue).map(Box::new);
    }
    if let Some(reader) = reader {
        found.unprintable_names = reader.unprintable_names();
        found.fault = reader.fault().filter(|_| source.mounts.is_empty()).cloned();
        found.names = reader.into_names();
    }
    found
}
