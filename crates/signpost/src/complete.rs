//! What a shell offers for a word under way: ids, keys and what is hidden, from the menu file as it is.

use std::ffi::OsStr;
use std::path::PathBuf;

use clap_complete::engine::CompletionCandidate;
use signpost_core::edit::{self, KEYS};
use signpost_facts::Volume;
use signpost_firmware::boot_variables::{BootOption, BootVariables};
use signpost_machine::{Machine, files};
use signpost_menu::keyboard::KEYBOARDS;
use signpost_menu::keys::Kind;
use signpost_menu::{MenuDocument, parse_leniently};
use signpost_place::Look;
use signpost_survey::catalogue::Catalogue;

/// The value of an option on the command line that is being completed.
fn option(name: &str) -> Option<PathBuf> {
    let words: Vec<String> = std::env::args_os().filter_map(|word| word.into_string().ok()).collect();
    let with_value = format!("{name}=");
    let joined = words.iter().find_map(|word| word.strip_prefix(&with_value));
    let parted = words.iter().position(|word| word == name).and_then(|at| words.get(at + 1));
    joined.or(parted.map(String::as_str)).map(PathBuf::from)
}

fn menu_file() -> PathBuf {
    option("--menu").unwrap_or_else(|| match option("--machine") {
        Some(bench) if bench.as_os_str() != "live" => bench.join("menu.toml"),
        _ => PathBuf::from("/etc/signpost/menu.toml"),
    })
}

/// The menu, as far as it reads: one with errors is where help is needed most.
fn menu() -> Option<MenuDocument> {
    parse_leniently(&files::read_text(&menu_file(), 16 << 20).ok()??).0
}

fn starting(current: &OsStr, all: impl IntoIterator<Item = (String, String)>) -> Vec<CompletionCandidate> {
    let Some(current) = current.to_str() else { return Vec::new() };
    let fitting = all.into_iter().filter(|(value, _)| value.starts_with(current));
    fitting.map(|(value, help)| CompletionCandidate::new(value).help(Some(help.into()))).collect()
}

fn entries() -> impl Iterator<Item = (String, String)> {
    menu().into_iter().flat_map(|menu| menu.entries).map(|entry| (entry.id.into(), entry.title))
}

/// Ids of entries.
pub fn ids(current: &OsStr) -> Vec<CompletionCandidate> {
    starting(current, entries())
}

/// Ids of entries, and the menu itself.
pub fn once_targets(current: &OsStr) -> Vec<CompletionCandidate> {
    let menu = ("menu".to_string(), "the menu, whatever the policy".to_string());
    starting(current, entries().chain([menu]))
}

/// Keys of the policy, with the sign that a value follows.
pub fn assignments(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some((name, value)) = current.to_str().and_then(|current| current.split_once('=')) else {
        return starting(current, KEYS.iter().map(|key| (format!("{}=", key.name), key.meaning.to_string())));
    };
    let values: Vec<(String, String)> = match name {
        "default" => entries().collect(),
        "keyboard" => KEYBOARDS.map(|one| (one.name.to_string(), one.country.to_string())).into(),
        _ => match KEYS.iter().find(|key| key.name == name).map(|key| key.kind) {
            Some(Kind::Words(words)) => words.iter().map(|word| (word.to_string(), String::new())).collect(),
            _ => Vec::new(),
        },
    };
    let whole = values.into_iter().filter(|(own, _)| own.starts_with(value));
    whole
        .map(|(own, help)| CompletionCandidate::new(format!("{name}={own}")).help(Some(help.into())))
        .collect()
}

/// Keys of the policy.
pub fn keys(current: &OsStr) -> Vec<CompletionCandidate> {
    starting(current, KEYS.iter().map(|key| (key.name.to_string(), key.meaning.to_string())))
}

/// What is hidden.
pub fn hidden(current: &OsStr) -> Vec<CompletionCandidate> {
    let menu = menu();
    let things = menu.as_ref().map(edit::hidden).unwrap_or_default();
    let named = things.into_iter().filter_map(|thing| {
        let (_, name) = thing.what.split_once(' ')?;
        Some((name.to_string(), thing.why.unwrap_or_default()))
    });
    starting(current, named)
}

/// Numbers of the firmware's entries.
pub fn firmware_entries(current: &OsStr) -> Vec<CompletionCandidate> {
    let machine = match option("--machine") {
        Some(bench) if bench.as_os_str() != "live" => Machine::open_bench(&bench).ok(),
        _ => Some(Machine::live()),
    };
    let contents = machine.and_then(|machine| machine.contents().ok()).unwrap_or_default();
    let boot = BootVariables::read(&contents);
    let label = |option: &BootOption| {
        option.decoded.as_ref().map(|option| option.description.to_string()).unwrap_or_default()
    };
    let numbers = boot.options.iter().map(|(number, option)| (format!("{number:04X}"), label(option)));
    starting(current, numbers)
}

/// The machine that is being worked on, looked at; nothing where that is impossible.
fn look() -> Option<Look> {
    let machine = match option("--machine") {
        Some(bench) if bench.as_os_str() != "live" => Machine::open_bench(&bench).ok()?,
        _ => Machine::live(),
    };
    Some(signpost_upkeep::look(&machine, &Catalogue::built_in()))
}

/// Names of volumes.
pub fn volumes(current: &OsStr) -> Vec<CompletionCandidate> {
    starting(current, look().iter().flat_map(volume_names))
}

fn volume_names(look: &Look) -> Vec<(String, String)> {
    let told = |volume: &Volume| {
        let label = volume.label.as_deref().unwrap_or_default();
        (volume.name.clone(), format!("{} {label}", volume.kind).trim_end().to_string())
    };
    look.survey.volumes.iter().map(told).collect()
}

/// Places: volumes, and paths behind one.
pub fn places(current: &OsStr) -> Vec<CompletionCandidate> {
    let (Some(look), Some(word)) = (look(), current.to_str()) else { return Vec::new() };
    let found = signpost_menu::prompt::places_from(word, &look);
    let start = word.get(..found.start).unwrap_or_default();
    found.words.into_iter().map(|rest| CompletionCandidate::new(format!("{start}{rest}"))).collect()
}

/// What `survey` shows in detail: disks, volumes, systems, entries of the firmware.
pub fn surveyed(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(look) = look() else { return Vec::new() };
    let survey = &look.survey;
    let disks = survey.disks.iter().map(|disk| (format!("d{}", disk.number), disk.name.clone()));
    let systems = survey.systems.iter().map(|system| (system.id.clone(), system.title.clone()));
    let entries = survey.firmware.entries.iter().map(|entry| (entry.number.to_string(), entry.label.clone()));
    let all: Vec<_> = disks.chain(volume_names(&look)).chain(systems).chain(entries).collect();
    starting(current, all)
}
