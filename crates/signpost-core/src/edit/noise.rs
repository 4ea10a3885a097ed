//! Entries that are only noise: a second way to what another entry starts, something that is gone, a recovery loader, a
//! fallback file. Never the last way to start a system.

use serde::Serialize;
use signpost_facts::{Aside, BootFile, OptionNumber, Result, Role, System};
use signpost_menu::MenuDocument;
use signpost_menu::document::DefaultEntry;
use signpost_menu::ids::EntryId;
use signpost_place::Look;

use crate::menu_file::MenuFile;
use crate::menu_text::MenuText;
use crate::resolve::{ResolvedEntry, StartTarget, resolve};
use crate::ways::{Reach, is_started_by, meant_by, of_entry};

/// An entry that is only noise.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Noise {
    /// Its id.
    pub id: EntryId,
    /// Its title.
    pub title: String,
    /// Why it is only noise.
    pub why: String,
}

/// What becomes of noise.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Quiet {
    /// It goes, and draft never offers it again.
    Hide,
    /// It goes.
    Remove,
}

/// Every entry that is only noise, in the menu's order.
pub fn noise(look: &Look, document: &MenuDocument) -> Vec<Noise> {
    let resolved = resolve(look, document);
    let mut left: Vec<bool> = vec![true; resolved.len()];
    let mut found = Vec::new();
    for (index, entry) in resolved.iter().enumerate() {
        if document.settings.default == DefaultEntry::Id(entry.entry.id.clone()) {
            continue;
        }
        let Some(why) = reason(look, document, &resolved, index, &left) else { continue };
        left[index] = false;
        if is_last_way(look, &resolved, index, &left) {
            left[index] = true;
            continue;
        }
        found.push(Noise { id: entry.entry.id.clone(), title: entry.entry.title.clone(), why });
    }
    found
}

/// Whether a system is meant by this entry, now or once what it starts is back, and started by none that is left.
fn is_last_way(look: &Look, resolved: &[ResolvedEntry<'_>], index: usize, left: &[bool]) -> bool {
    let starts = |entry: &ResolvedEntry<'_>, system: &System| {
        entry.target.as_ref().is_ok_and(|target| is_started_by(look, system, target))
    };
    meant_by(look, &resolved[index])
        .into_iter()
        .any(|system| !resolved.iter().zip(left).any(|(entry, is_left)| *is_left && starts(entry, system)))
}

fn reason(
    look: &Look,
    document: &MenuDocument,
    resolved: &[ResolvedEntry<'_>],
    index: usize,
    left: &[bool],
) -> Option<String> {
    let own = &resolved[index];
    let target = match &own.target {
        Err(why) => {
            let is_gone = of_entry(look, own) == Reach::Gone;
            return is_gone.then(|| format!("what it starts is gone: {why}"));
        }
        Ok(StartTarget::Group) => {
            let has_members =
                document.entries.iter().any(|entry| entry.group.as_ref() == Some(&own.entry.id));
            return (!has_members).then(|| "a group with nothing in it".into());
        }
        Ok(target) => target,
    };
    // The default is what another entry is a second way to, wherever it stands.
    let is_kept = |other: usize| {
        let is_default = document.settings.default == DefaultEntry::Id(resolved[other].entry.id.clone());
        other != index && left[other] && (other < index || is_default)
    };
    let others = || {
        (0..resolved.len())
            .filter(|other| is_kept(*other))
            .filter_map(|other| Some((other, resolved[other].target.as_ref().ok()?)))
    };
    if let Some((other, how)) = others().find_map(|(other, its)| Some((other, same(look, target, its)?))) {
        return Some(format!("{how} {}", resolved[other].entry.id));
    }
    let file = boot_file(look, target)?;
    let volume = &look.survey.volumes[file.volume.index()];
    let name = file.path.to_lowercase();
    if volume.aside == Some(Aside::Recovery) || ["recovery", "rescue"].iter().any(|word| name.contains(word))
    {
        return Some(format!("a recovery loader: {} on {}", file.path, volume.where_it_is()));
    }
    if file.role == Role::FallbackPath {
        return Some("the fallback path, which the firmware starts by itself where nothing else does".into());
    }
    if name.rsplit('/').next().is_some_and(|name| name.starts_with("fb") || name.contains("fallback")) {
        return Some(format!("a fallback file: {}", file.path));
    }
    None
}

/// What a target is to another, where both lead to the same.
fn same(look: &Look, target: &StartTarget, other: &StartTarget) -> Option<&'static str> {
    if target == other {
        return match target {
            StartTarget::Linux { .. } | StartTarget::Image { .. } => {
                Some("the same kernel with the same arguments as")
            }
            StartTarget::Sector { .. } => Some("the same boot sector as"),
            StartTarget::BuiltIn | StartTarget::Group => None,
            _ => Some("a second way to the same loader as"),
        };
    }
    let (own, its) = (boot_file(look, target)?, boot_file(look, other)?);
    let args = |target: &StartTarget| match target {
        StartTarget::Program { args, .. } => args.clone(),
        _ => String::new(),
    };
    if args(target) != args(other) {
        return None;
    }
    if own.volume == its.volume && own.path == its.path {
        return Some("a second way to the same loader as");
    }
    // Equal content is the same on one volume only: on another it is another install's.
    let is_copy = own.sha256.is_some() && own.sha256 == its.sha256 && own.volume == its.volume;
    is_copy.then_some("a copy of the loader of")
}

/// The boot file that a target leads to.
fn boot_file<'l>(look: &'l Look, target: &StartTarget) -> Option<&'l BootFile> {
    let (volume, path) = match target {
        StartTarget::Program { volume, path, .. } => (*volume, path.clone()),
        StartTarget::FirmwareEntry { number, .. } => {
            let number = OptionNumber(*number);
            let entry = look.survey.firmware.entries.iter().find(|entry| entry.number == number)?;
            let target = entry.target.as_ref()?;
            (target.volume.index(), target.file.clone())
        }
        _ => return None,
    };
    look.survey.boot_file(volume, &path).map(|index| &look.survey.boot_files[index])
}

/// The file's text without these entries, which are hidden with the reason where that is wanted.
///
/// # Errors
/// Where the file has errors, or does not hold without them.
pub fn quieten(menu: &MenuFile, noise: &[Noise], how: Quiet) -> Result<String> {
    let (mut text, _) = MenuText::of(menu)?;
    for entry in noise {
        text.remove_entry(&entry.id)?;
        if how == Quiet::Hide {
            text.hide_entry(&entry.id, Some(&entry.why))?;
        }
    }
    text.finish(&menu.path)
}
