//! Looking: volumes, what is on them, folders, files, the firmware's entries.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::find::{systems_on, vendors};
use super::place::Found;
use super::{Hands, Item, Reply, Then, columns, size};
use crate::document::Starts;
use crate::linux_system::LinuxKernel;
use crate::resolve::{LoadOptionSeen, Within};
use crate::sorted::sorted;

/// Bytes of a text that are shown.
const MAX_TEXT: usize = 64 * 1024;
/// Items of a folder that are listed.
const MAX_ITEMS: usize = 5000;

/// Every volume, with what is on it in words.
pub(super) fn volumes(hands: &impl Hands) -> Vec<String> {
    let mut rows = vec![["volume", "kind", "label", "size", "what is on it"].map(String::from).to_vec()];
    for index in 0..hands.volumes().len() {
        let facts = hands.facts(index);
        rows.push(vec![
            hands.whereabouts(index),
            facts.kind.clone(),
            facts.label.clone().unwrap_or_default(),
            size(facts.size),
            holds(hands, index),
        ]);
    }
    if rows.len() == 1 {
        return vec!["there are no volumes".to_string()];
    }
    columns(rows)
}

/// What is on a volume, in a few words.
fn holds(hands: &impl Hands, volume: usize) -> String {
    let facts = hands.facts(volume);
    if facts.is_encrypted {
        return "encrypted: cannot be read".into();
    }
    if let Some(fault) = facts.fault {
        return fault;
    }
    let mut parts: Vec<String> =
        systems_on(hands, volume).iter().map(|system| format!("{}, root", system.title)).collect();
    if parts.is_empty() && !hands.kernels_on(volume).is_empty() {
        parts.push("kernels".to_string());
    }
    if !vendors(hands, volume).is_empty() {
        parts.push("boot files".to_string());
    }
    parts.join(", ")
}

/// One volume in detail.
pub(super) fn who(hands: &impl Hands, volume: usize) -> Result<Vec<String>, String> {
    let facts = hands.facts(volume);
    let identity = hands.volumes().get(volume).ok_or("there is no such volume")?;
    let mut lines = vec![format!("{}  {}, {}", hands.whereabouts(volume), facts.kind, size(facts.size))];
    for (name, value) in [
        ("label", facts.label),
        ("UUID", identity.uuid.clone()),
        ("partition UUID", identity.part_uuid.clone()),
    ] {
        lines.extend(value.map(|value| format!("  {name}: {value}")));
    }
    if facts.is_encrypted {
        lines.push("  encrypted: cannot be read; its system unlocks it when it starts".to_string());
        return Ok(lines);
    }
    hands.items(volume, "/")?;
    let systems = systems_on(hands, volume);
    if systems.is_empty() {
        lines.extend(hands.kernels_on(volume).iter().map(|kernel| kernel_line(kernel, "")));
    }
    for system in systems {
        let below = if system.root_path == "/" { "" } else { &system.root_path };
        lines.push(format!(
            "  system: {}{}",
            system.title,
            if below.is_empty() { String::new() } else { format!(", its root in {below}") }
        ));
        lines.push(format!("  arguments: {}", system.args));
        lines.push(format!("  arguments from: {}", system.args_from));
        let at = |kernel: &LinuxKernel| match kernel.volume == volume {
            true => String::new(),
            false => hands.at(kernel.volume, ""),
        };
        lines.extend(system.kernels.iter().map(|kernel| kernel_line(kernel, &at(kernel))));
    }
    for folder in vendors(hands, volume) {
        let names = hands.files(Within::volume(volume), &folder).ok().flatten().unwrap_or_default();
        let programs = names.into_iter().filter(|name| name.to_lowercase().ends_with(".efi"));
        lines.extend(programs.map(|name| format!("  boot file: {folder}/{name}")));
    }
    Ok(lines)
}

fn kernel_line(kernel: &LinuxKernel, at: &str) -> String {
    let with = match kernel.initrds.as_slice() {
        [] => "without an initrd".to_string(),
        initrds => format!("with {}", initrds.join(", ")),
    };
    format!("  kernel {}: {at}{} {with}", kernel.version, kernel.path)
}

/// What stands in a folder.
pub(super) fn look(hands: &impl Hands, found: &Found) -> Result<Vec<String>, String> {
    let Some(items) = hands.items(found.volume, &found.path)? else {
        if hands.size(Within::volume(found.volume), &found.path).is_some() {
            return show(hands, found);
        }
        return Err(not_there(hands, found));
    };
    if items.is_empty() {
        return Ok(vec!["nothing is in it".to_string()]);
    }
    let left = items.len().saturating_sub(MAX_ITEMS);
    let mut lines: Vec<String> = sorted(items, Ord::cmp)
        .into_iter()
        .take(MAX_ITEMS)
        .map(|item| if item.is_folder { format!("{}/", item.name) } else { item.name })
        .collect();
    if left > 0 {
        lines.push(format!("and {left} more"));
    }
    Ok(lines)
}

/// A file that is not there: the nearest folder that is, and what stands in it.
pub(super) fn not_there(hands: &impl Hands, found: &Found) -> String {
    if let Ok(Some(items)) = hands.items(found.volume, &found.path) {
        return format!(
            "{} is a folder; in it there is {}",
            hands.at(found.volume, &found.path),
            first_names(items)
        );
    }
    let near = nearest_folder(hands, found.volume, &found.path);
    let near = near.map(|(folder, names)| format!("; in {folder} there is {names}")).unwrap_or_default();
    format!("{} has no {}{near}", hands.name(found.volume), found.path)
}

/// The nearest folder above a path that is there, and the first names in it.
pub fn nearest_folder<'p>(hands: &impl Hands, volume: usize, path: &'p str) -> Option<(&'p str, String)> {
    let mut folder = path.trim_end_matches('/');
    while let Some((parent, _)) = folder.rsplit_once('/') {
        folder = parent;
        let shown = if folder.is_empty() { "/" } else { folder };
        if let Ok(Some(items)) = hands.items(volume, shown) {
            return Some((shown, first_names(items)));
        }
    }
    None
}

fn first_names(items: Vec<Item>) -> String {
    const MAX_NAMES: usize = 12;
    let names: Vec<String> =
        sorted(items, Ord::cmp).into_iter().take(MAX_NAMES).map(|item| item.name).collect();
    if names.is_empty() { "nothing".into() } else { names.join(", ") }
}

/// A text, or what a file is.
pub(super) fn show(hands: &impl Hands, found: &Found) -> Result<Vec<String>, String> {
    let within = Within::volume(found.volume);
    let length = hands.size(within, &found.path).ok_or_else(|| not_there(hands, found))?;
    let head = hands.head(found.volume, &found.path, MAX_TEXT)?;
    if let Some(kind) = hands.kind_of_file(&head) {
        return Ok(vec![format!("{kind}, {}", size(length))]);
    }
    let text = core::str::from_utf8(&head).ok().filter(|text| !text.contains('\0'));
    let Some(text) = text else { return Ok(vec![format!("no text, {}", size(length))]) };
    let mut lines: Vec<String> = text.lines().map(|line| line.replace(char::is_control, " ")).collect();
    if length > head.len() as u64 {
        lines.push(format!("and more: it has {}", size(length)));
    }
    Ok(lines)
}

/// The firmware's entries, or one of them; the next start, or every start, to one; firmware setup.
pub(super) fn firmware(hands: &impl Hands, rest: &str) -> Result<Reply, String> {
    let options = hands.load_options();
    if rest == "setup" {
        if let Some(why) = hands.firmware().cannot(&Starts::SetupScreen) {
            return Err(why.into());
        }
        return Ok(Reply::then("the next start opens firmware setup", Then::SetupScreen));
    }
    if options.is_empty() {
        return Ok(Reply::said(vec!["the firmware has no entries".to_string()]));
    }
    if rest.is_empty() {
        let mut rows = Vec::new();
        for option in &options {
            rows.push(vec![format!("{:04X}", option.number), option.label.clone(), leads_to(hands, option)]);
        }
        let mut lines = columns(rows);
        lines.push(
            "`firmware next NUMBER` starts one of them next, `firmware first NUMBER` makes it the first for good, `firmware setup` opens firmware setup"
                .to_string(),
        );
        return Ok(Reply::said(lines));
    }
    let (act, rest) = match rest.split_once(' ') {
        Some((act @ ("first" | "next"), number)) => (act, number.trim()),
        _ => ("", rest),
    };
    let number = u16::from_str_radix(rest, 16).ok();
    let option = options.iter().find(|option| Some(option.number) == number);
    let option = option.ok_or_else(|| {
        let numbers: Vec<String> = options.iter().map(|option| format!("{:04X}", option.number)).collect();
        format!("the firmware has no entry {rest}; there are {}", numbers.join(", "))
    })?;
    let called = format!("{:04X} \"{}\"", option.number, option.label);
    Ok(match act {
        "first" => Reply::then(&format!("{called} comes first from now on"), Then::First(option.number)),
        "next" => Reply::then(&format!("the next start goes to {called}"), Then::NextBoot(option.number)),
        _ => Reply::said(vec![
            format!("{called}  {}", leads_to(hands, option)),
            format!("`firmware next {:04X}` starts it next", option.number),
        ]),
    })
}

fn leads_to(hands: &impl Hands, option: &LoadOptionSeen) -> String {
    let target = option.target.as_ref().map(|(volume, path)| hands.at(*volume, path));
    option.fault.clone().or(target).unwrap_or_default()
}
