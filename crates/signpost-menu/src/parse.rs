//! Reading a menu file: strictly, with all its errors at once, each with its place.

mod entry;
mod look;
mod reader;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use reader::{Reader, Section};

use crate::appearance::Appearance;
use crate::document::{
    DefaultEntry, Entry, Hidden, Hide, Host, MenuDocument, Settings, Show, Starts, Timeout,
};
use crate::ids::RESERVED_IDS;
use crate::keyboard::KEYBOARDS;
use crate::keys::{self, MAX_HOMES, MAX_SECONDS, SERIAL_PORTS};
use crate::nearest::nearest;
use crate::place::{Place, VolumeRef};

/// No menu file is longer, in bytes: it must fit its slot.
pub const MAX_LENGTH: usize = 64 * 1024;
/// The format that is written and read here.
const FORMAT: i64 = 1;

/// One error of a menu file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// What was found, and what would be right.
    pub message: String,
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}, column {}: {}", self.line, self.column, self.message)
    }
}

/// Reads a menu file.
///
/// # Errors
/// All that is wrong with it, in the file's order.
pub fn parse(text: &str) -> Result<MenuDocument, Vec<Problem>> {
    if text.len() > MAX_LENGTH {
        let message = format!("the file is {} bytes long; {MAX_LENGTH} at most", text.len());
        return Err(Vec::from([Problem { line: 1, column: 1, message }]));
    }
    let mut reader = Reader::new(text);
    let document = reader.root(text).map(|root| document(&mut reader, root)).unwrap_or_default();
    reader.finish().map(|()| document)
}

/// Reads a menu file as the boot program does: what does not hold is left out or becomes an entry that cannot
/// start, and is noted; `None` only where the file's notation is broken or it is too long.
pub fn parse_leniently(text: &str) -> (Option<MenuDocument>, Vec<Problem>) {
    if text.len() > MAX_LENGTH {
        return (None, parse(text).err().unwrap_or_default());
    }
    let mut reader = Reader::new(text);
    let document = reader.root(text).map(|root| {
        reader.keep_broken_entries();
        document(&mut reader, root)
    });
    (document, reader.finish().err().unwrap_or_default())
}

fn document(reader: &mut Reader<'_>, mut root: Section<'_>) -> MenuDocument {
    const KEYS: [&str; 7] = ["format", "menu", "look", "kernel", "include", "entry", "hide"];
    format_number(reader, &mut root);
    let settings = match reader.table(&mut root, "menu") {
        Some(section) => settings(reader, section),
        None => Settings::default(),
    };
    let look = match reader.table(&mut root, "look") {
        Some(section) => look::look(reader, section),
        None => Appearance::default(),
    };
    let mut kernel_args = String::new();
    if let Some(mut section) = reader.table(&mut root, "kernel") {
        kernel_args = reader.string(&mut section, "args").map(|found| found.value).unwrap_or_default();
        reader.no_more(section, &keys::of_table("kernel").collect::<Vec<_>>());
    }
    let mut include_bls = true;
    if let Some(mut section) = reader.table(&mut root, "include") {
        include_bls = reader.boolean(&mut section, "bls").unwrap_or(true);
        reader.no_more(section, &keys::of_table("include").collect::<Vec<_>>());
    }
    let entries: Vec<Entry> = reader
        .tables(&mut root, "entry")
        .into_iter()
        .filter_map(|table| entry::entry(reader, table))
        .collect();
    let hidden =
        reader.tables(&mut root, "hide").into_iter().filter_map(|table| hide(reader, table)).collect();
    reader.no_more(root, &KEYS);
    check_ids(reader, &entries);
    let document = MenuDocument { settings, look, kernel_args, include_bls, entries, hidden };
    check_default(reader, &document);
    check_fallbacks(reader, &document);
    document
}

fn format_number(reader: &mut Reader<'_>, root: &mut Section<'_>) {
    match reader.integer(root, "format") {
        Some(found) if found.value == FORMAT => {}
        Some(found) => {
            let message = format!("format is {}; this program reads format {FORMAT}", found.value);
            reader.problem(found.at, message);
        }
        // One of a wrong type has been reported.
        None if reader.has_problems() => {}
        None => {
            reader.problem(0, format!("the file has no format number; it starts with: format = {FORMAT}"));
        }
    }
}

fn settings(reader: &mut Reader<'_>, mut section: Section<'_>) -> Settings {
    let defaults = Settings::default();
    let heading = reader.string(&mut section, "heading").map(|found| found.value);
    let hosts = Host::ALL.map(|host| (host.word(), host));
    let host = reader.choice(&mut section, "host", &hosts).unwrap_or(defaults.host);
    let default = reader.string(&mut section, "default").map(|found| {
        reader.remember("default", found.at);
        match found.value.as_str() {
            "first" => DefaultEntry::First,
            "last-started" => DefaultEntry::LastStarted,
            _ => DefaultEntry::Id(found.value.into()),
        }
    });
    let timeout = timeout(reader, &mut section);
    let shows = Show::ALL.map(|show| (show.word(), show));
    let at = section.at("show");
    let show = reader.choice(&mut section, "show", &shows).unwrap_or(defaults.show);
    if (show, timeout) == (Show::Never, Some(Timeout::Never)) {
        let message = "show = \"never\" with timeout = \"never\" would start nothing and show nothing; \
                       show = \"on-key\" shows the menu where a key is pressed";
        reader.problem(at, message.to_string());
    }
    let keyboards = KEYBOARDS.map(|keyboard| (keyboard.name, keyboard));
    let keyboard = reader.choice(&mut section, "keyboard", &keyboards).unwrap_or(defaults.keyboard);
    let ports = SERIAL_PORTS.into_iter().zip([None, Some(0), Some(1), Some(2), Some(3)]);
    let ports: Vec<(&str, Option<u8>)> = ports.collect();
    let serial_port = reader.choice(&mut section, "serial-port", &ports).unwrap_or(defaults.serial_port);
    let fallback_path = reader.boolean(&mut section, "fallback-path").unwrap_or(defaults.fallback_path);
    let homes = homes(reader, &mut section).unwrap_or(defaults.homes);
    reader.no_more(section, &keys::of_table("menu").collect::<Vec<_>>());
    Settings {
        heading,
        host,
        default: default.unwrap_or(defaults.default),
        timeout: timeout.unwrap_or(defaults.timeout),
        show,
        keyboard,
        serial_port,
        fallback_path,
        homes,
    }
}

fn homes(reader: &mut Reader<'_>, section: &mut Section<'_>) -> Option<u8> {
    let found = reader.integer(section, "homes")?;
    let homes = u8::try_from(found.value).ok().filter(|homes| (1..=MAX_HOMES).contains(homes));
    if homes.is_none() {
        reader.problem(found.at, format!("homes is {}; it takes 1 or {MAX_HOMES}", found.value));
    }
    homes
}

fn timeout(reader: &mut Reader<'_>, section: &mut Section<'_>) -> Option<Timeout> {
    let right = format!("whole seconds from 0 to {MAX_SECONDS}, or \"never\"");
    let found = reader.any(section, "timeout")?;
    let at = found.span().start;
    let seconds = match found.get_ref() {
        toml::de::DeValue::String(word) if word == "never" => return Some(Timeout::Never),
        toml::de::DeValue::Integer(_) => reader::integer_value(&found),
        _ => None,
    };
    let timeout = seconds
        .filter(|seconds| (0..=MAX_SECONDS).contains(seconds))
        .and_then(|seconds| u16::try_from(seconds).ok())
        .map(Timeout::Seconds);
    if timeout.is_none() {
        let text = reader.source(found.span());
        reader.problem(at, format!("timeout is {text}; it takes {right}"));
    }
    timeout
}

fn hide(reader: &mut Reader<'_>, mut section: Section<'_>) -> Option<Hide> {
    let at = section.start;
    let why = reader.string(&mut section, "why").map(|found| found.value);
    let entry = reader.string(&mut section, "entry").map(|found| Hidden::Entry(found.value.into()));
    let system = reader.string(&mut section, "system").map(|found| Hidden::System(found.value));
    let volume = reader.parsed(&mut section, "volume", VolumeRef::parse).map(Hidden::Volume);
    let file = reader.parsed(&mut section, "file", Place::parse).map(Hidden::File);
    let is_clean = reader.no_more(section, &["entry", "volume", "system", "file", "why"]);
    let mut named: Vec<Hidden> = [entry, system, volume, file].into_iter().flatten().collect();
    if named.len() != 1 && is_clean {
        let message = format!(
            "a [[hide]] names exactly one of entry, volume, system and file; this one names {}",
            named.len()
        );
        reader.problem(at, message);
    }
    named.pop().map(|what| Hide { what, why })
}

fn check_ids(reader: &mut Reader<'_>, entries: &[Entry]) {
    for (id, at, line) in reader.doubled_ids() {
        reader.problem(at, format!("the id \"{id}\" is used twice; the entry on line {line} has it too"));
    }
    for entry in entries {
        let at = reader.remembered(&format!("entry {}", entry.line));
        if RESERVED_IDS.contains(&entry.id.as_str()) {
            reader.problem(at, format!("\"{}\" is reserved and cannot be the id of an entry", entry.id));
        }
        let Some(group) = &entry.group else { continue };
        let at = reader.remembered(&format!("in {}", entry.line));
        match entries.iter().find(|other| other.id == *group) {
            Some(other) if other.starts == Starts::Group && entry.starts != Starts::Group => {}
            Some(other) if other.starts == Starts::Group => {
                reader.problem(at, "a group cannot be in a group".to_string());
            }
            Some(_) => reader.problem(at, format!("in = \"{group}\" names an entry that is not a group")),
            None => {
                let message = format!("in = \"{group}\" names no entry{}", offer(group, entries));
                reader.problem(at, message);
            }
        }
    }
}

/// A fallback is another entry, starts a system, and leads to an end.
fn check_fallbacks(reader: &mut Reader<'_>, document: &MenuDocument) {
    for entry in &document.entries {
        let Some(fallback) = &entry.fallback else { continue };
        let at = reader.remembered(&format!("fallback {}", entry.line));
        if !entry.starts.is_system() {
            let message = format!(
                "{} is a {}, and only what starts a system has a fallback",
                entry.id,
                entry.starts.word()
            );
            reader.problem(at, message);
            continue;
        }
        match document.entry(fallback) {
            Some(other) if !other.starts.is_system() => {
                let kind = other.starts.word();
                reader.problem(at, format!("fallback = \"{fallback}\" is a {kind}, and starts no system"));
            }
            Some(_) if leads_back(document, entry) => {
                let message = format!("fallback = \"{fallback}\" leads back to {} itself", entry.id);
                reader.problem(at, message);
            }
            Some(_) => {}
            None if reader.has_dropped_entry(fallback) => {}
            None => {
                let message = format!(
                    "fallback = \"{fallback}\" is not an entry{}",
                    offer(fallback, &document.entries)
                );
                reader.problem(at, message);
            }
        }
    }
}

/// Whether an entry's fallback, or the fallback's own, is the entry itself.
fn leads_back(document: &MenuDocument, entry: &Entry) -> bool {
    let next = |from: &Entry| document.entry(from.fallback.as_ref()?);
    core::iter::successors(next(entry), |from| next(from))
        .take(document.entries.len())
        .any(|other| other.id == entry.id)
}

fn check_default(reader: &mut Reader<'_>, document: &MenuDocument) {
    let DefaultEntry::Id(id) = &document.settings.default else { return };
    let at = reader.remembered("default");
    match document.entry(id) {
        Some(entry) if entry.starts.is_system() => {}
        Some(entry) => {
            let message =
                format!("default = \"{id}\" is a {}, which cannot be the default", entry.starts.word());
            reader.problem(at, message);
        }
        // An entry that did not hold is not in the document; its own error says so.
        None if reader.has_dropped_entry(id) => {}
        None => {
            let message = format!("default = \"{id}\" is not an entry{}", offer(id, &document.entries));
            reader.problem(at, message);
        }
    }
}

fn offer(id: &str, entries: &[Entry]) -> String {
    let ids = || entries.iter().map(|entry| entry.id.as_str());
    match nearest(id, ids()) {
        Some(near) => format!("; did you mean \"{near}\"?"),
        None if entries.is_empty() => "; the file has no entries".to_string(),
        None => {
            let mut there: Vec<&str> = ids().collect();
            there.dedup();
            format!("; there {} {}", if there.len() == 1 { "is" } else { "are" }, there.join(", "))
        }
    }
}

#[cfg(test)]
mod tests;
