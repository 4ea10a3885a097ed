//! `[[entry]]`: keys by kind.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use toml::de::DeValue;

use super::reader::{Reader, Section};
use crate::document::{Entry, KernelChoice, Linux, SectorFrom, SectorManner, Starts};
use crate::entry_kind::EntryKind;
use crate::ids::EntryId;
use crate::kernels::Newest;
use crate::nearest::nearest;
use crate::place::{Place, VolumeRef};
use crate::symbol::Symbol;
use crate::tries::MAX_TRIES;

/// Keys that every entry has.
const COMMON: [&str; 7] = ["id", "title", "starts", "in", "symbol", "tries", "fallback"];

const MAX_ID: usize = 40; // characters

/// One entry; `None` where it does not hold, with the reasons noted.
pub(super) fn entry(reader: &mut Reader<'_>, mut section: Section<'_>) -> Option<Entry> {
    let start = section.start;
    let line = reader.line(start);
    let id = id(reader, &mut section, line);
    let title = reader.string(&mut section, "title").map(|found| found.value);
    reader.remember(&format!("in {line}"), section.at("in"));
    let group = reader.string(&mut section, "in").map(|found| found.value.into());
    let symbol = symbol(reader, &mut section);
    let name = id.clone().unwrap_or_else(|| format!("on line {line}"));
    let (tries, fallback) = tries(reader, &mut section, (&name, line));
    let starts = starts(reader, &mut section, &name);
    if let Some((_, keys)) = &starts {
        let known: Vec<&str> = COMMON.iter().chain(*keys).copied().collect();
        reader.no_more(section, &known);
    }
    let starts = starts.and_then(|(starts, _)| starts);
    match (id, starts) {
        (Some(id), Some(starts)) => Some(Entry {
            title: title.unwrap_or_else(|| id.clone()),
            id: id.into(),
            starts,
            group,
            symbol,
            tries,
            fallback,
            line,
        }),
        (Some(id), None) if reader.keeps_broken() => {
            let why = reader.problem_from(start).unwrap_or("it does not hold").to_string();
            Some(Entry {
                title: title.unwrap_or_else(|| id.clone()),
                id: id.into(),
                starts: Starts::Unknown { why },
                group,
                symbol,
                tries,
                fallback,
                line,
            })
        }
        (id, _) => {
            id.into_iter().for_each(|id| reader.drop_entry(id));
            None
        }
    }
}

fn id(reader: &mut Reader<'_>, section: &mut Section<'_>, line: usize) -> Option<String> {
    reader.remember(&format!("entry {line}"), section.at("id"));
    if !section.has("id") {
        reader.problem(section.start, "this entry has no id, such as: id = \"larkspur\"".to_string());
    }
    let found = reader.string(section, "id")?;
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '.' | '_');
    if found.value.is_empty() || found.value.len() > MAX_ID || !found.value.chars().all(fits) {
        let message =
            format!("id is \"{}\"; it takes 1 to {MAX_ID} of the characters a-z 0-9 - . _", found.value);
        reader.problem(found.at, message);
        return None;
    }
    reader.note_id(&found.value, found.at, line);
    Some(found.value)
}

/// What stands beside its title: one of ours by its word, or a list of the lines of one's own.
fn symbol(reader: &mut Reader<'_>, section: &mut Section<'_>) -> Option<Symbol> {
    let found = reader.any(section, "symbol")?;
    let text = |value: &DeValue<'_>| match value {
        DeValue::String(text) => Some(text.to_string()),
        _ => None,
    };
    let read = match found.get_ref() {
        DeValue::Array(values) => {
            let lines: Option<Vec<String>> = values.iter().map(|value| text(value.get_ref())).collect();
            lines.map(|lines| Symbol::own(lines.iter().map(String::as_str)))
        }
        value => text(value).map(|word| Symbol::named(&word)),
    };
    let read = read.unwrap_or_else(|| Err("it takes a word, or a list of texts".into()));
    read.map_err(|why| reader.problem(found.span().start, format!("symbol: {why}"))).ok()
}

/// How often the entry is tried, and what starts instead then.
fn tries(
    reader: &mut Reader<'_>,
    section: &mut Section<'_>,
    (name, line): (&str, usize),
) -> (Option<u8>, Option<EntryId>) {
    let at = section.at("tries");
    reader.remember(&format!("fallback {line}"), section.at("fallback"));
    let fallback: Option<EntryId> = reader.string(section, "fallback").map(|found| found.value.into());
    let found = reader.integer(section, "tries").map(|found| found.value);
    let tries =
        found.and_then(|tries| u8::try_from(tries).ok()).filter(|tries| (1..=MAX_TRIES).contains(tries));
    if let (Some(found), None) = (found, tries) {
        reader.problem(at, format!("tries is {found}; it takes whole numbers from 1 to {MAX_TRIES}"));
    }
    if tries.is_some() && fallback.is_none() {
        let message = format!(
            "entry {name} has tries and no fallback; fallback = \"ID\" says which entry starts when they are used up"
        );
        reader.problem(at, message);
        return (None, None);
    }
    (tries, fallback)
}

type Known = (Option<Starts>, &'static [&'static str]);

/// What the entry starts, and the keys of its kind; the kind must be known.
fn starts(reader: &mut Reader<'_>, section: &mut Section<'_>, name: &str) -> Option<Known> {
    let words = || EntryKind::ALL.into_iter().map(EntryKind::word);
    if !section.has("starts") {
        let message = format!("entry {name} does not say what it starts: starts = one of {}", list(words()));
        reader.problem(section.start, message);
    }
    let found = reader.string(section, "starts")?;
    let Some(kind) = EntryKind::of_word(&found.value) else {
        let hint = match nearest(&found.value, words()) {
            Some(near) => format!("did you mean \"{near}\"?"),
            None => format!("it is one of {}", list(words())),
        };
        reader.problem(found.at, format!("starts is \"{}\"; {hint}", found.value));
        return None;
    };
    let starts = match kind {
        EntryKind::Linux => linux(reader, section, name).map(Starts::Linux),
        EntryKind::Efi => {
            let args = text(reader, section, "args");
            place(reader, section, "program", name).map(|program| Starts::Efi { program, args })
        }
        EntryKind::Sector => {
            let from = sector(reader, section, name);
            let mut flag = |key: &str| reader.boolean(section, key).unwrap_or(false);
            let manner = SectorManner {
                active: flag("active"),
                as_first_disk: flag("as-first-disk"),
                first_sector: flag("first-sector"),
            };
            if manner.first_sector && (manner.active || matches!(from, Some(SectorFrom::File(_)))) {
                let message = format!(
                    "entry {name} says first-sector, which goes with volume = \"…\" alone, and makes no partition active"
                );
                reader.problem(section.at("first-sector"), message);
            }
            from.map(|from| Starts::Sector { from, manner })
        }
        EntryKind::FirmwareEntry => {
            let label = required(reader, section, "label", name);
            let has_target = section.has("target");
            let target = if has_target { place(reader, section, "target", name) } else { None };
            let handover = reader.boolean(section, "handover").unwrap_or(false);
            label.map(|label| Starts::FirmwareEntry { label, target, handover })
        }
        EntryKind::Image => {
            let image = place(reader, section, "image", name);
            let (kernel, initrd) = kernel_and_initrds(reader, section, name);
            let args = text(reader, section, "args");
            image.zip(kernel).map(|(image, kernel)| Starts::Image { image, kernel, initrd, args })
        }
        EntryKind::Group => Some(Starts::Group),
        EntryKind::SetupScreen => Some(Starts::SetupScreen),
        EntryKind::Restart => Some(Starts::Restart),
        EntryKind::PowerOff => Some(Starts::PowerOff),
    };
    Some((starts, kind.keys()))
}

/// Where a boot sector stands: a volume's own, or one in a file.
fn sector(reader: &mut Reader<'_>, section: &mut Section<'_>, name: &str) -> Option<SectorFrom> {
    if !section.has("sector") {
        return volume(reader, section, "volume", name).map(SectorFrom::Volume);
    }
    if section.has("volume") {
        let message = format!(
            "entry {name} names a volume and a sector; volume = \"…\" starts that one's boot sector, sector = \"…\" the one in a file"
        );
        reader.problem(section.at("sector"), message);
    }
    place(reader, section, "sector", name).map(SectorFrom::File)
}

fn linux(reader: &mut Reader<'_>, section: &mut Section<'_>, name: &str) -> Option<Linux> {
    let volume_at = volume(reader, section, "volume", name);
    let (kernel, initrd) = kernel_and_initrds(reader, section, name);
    let has_root = section.has("root");
    let root = if has_root { volume(reader, section, "root", name) } else { None };
    let args_at = section.at("args");
    let args = text(reader, section, "args");
    if args.contains("{root}") && !has_root {
        let message = format!("args say {{root}}, and entry {name} names no root volume: root = \"uuid:…\"");
        reader.problem(args_at, message);
    }
    Some(Linux { volume: volume_at?, kernel: kernel?, initrd, root, args })
}

fn kernel_and_initrds(
    reader: &mut Reader<'_>,
    section: &mut Section<'_>,
    name: &str,
) -> (Option<KernelChoice>, Vec<String>) {
    let kernel_at = section.at("kernel");
    let kernel = required(reader, section, "kernel", name).and_then(|text| match kernel(&text) {
        Ok(kernel) => Some(kernel),
        Err(message) => {
            reader.problem(kernel_at, format!("kernel: {message}"));
            None
        }
    });
    let initrd_at = section.at("initrd");
    let initrd = reader.strings(section, "initrd").unwrap_or_default();
    if let Some(path) = initrd.iter().find(|path| !path.starts_with('/')) {
        reader.problem(initrd_at, format!("initrd \"{path}\" is not a path that starts with /"));
    }
    (kernel, initrd)
}

fn kernel(text: &str) -> Result<KernelChoice, String> {
    match text.strip_prefix("newest:") {
        Some(pattern) => Newest::parse(pattern).map(KernelChoice::Newest),
        None if text.starts_with('/') => Ok(KernelChoice::Fixed(text.to_string())),
        None => Err(format!("\"{text}\" is not a path that starts with /, and no newest:/folder/name-*")),
    }
}

fn text(reader: &mut Reader<'_>, section: &mut Section<'_>, key: &str) -> String {
    reader.string(section, key).map(|found| found.value).unwrap_or_default()
}

fn required(reader: &mut Reader<'_>, section: &mut Section<'_>, key: &str, name: &str) -> Option<String> {
    if !section.has(key) {
        reader.problem(section.start, format!("entry {name} has no {key}"));
    }
    reader.string(section, key).map(|found| found.value)
}

fn place(reader: &mut Reader<'_>, section: &mut Section<'_>, key: &str, name: &str) -> Option<Place> {
    stable(reader, section, key, name, Place::parse, |place| &place.volume)
}

fn volume(reader: &mut Reader<'_>, section: &mut Section<'_>, key: &str, name: &str) -> Option<VolumeRef> {
    stable(reader, section, key, name, VolumeRef::parse, |volume| volume)
}

/// Something that names a volume, by a stable name.
fn stable<T>(
    reader: &mut Reader<'_>,
    section: &mut Section<'_>,
    key: &str,
    name: &str,
    parse: impl FnOnce(&str) -> Result<T, String>,
    volume_of: impl Fn(&T) -> &VolumeRef,
) -> Option<T> {
    let at = section.at(key);
    let text = required(reader, section, key, name)?;
    let checked = parse(&text).and_then(|value| {
        if volume_of(&value).is_stable() {
            Ok(value)
        } else {
            Err(format!("\"{text}\" is a name that the survey shows, and may change; a menu file takes a stable one, such as uuid:"))
        }
    });
    match checked {
        Ok(value) => Some(value),
        Err(message) => {
            reader.problem(at, format!("{key}: {message}"));
            None
        }
    }
}

fn list<'a>(words: impl Iterator<Item = &'a str>) -> String {
    words.collect::<Vec<_>>().join(", ")
}
