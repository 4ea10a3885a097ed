//! Composing a start: what can be filled in is, and each part says where it comes from.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use super::find::{LinuxSystem, kernels_on, systems, systems_on};
use super::look::not_there;
use super::place::Found;
use super::{Hands, Prompt, Reply, size};
use crate::linux_files::{initrds, version_in_name};
use crate::place::VolumeRef;
use crate::resolve::{StartTarget, Within, resolve_entry};

/// A start, composed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Composed {
    /// What it is called.
    pub title: String,
    /// What would be started.
    pub target: StartTarget,
    /// Where its parts come from.
    pub from: String,
}

impl Prompt {
    pub(super) fn compose(&mut self, hands: &impl Hands, line: &str, rest: &str) -> Result<Reply, String> {
        let (kind, what) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
        let what = what.trim();
        let usage = "compose linux on v2, compose linux v2:/boot/vmlinuz-6.9, compose efi v1:/EFI/x.efi, or compose entry ID";
        let composed = match kind {
            "linux" => {
                let what = what.strip_prefix("on ").map_or(what, str::trim);
                let found = self.place(hands, line, what)?;
                match by_root(hands, &found) {
                    Some(composed) => composed?,
                    None => by_kernel(hands, &found)?,
                }
            }
            "efi" => {
                let found = self.place(hands, line, what)?;
                if hands.size(Within::volume(found.volume), &found.path).is_none() {
                    return Err(not_there(hands, &found));
                }
                let title = found.path.rsplit('/').next().unwrap_or_default().to_string();
                let from = format!("the program on {}", hands.whereabouts(found.volume));
                let target =
                    StartTarget::Program { volume: found.volume, path: found.path, args: String::new() };
                Composed { title, target, from }
            }
            "entry" => {
                let entry = self.document.entry(what).ok_or_else(|| {
                    let ids: Vec<&str> =
                        self.document.entries.iter().map(|entry| entry.id.as_str()).collect();
                    format!("the menu has no entry {what}; there are {}", ids.join(", "))
                })?;
                let target = resolve_entry(hands, &self.document, entry).target?;
                Composed {
                    title: entry.title.clone(),
                    target,
                    from: format!("the menu's entry {}", entry.id),
                }
            }
            _ => return Err(format!("compose what? {usage}")),
        };
        let lines = review(hands, &composed)?;
        self.composed = Some(composed);
        Ok(Reply::said(lines))
    }

    /// The parts of a composed Linux start: its volume, and the rest.
    fn linux(&mut self) -> Result<(usize, &mut String, &mut Vec<String>), String> {
        match self.composed.as_mut().map(|composed| &mut composed.target) {
            Some(StartTarget::Linux { volume, kernel, initrds, .. }) => Ok((*volume, kernel, initrds)),
            Some(_) => Err("what is composed is no Linux start; it has no kernel of its own".into()),
            None => Err("nothing is composed yet: `compose linux on v2` does it".into()),
        }
    }

    pub(super) fn set_kernel(&mut self, hands: &impl Hands, rest: &str) -> Result<Reply, String> {
        let (volume, kernel, held) = self.linux()?;
        let path = own_path(rest, volume)?;
        if hands.kernel_version(Within::volume(volume), &path).is_none() {
            let found = Found { volume, path: path.clone() };
            let is_there = hands.size(Within::volume(volume), &path).is_some();
            return Err(if is_there {
                format!("{path} is no Linux kernel")
            } else {
                not_there(hands, &found)
            });
        }
        *held = initrds_of(hands, volume, &path);
        *kernel = path;
        self.reviewed(hands)
    }

    pub(super) fn set_initrd(&mut self, hands: &impl Hands, rest: &str) -> Result<Reply, String> {
        let (volume, _, held) = self.linux()?;
        if rest == "none" {
            held.clear();
            return self.reviewed(hands);
        }
        let mut paths = Vec::new();
        for word in rest.split_whitespace() {
            let path = own_path(word, volume)?;
            if hands.size(Within::volume(volume), &path).is_none() {
                return Err(not_there(hands, &Found { volume, path }));
            }
            paths.push(path);
        }
        if paths.is_empty() {
            return Err("initrd what? one or more paths, or none".into());
        }
        *held = paths;
        self.reviewed(hands)
    }

    /// Replaces all arguments, or adds (`+single`) and drops (`-quiet`) single ones.
    pub(super) fn set_args(&mut self, rest: &str) -> Result<Reply, String> {
        let composed =
            self.composed.as_mut().ok_or("nothing is composed yet: `compose linux on v2` does it")?;
        let args = match &mut composed.target {
            StartTarget::Linux { args, .. }
            | StartTarget::Image { args, .. }
            | StartTarget::Program { args, .. } => args,
            _ => return Err("what is composed takes no arguments".into()),
        };
        let is_change = |word: &str| word.starts_with(['+', '-']) && word.len() > 1;
        if !rest.is_empty() && rest.split_whitespace().all(is_change) {
            let mut words: Vec<String> = args.split_whitespace().map(ToString::to_string).collect();
            for change in rest.split_whitespace() {
                let word = change.get(1..).unwrap_or_default();
                let is_it = |held: &String| held == word || held.split('=').next() == Some(word);
                if change.starts_with('+') {
                    words.push(word.to_string());
                } else if words.iter().any(is_it) {
                    words.retain(|held| !is_it(held));
                } else {
                    return Err(format!("the arguments have no {word}; they are: {args}"));
                }
            }
            *args = words.join(" ");
        } else if !rest.is_empty() {
            *args = rest.to_string();
        }
        Ok(Reply::said(vec![format!("arguments: {args}")]))
    }

    fn reviewed(&self, hands: &impl Hands) -> Result<Reply, String> {
        review(hands, self.need_composed()?).map(Reply::said)
    }
}

/// A path on the composed start's own volume, with or without the volume's name.
fn own_path(text: &str, volume: usize) -> Result<String, String> {
    let number = volume.saturating_add(1);
    let path = match text.split_once(':') {
        Some((name, path))
            if VolumeRef::parse(&format!("{name}:"))
                == Ok(VolumeRef::Number(u32::try_from(number).unwrap_or_default())) =>
        {
            path
        }
        Some(_) => {
            return Err(format!("kernel and initrd lie on v{number}; `compose linux` takes another volume"));
        }
        None => text,
    };
    if path.starts_with('/') {
        return Ok(path.to_string());
    }
    Err(format!("{text} is no path; one starts with /, such as v{number}:/boot/vmlinuz"))
}

fn initrds_of(hands: &impl Hands, volume: usize, kernel: &str) -> Vec<String> {
    let (folder, name) = kernel.rsplit_once('/').unwrap_or(("", kernel));
    let shown = if folder.is_empty() { "/" } else { folder };
    let names = hands.files(Within::volume(volume), shown).ok().flatten().unwrap_or_default();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    initrds(version_in_name(name), &names).into_iter().map(|initrd| format!("{folder}/{initrd}")).collect()
}

/// The newest kernel of the system whose root a volume is, or a folder of one; `None` where the place is no root, and
/// not a volume either.
fn by_root(hands: &impl Hands, found: &Found) -> Option<Result<Composed, String>> {
    let on_volume = systems_on(hands, found.volume);
    let path = found.path.trim_end_matches('/');
    let named = |system: &&LinuxSystem| system.root_path.trim_end_matches('/') == path;
    let system = match (on_volume.iter().find(named), path) {
        (Some(system), _) => system,
        (None, "") => match on_volume.first() {
            Some(system) => system,
            None => return Some(Err(no_root(hands, found.volume))),
        },
        (None, _) => return None,
    };
    Some(newest(hands, system, &on_volume))
}

fn newest(hands: &impl Hands, system: &LinuxSystem, on_volume: &[LinuxSystem]) -> Result<Composed, String> {
    let kernel = system.kernels.first().ok_or_else(|| {
        format!(
            "{} has no kernel in /boot, nor on a volume that it mounts there; `find vmlinuz` looks for one",
            system.title
        )
    })?;
    let mut from = format!(
        "{}, newest of {}; arguments {}",
        hands.whereabouts(system.boot),
        system.kernels.len(),
        system.args_from
    );
    let others = on_volume.iter().filter(|other| other.root_path != system.root_path);
    let number = system.root.saturating_add(1);
    let ways: Vec<String> =
        others.map(|other| format!("`compose linux on v{number}:{}`", other.root_path)).collect();
    if !ways.is_empty() {
        from.push_str(&format!("; v{number} holds more systems: {}", ways.join(", ")));
    }
    Ok(linux(system, kernel.path.clone(), kernel.initrds.clone(), from))
}

/// What there is where a volume is no system's root.
fn no_root(hands: &impl Hands, volume: usize) -> String {
    let number = volume.saturating_add(1);
    if let Some(kernel) = kernels_on(hands, volume).first() {
        let way = format!("compose linux v{number}:{}", kernel.path);
        return format!(
            "v{number} is no system's root, though it has kernels: `{way}` takes one, `args` the root"
        );
    }
    let roots: Vec<String> = systems(hands)
        .map(|system| format!("{} on v{}", system.title, system.root.saturating_add(1)))
        .collect();
    let there = if roots.is_empty() { "none was found".to_string() } else { roots.join(", ") };
    format!("no Linux system has its root on v{number}; there is: {there}")
}

fn linux(system: &LinuxSystem, kernel: String, initrds: Vec<String>, from: String) -> Composed {
    let target = StartTarget::Linux {
        volume: system.boot,
        kernel,
        initrds,
        args: system.args.clone(),
        root: Some(system.root),
    };
    Composed { title: system.title.clone(), target, from }
}

/// One kernel by its path; root and arguments of the system that it belongs to, where there is one.
fn by_kernel(hands: &impl Hands, found: &Found) -> Result<Composed, String> {
    let within = Within::volume(found.volume);
    if hands.kernel_version(within, &found.path).is_none() {
        let is_there = hands.size(within, &found.path).is_some();
        return Err(if is_there {
            format!("{} is no Linux kernel", found.path)
        } else {
            not_there(hands, found)
        });
    }
    let initrds = initrds_of(hands, found.volume, &found.path);
    let owner = systems(hands).find(|system| {
        system.boot == found.volume && system.kernels.iter().any(|kernel| kernel.path == found.path)
    });
    if let Some(system) = owner {
        let from = format!("{}; arguments {}", hands.whereabouts(found.volume), system.args_from);
        return Ok(linux(&system, found.path.clone(), initrds, from));
    }
    let target = StartTarget::Linux {
        volume: found.volume,
        kernel: found.path.clone(),
        initrds,
        args: String::new(),
        root: None,
    };
    let from = format!(
        "{}; no system was found that it belongs to: `args root=…` names its root",
        hands.whereabouts(found.volume)
    );
    Ok(Composed { title: found.path.rsplit('/').next().unwrap_or_default().to_string(), target, from })
}

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
            lines.push(format!("  volume: v{}, {}", volume.saturating_add(1), hands.whereabouts(*volume)));
            let version = hands.kernel_version(within, kernel);
            lines.push(format!(
                "{}{}",
                part("kernel", within, kernel),
                version.as_ref().map(|v| format!(", version {v}")).unwrap_or_default()
            ));
            lines.extend(initrds.iter().map(|initrd| part("initrd", within, initrd)));
            if initrds.is_empty() {
                lines.push(format!("  initrd: none{}", others(hands, *volume, kernel)));
            }
            let named = version_in_name(kernel.rsplit('/').next().unwrap_or_default());
            let foreign = initrds.iter().find(|initrd| !named.is_empty() && !initrd.contains(named));
            lines
                .extend(foreign.map(|initrd| {
                    format!("  note: {initrd} is of another version than the kernel, {named}")
                }));
            if let Some(root) = root {
                lines.push(format!("  root: v{}, {}", root.saturating_add(1), hands.whereabouts(*root)));
            }
            lines.push(format!("  arguments: {args}"));
        }
        StartTarget::Program { volume, path, args } => {
            lines.push(format!("  volume: v{}, {}", volume.saturating_add(1), hands.whereabouts(*volume)));
            lines.push(part("program", Within::volume(*volume), path));
            if !args.is_empty() {
                lines.push(format!("  arguments: {args}"));
            }
        }
        StartTarget::Image { volume, image, kernel, initrds, args } => {
            let within = Within { volume: *volume, image: Some(image) };
            lines.push(part("image", Within::volume(*volume), image));
            lines.push(part("kernel", within, kernel));
            lines.extend(initrds.iter().map(|initrd| part("initrd", within, initrd)));
            lines.push(format!("  arguments: {args}"));
        }
        StartTarget::FirmwareEntry { number, .. } => {
            lines.push(format!("  the firmware's entry {number:04X}"));
        }
        StartTarget::BuiltIn | StartTarget::Group => {}
    }
    Ok(lines)
}

/// The initrds that there are, where none belongs to the kernel.
fn others(hands: &impl Hands, volume: usize, kernel: &str) -> String {
    let folder = kernel.rsplit_once('/').map_or("", |(folder, _)| folder);
    let shown = if folder.is_empty() { "/" } else { folder };
    let names = hands.files(Within::volume(volume), shown).ok().flatten().unwrap_or_default();
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
        StartTarget::FirmwareEntry { .. } | StartTarget::BuiltIn => None,
    }
}
