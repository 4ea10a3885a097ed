//! `[include] bls`: entry files and unified kernel images found at boot, as entries behind the file's own (the Boot
//! Loader Specification, types 1 and 2).

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cmp::Ordering;

use crate::counter::{IMAGE_FOLDER, without_counter};
use crate::document::{Entry, KernelChoice, Linux, MenuDocument, Starts};
use crate::ids::EntryId;
use crate::os_release::OsRelease;
use crate::place::{Place, VolumeRef};
use crate::resolve::{StartTarget, Surroundings, Within, resolve, resolve_entry};
use crate::sorted::sorted;
use crate::text::{acts, shown, shown_lines};
use crate::{ids, version};

/// Folder of entry files.
pub const ENTRY_FOLDER: &str = "/loader/entries";
/// Bytes of an entry file, or of any text that a menu is settled by: at the desk as at boot.
pub const MAX_TEXT: usize = 64 * 1024;
/// Entries that are taken in.
const MAX_INCLUDED: usize = 64;
/// No id is longer, in characters.
const MAX_ID: usize = 40;

/// An entry file's contents; keys that are not known are skipped.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EntryFile {
    /// `title`.
    pub title: Option<String>,
    /// `version`.
    pub version: Option<String>,
    /// `machine-id`.
    pub machine_id: Option<String>,
    /// `sort-key`.
    pub sort_key: Option<String>,
    /// `architecture`.
    pub architecture: Option<String>,
    /// `linux`.
    pub linux: Option<String>,
    /// `efi`, or `uki`.
    pub efi: Option<String>,
    /// `initrd`, in order.
    pub initrds: Vec<String>,
    /// `options`, joined.
    pub options: String,
}

impl EntryFile {
    /// Reads one: a key, blanks, a value, line by line.
    pub fn parse(text: &str) -> Self {
        let mut entry = Self::default();
        let text = shown_lines(text);
        for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
            let Some((key, value)) = line.split_once(char::is_whitespace) else { continue };
            let value = shown(value.trim()).into_owned();
            match key {
                "title" => entry.title = Some(value),
                "version" => entry.version = Some(value),
                "machine-id" => entry.machine_id = Some(value),
                "sort-key" => entry.sort_key = Some(value),
                "architecture" => entry.architecture = Some(value.to_lowercase()),
                "linux" => entry.linux = Some(absolute(value)),
                "efi" | "uki" => entry.efi = Some(absolute(value)),
                // Some write all of them on one line, or what nothing here knows: a variable.
                "initrd" => {
                    let paths = value.split_whitespace().filter(|path| !path.starts_with('$'));
                    entry.initrds.extend(paths.map(|path| absolute(path.to_string())));
                }
                "options" => {
                    if !entry.options.is_empty() {
                        entry.options.push(' ');
                    }
                    entry.options.push_str(&value);
                }
                _ => {}
            }
        }
        entry
    }

    /// What it starts.
    pub fn program(&self) -> Option<&String> {
        self.linux.as_ref().or(self.efi.as_ref())
    }
}

fn absolute(path: String) -> String {
    if path.starts_with('/') { path } else { format!("/{path}") }
}

/// What is found, before it is put in order.
struct Found {
    name: String,
    is_bad: bool,
    sort_key: Option<String>,
    machine_id: Option<String>,
    version: Option<String>,
    title: String,
    starts: Starts,
}

/// The document with the entries of entry files and unified images behind its own, where it asks for them, and notes on
/// what was skipped. What the menu starts already is not taken in again.
pub fn complete(around: &impl Surroundings, home: Option<usize>, document: &mut MenuDocument) -> Vec<String> {
    let Some(home) = home.filter(|_| document.include_bls) else { return Vec::new() };
    let mut notes = Vec::new();
    let mut found = Vec::new();
    for volume in around.include_from(home) {
        found.extend(entry_files(around, volume, &mut notes));
        found.extend(unified_images(around, volume));
    }
    // The menu is settled once more only where there is something to compare with it.
    if found.is_empty() {
        return notes;
    }
    let mut found = sorted(found, order);
    let known: Vec<StartTarget> =
        resolve(around, document).into_iter().filter_map(|entry| entry.target.ok()).collect();
    make_titles_differ(&mut found, document);
    for one in found {
        let entry = Entry {
            id: free_id(&one.name, document),
            title: if one.is_bad { format!("{}, failed before", one.title) } else { one.title },
            starts: one.starts,
            group: None,
            symbol: None,
            tries: None,
            fallback: None,
            line: 0,
        };
        let target = resolve_entry(around, document, &entry).target;
        if target.is_ok_and(|target| known.iter().any(|known| is_same(known, &target))) {
            continue;
        }
        if document.entries.iter().filter(|entry| entry.line == 0).count() >= MAX_INCLUDED {
            notes.push(format!(
                "more than {MAX_INCLUDED} entry files and unified images; the rest is left out"
            ));
            break;
        }
        document.entries.push(entry);
    }
    notes
}

fn entry_files(around: &impl Surroundings, volume: usize, notes: &mut Vec<String>) -> Vec<Found> {
    let names = around.files(Within::volume(volume), ENTRY_FOLDER).ok().flatten().unwrap_or_default();
    let mut found = Vec::new();
    for name in names.into_iter().filter(|name| !name.contains(acts)) {
        let Some(stem) = name.strip_suffix(".conf") else { continue };
        let path = format!("{ENTRY_FOLDER}/{name}");
        let Some(text) = around.text(volume, &path) else { continue };
        let file = EntryFile::parse(&text);
        if file.architecture.as_ref().is_some_and(|its| its != around.architecture()) {
            continue;
        }
        let own = VolumeRef::Name(around.name(volume).to_string());
        let starts = match (&file.linux, &file.efi) {
            (Some(linux), _) => Starts::Linux(Linux {
                volume: own,
                kernel: KernelChoice::Fixed(linux.clone()),
                initrd: file.initrds.clone(),
                root: None,
                args: file.options.clone(),
            }),
            (None, Some(efi)) => {
                let program = Place { volume: own, path: efi.clone() };
                Starts::Efi { program, args: file.options.clone() }
            }
            (None, None) => {
                notes.push(format!("{path} names neither linux nor efi"));
                continue;
            }
        };
        let (name, is_bad) = without_counter(stem);
        found.push(Found {
            title: file.title.unwrap_or_else(|| name.to_string()),
            name: name.to_string(),
            is_bad,
            sort_key: file.sort_key,
            machine_id: file.machine_id,
            version: file.version,
            starts,
        });
    }
    found
}

fn unified_images(around: &impl Surroundings, volume: usize) -> Vec<Found> {
    let names = around.files(Within::volume(volume), IMAGE_FOLDER).ok().flatten().unwrap_or_default();
    let image = |file: String| {
        if file.contains(acts) {
            return None;
        }
        let stem = file.len().checked_sub(4).and_then(|at| file.split_at_checked(at));
        let (stem, _) = stem.filter(|(_, suffix)| suffix.eq_ignore_ascii_case(".efi"))?;
        let path = format!("{IMAGE_FOLDER}/{file}");
        let says = around.unified_image(volume, &path)?;
        let (name, is_bad) = without_counter(stem);
        let own = VolumeRef::Name(around.name(volume).to_string());
        Some(Found {
            title: OsRelease::parse(&says.os_release).title().unwrap_or_else(|| name.to_string()),
            name: name.to_string(),
            is_bad,
            sort_key: None,
            machine_id: None,
            version: says.version,
            starts: Starts::Efi { program: Place { volume: own, path }, args: String::new() },
        })
    };
    names.into_iter().filter_map(image).collect()
}

/// The order of the specification, "Sorting": what failed last; what has a sort key first, by it, the machine, and the
/// newest version; all else by file name, the newest first.
fn order(a: &Found, b: &Found) -> Ordering {
    let by_name = || version::compare(&b.name, &a.name);
    a.is_bad.cmp(&b.is_bad).then_with(|| match (&a.sort_key, &b.sort_key) {
        (Some(key), Some(other)) => {
            let versions = |found: &Found| found.version.clone().unwrap_or_default();
            key.cmp(other)
                .then_with(|| a.machine_id.cmp(&b.machine_id))
                .then_with(|| version::compare(&versions(b), &versions(a)))
                .then_with(by_name)
        }
        (Some(_), None) => Ordering::Less,
        (None, Some(_)) => Ordering::Greater,
        (None, None) => by_name(),
    })
}

/// Where titles are the same, the version tells them apart, or else the file's name.
fn make_titles_differ(found: &mut [Found], document: &MenuDocument) {
    let own = document.entries.iter().map(|entry| &entry.title);
    let mut titles: Vec<String> = found.iter().map(|one| &one.title).chain(own).cloned().collect();
    titles.sort_unstable();
    for one in found.iter_mut() {
        let first = titles.partition_point(|title| *title < one.title);
        if titles.get(first.saturating_add(1)) == Some(&one.title) {
            let more = one.version.clone().unwrap_or_else(|| one.name.clone());
            one.title = format!("{}, {more}", one.title);
        }
    }
}

/// An id from the file's name that no entry has.
fn free_id(name: &str, document: &MenuDocument) -> EntryId {
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '.' | '_');
    let id: String =
        name.to_lowercase().chars().map(|c| if fits(c) { c } else { '-' }).take(MAX_ID).collect();
    let short: String = id.chars().take(MAX_ID.saturating_sub(4)).collect();
    ids::first_free(&id, &short, |id| document.entry(id).is_some()).into()
}

/// Whether both start the same file: kernels with other arguments are another start where the menu means so.
fn is_same(known: &StartTarget, found: &StartTarget) -> bool {
    match (known, found) {
        (
            StartTarget::Linux { volume, kernel, .. },
            StartTarget::Linux { volume: other, kernel: its, .. },
        ) => volume == other && kernel == its,
        (
            StartTarget::Program { volume, path, .. },
            StartTarget::Program { volume: other, path: its, .. },
        ) => volume == other && path.eq_ignore_ascii_case(its),
        // Entry files and unified images start nothing else.
        _ => false,
    }
}

#[cfg(test)]
mod tests;
