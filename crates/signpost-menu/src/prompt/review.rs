//! What is composed, part by part: there or not, and what does not fit.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::{Composed, Hands, size};
use crate::layouts::{KernelName, is_microcode, last_part};
use crate::resolve::{StartTarget, Within};

/// Each part of what is composed, found or not.
pub(super) fn review(hands: &impl Hands, composed: &Composed) -> Result<Vec<String>, String> {
    let mut lines = vec![format!("{}  ({})", composed.title, composed.from)];
    let part = |name: &str, within: Within<'_>, path: &str| {
        let state = hands.size(within, path).map_or("NOT THERE".to_string(), size);
        format!("  {name}: {path}, {state}")
    };
    match &composed.target {
        StartTarget::Linux { volume, kernel, initrds, args, root } => {
            let within = Within::volume(*volume);
            lines.push(format!("  volume: {}", hands.whereabouts(*volume)));
            let version = hands.kernel_header(within, kernel);
            let version = version.map(|header| header.version.unwrap_or_else(|| "unknown".into()));
            lines.push(format!(
                "{}{}",
                part("kernel", within, kernel),
                version.as_ref().map(|v| format!(", version {v}")).unwrap_or_default()
            ));
            lines.extend(initrds.iter().map(|initrd| part("initrd", within, initrd)));
            if initrds.is_empty() {
                lines.push(format!("  initrd: none{}", others(hands, within, kernel)));
            }
            let named = KernelName::of(last_part(kernel)).map_or("", |name| name.version);
            let is_foreign = |initrd: &&String| !initrd.contains(named) && !is_microcode(last_part(initrd));
            let foreign = initrds.iter().find(is_foreign);
            lines
                .extend(foreign.map(|initrd| {
                    format!("  note: {initrd} is of another version than the kernel, {named}")
                }));
            if let Some(root) = root {
                lines.push(format!("  root: {}", hands.whereabouts(*root)));
            }
            lines.push(arguments(args));
        }
        StartTarget::Program { volume, path, args } => {
            lines.push(format!("  volume: {}", hands.whereabouts(*volume)));
            lines.push(part("program", Within::volume(*volume), path));
            if !args.is_empty() {
                lines.push(arguments(args));
            }
        }
        StartTarget::Image { volume, image, kernel, initrds, args } => {
            let within = Within { volume: *volume, image: Some(image) };
            lines.push(part("image", Within::volume(*volume), image));
            lines.push(part("kernel", within, kernel));
            lines.extend(initrds.iter().map(|initrd| part("initrd", within, initrd)));
            lines.push(arguments(args));
        }
        StartTarget::FirmwareEntry { number, .. } => {
            lines.push(format!("  the firmware's entry {number:04X}"));
        }
        StartTarget::Sector { volume, file, .. } => {
            lines.push(format!("  volume: {}", hands.whereabouts(*volume)));
            lines.extend(file.iter().map(|path| part("boot sector", Within::volume(*volume), path)));
        }
        StartTarget::BuiltIn | StartTarget::Group => {}
    }
    Ok(lines)
}

fn arguments(args: &str) -> String {
    format!("  arguments: {}", if args.is_empty() { "none" } else { args })
}

/// The initrds that there are, where none belongs to the kernel.
fn others(hands: &impl Hands, within: Within<'_>, kernel: &str) -> String {
    let (shown, names) = beside(hands, within, kernel);
    let there: Vec<String> = names.into_iter().filter(|name| name.starts_with("initr")).collect();
    if there.is_empty() { String::new() } else { format!("; in {shown} there is {}", there.join(", ")) }
}

/// What keeps a composed start from starting.
pub(super) fn fault(hands: &impl Hands, composed: &Composed) -> Option<String> {
    let gone = |within: Within<'_>, path: &String| {
        hands.size(within, path).is_none().then(|| format!("{path} is not there"))
    };
    match &composed.target {
        StartTarget::Linux { volume, kernel, initrds, .. } => {
            let within = Within::volume(*volume);
            core::iter::once(kernel).chain(initrds).find_map(|path| gone(within, path))
        }
        StartTarget::Image { volume, image, kernel, initrds, .. } => {
            let within = Within { volume: *volume, image: Some(image) };
            core::iter::once(kernel).chain(initrds).find_map(|path| gone(within, path))
        }
        StartTarget::Program { volume, path, .. } => gone(Within::volume(*volume), path),
        StartTarget::Group => Some("a group starts nothing".into()),
        StartTarget::Sector { volume, file, .. } => hands.boot_sector(*volume, file.as_deref()).err(),
        StartTarget::FirmwareEntry { .. } | StartTarget::BuiltIn => None,
    }
}

/// The folder of a file, and the files that stand in it.
pub(super) fn beside<'p>(hands: &impl Hands, within: Within<'_>, path: &'p str) -> (&'p str, Vec<String>) {
    let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let folder = if folder.is_empty() { "/" } else { folder };
    (folder, hands.files(within, folder).ok().flatten().unwrap_or_default())
}
