//! Composing a start: what can be filled in is, and each part says where it comes from.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::find::systems_on;
use super::look::not_there;
use super::place::Found;
use super::review::{beside, review};
use super::{Composed, Hands, NOTHING, Prompt, Reply, image};
use crate::document::{SectorFrom, SectorManner, Starts};
use crate::kernel_args::{changed_words, is_change};
use crate::kernels::newest_first;
use crate::layouts::KernelName;
use crate::linux_system::{LinuxKernel, LinuxSystem};
use crate::place::{Place, VolumeRef};
use crate::resolve::{StartTarget, Within, resolve_entry};

impl Prompt {
    pub(super) fn compose(&mut self, hands: &impl Hands, line: &str, rest: &str) -> Result<Reply, String> {
        let (kind, what) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
        let what = what.trim();
        let usage = "compose linux on d1p2, compose linux d1p2:/boot/vmlinuz-6.9, compose efi d1p1:/EFI/x.efi, compose sector d1p1, compose image d1p3:/x.iso, or compose entry ID";
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
                Composed { title, target, from, is_newest: false }
            }
            "sector" => sector(hands, &self.place(hands, line, what)?)?,
            "image" => image::compose(hands, &self.place(hands, line, what)?)?,
            "entry" => {
                let entry = self.document.entry(what).ok_or_else(|| {
                    let ids: Vec<&str> =
                        self.document.entries.iter().map(|entry| entry.id.as_str()).collect();
                    format!("the menu has no entry {what}; there are {}", ids.join(", "))
                })?;
                let target =
                    resolve_entry(hands, &self.document, entry).target.map_err(|fault| fault.to_string())?;
                Composed {
                    title: entry.title.clone(),
                    target,
                    from: format!("the menu's entry {}", entry.id),
                    is_newest: false,
                }
            }
            _ => return Err(format!("compose what? {usage}")),
        };
        let lines = review(hands, &composed)?;
        self.composed = Some(composed);
        Ok(Reply::said(lines))
    }

    /// The parts of a composed start that has a kernel of its own.
    fn parts(&mut self) -> Result<Parts<'_>, String> {
        match self.composed.as_mut().map(|composed| &mut composed.target) {
            Some(StartTarget::Linux { volume, kernel, initrds, .. }) => {
                Ok(Parts { volume: *volume, image: None, kernel, initrds })
            }
            Some(StartTarget::Image { volume, image, kernel, initrds, .. }) => {
                Ok(Parts { volume: *volume, image: Some(image.as_str()), kernel, initrds })
            }
            Some(_) => Err("what is composed has no kernel of its own".into()),
            None => Err(NOTHING.into()),
        }
    }

    pub(super) fn set_kernel(&mut self, hands: &impl Hands, rest: &str) -> Result<Reply, String> {
        let parts = self.parts()?;
        let (within, path) = (parts.within(), parts.own_path(hands.name(parts.volume), rest)?);
        need_kernel(hands, within, &path)?;
        *parts.initrds = initrds_of(hands, within, &path);
        *parts.kernel = path;
        self.is_picked();
        self.reviewed(hands)
    }

    pub(super) fn set_initrd(&mut self, hands: &impl Hands, rest: &str) -> Result<Reply, String> {
        let parts = self.parts()?;
        let mut paths = Vec::new();
        for word in rest.split_whitespace().filter(|_| rest != "none") {
            let path = parts.own_path(hands.name(parts.volume), word)?;
            if hands.size(parts.within(), &path).is_none() {
                return Err(missing(hands, parts.within(), &path));
            }
            paths.push(path);
        }
        if paths.is_empty() && rest != "none" {
            return Err("initrd what? one or more paths, or none".into());
        }
        *parts.initrds = paths;
        self.is_picked();
        self.reviewed(hands)
    }

    /// Somebody has picked a part by hand: that very file is meant.
    fn is_picked(&mut self) {
        if let Some(composed) = &mut self.composed {
            composed.is_newest = false;
        }
    }

    /// Replaces all arguments, or adds (`+single`) and drops (`-quiet`) single ones.
    pub(super) fn set_args(&mut self, rest: &str) -> Result<Reply, String> {
        let composed = self.composed.as_mut().ok_or(NOTHING)?;
        let args = match &mut composed.target {
            StartTarget::Linux { args, .. }
            | StartTarget::Image { args, .. }
            | StartTarget::Program { args, .. } => args,
            _ => return Err("what is composed takes no arguments".into()),
        };
        if is_change(rest) {
            *args = changed_words(args, rest)?;
        } else if !rest.is_empty() {
            *args = rest.to_string();
        }
        Ok(Reply::said(vec![format!("arguments: {args}")]))
    }

    fn reviewed(&self, hands: &impl Hands) -> Result<Reply, String> {
        review(hands, self.need_composed()?).map(Reply::said)
    }
}

/// A volume's boot sector, or the one in a file; UEFI firmware starts neither.
fn sector(hands: &impl Hands, found: &Found) -> Result<Composed, String> {
    let file = Some(found.path.clone()).filter(|path| !path.trim_end_matches('/').is_empty());
    let manner = SectorManner::default();
    let from = match &file {
        None => SectorFrom::Volume(VolumeRef::Name(hands.name(found.volume).to_string())),
        Some(path) => SectorFrom::File(Place {
            volume: VolumeRef::Name(hands.name(found.volume).to_string()),
            path: path.clone(),
        }),
    };
    if let Some(why) = hands.firmware().cannot(&Starts::Sector { from, manner }) {
        return Err(why.into());
    }
    let name = hands.boot_sector(found.volume, file.as_deref())?;
    let target = StartTarget::Sector { volume: found.volume, file, manner };
    let title = format!("The boot sector of {name}");
    Ok(Composed { title, target, from: format!("the boot sector of {name}"), is_newest: false })
}

/// Kernel and initrds of a composed start, and where they lie.
struct Parts<'a> {
    volume: usize,
    image: Option<&'a str>,
    kernel: &'a mut String,
    initrds: &'a mut Vec<String>,
}

impl<'a> Parts<'a> {
    fn within(&self) -> Within<'a> {
        Within { volume: self.volume, image: self.image }
    }

    /// A path where the start's own files lie, with or without the volume's name.
    fn own_path(&self, own: &str, text: &str) -> Result<String, String> {
        let path = match text.split_once(':') {
            Some((name, path)) if self.image.is_none() && name == own => path,
            Some(_) => {
                let at = self.image.map_or(format!("on {own}"), |image| format!("in {image}"));
                return Err(format!("kernel and initrd lie {at}; `compose` takes another place"));
            }
            None => text,
        };
        if path.starts_with('/') {
            return Ok(path.to_string());
        }
        Err(format!("{text} is not a path; one starts with /, such as {}", self.kernel))
    }
}

/// That a Linux kernel stands at a path, or what does instead.
fn need_kernel(hands: &impl Hands, within: Within<'_>, path: &str) -> Result<(), String> {
    if hands.kernel_header(within, path).is_some() {
        return Ok(());
    }
    let is_there = hands.size(within, path).is_some();
    Err(if is_there { format!("{path} is not a Linux kernel") } else { missing(hands, within, path) })
}

/// A file that is not there, with what stands where it would.
fn missing(hands: &impl Hands, within: Within<'_>, path: &str) -> String {
    let Some(image) = within.image else {
        return not_there(hands, &Found { volume: within.volume, path: path.to_string() });
    };
    let (folder, names) = beside(hands, within, path);
    let names = if names.is_empty() { "no file".to_string() } else { names.join(", ") };
    format!("{image} has no {path}; in {folder} there is {names}")
}

/// The initrds beside a kernel that bear its name, in their order.
pub fn initrds_of(hands: &impl Hands, within: Within<'_>, kernel: &str) -> Vec<String> {
    let (folder, name) = kernel.rsplit_once('/').unwrap_or(("", kernel));
    let Some(by_name) = KernelName::of(name) else { return Vec::new() };
    let (_, names) = beside(hands, within, kernel);
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let path = |name: &str| format!("{folder}/{name}");
    let has_bytes = |name: &str| hands.size(within, &path(name)).is_some_and(|bytes| bytes > 0);
    by_name.initrds(&names, has_bytes).own.iter().map(|name| path(name)).collect()
}

/// The newest kernel of the system whose root a volume is, or a folder of one; `None` where the place is not a root, and
/// not a volume either.
fn by_root(hands: &impl Hands, found: &Found) -> Option<Result<Composed, String>> {
    let on_volume = systems_on(hands, found.volume);
    let path = found.path.trim_end_matches('/');
    let named = |system: &&&LinuxSystem| system.root_path.trim_end_matches('/') == path;
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

fn newest(hands: &impl Hands, system: &LinuxSystem, on_volume: &[&LinuxSystem]) -> Result<Composed, String> {
    let kernel = system.kernels.first().ok_or_else(|| {
        format!(
            "{} has no kernel in /boot, nor on a volume that it mounts there; `find vmlinuz` looks for one",
            system.title
        )
    })?;
    let mut from = format!(
        "{}, newest of {}; arguments {}",
        hands.whereabouts(kernel.volume),
        system.kernels.len(),
        system.args_from
    );
    let (_, others_of_it) = system.kernels.split_first().unwrap_or((kernel, &[]));
    let is_newer = |other: &&LinuxKernel| {
        newest_first((&other.path, &other.version), (&kernel.path, &kernel.version)).is_lt()
    };
    let newer = others_of_it.iter().filter(is_newer);
    from.extend(newer.map(|other| format!("; {} is newer, and its initrd is not there", other.path)));
    let others = on_volume.iter().filter(|other| other.root_path != system.root_path);
    let volume = hands.name(system.root.unwrap_or_default());
    let ways: Vec<String> =
        others.map(|other| format!("`compose linux on {volume}:{}`", other.root_path)).collect();
    if !ways.is_empty() {
        from.push_str(&format!("; {volume} holds more systems: {}", ways.join(", ")));
    }
    // A snapshot gets no updates.
    Ok(Composed { is_newest: !system.is_snapshot, ..linux(system, kernel, from) })
}

/// What there is where a volume is not a system's root.
fn no_root(hands: &impl Hands, volume: usize) -> String {
    let name = hands.name(volume);
    if let Some(kernel) = hands.kernels_on(volume).first() {
        let way = format!("compose linux {name}:{}", kernel.path);
        return format!(
            "{name} is not a system's root, though it has kernels: `{way}` takes one, `args` the root"
        );
    }
    let roots: Vec<String> = hands
        .systems()
        .iter()
        .filter_map(|system| Some(format!("{} on {}", system.title, hands.name(system.root?))))
        .collect();
    let there = if roots.is_empty() {
        "none was found".to_string()
    } else {
        format!("there is {}", roots.join(", "))
    };
    format!("no Linux system has its root on {name}; {there}")
}

fn linux(system: &LinuxSystem, kernel: &LinuxKernel, from: String) -> Composed {
    let target = StartTarget::Linux {
        volume: kernel.volume,
        kernel: kernel.path.clone(),
        initrds: kernel.initrds.clone(),
        args: kernel.args.clone().unwrap_or_else(|| system.args.clone()),
        root: system.root,
    };
    Composed { title: system.title.clone(), target, from, is_newest: false }
}

/// One kernel by its path; root and arguments of the system that it belongs to, where there is one.
fn by_kernel(hands: &impl Hands, found: &Found) -> Result<Composed, String> {
    let within = Within::volume(found.volume);
    need_kernel(hands, within, &found.path)?;
    let is_it = |kernel: &&LinuxKernel| kernel.volume == found.volume && kernel.path == found.path;
    for system in hands.systems() {
        if let Some(kernel) = system.kernels.iter().find(is_it) {
            let from = format!("{}; arguments {}", hands.whereabouts(found.volume), system.args_from);
            return Ok(linux(system, kernel, from));
        }
    }
    let target = StartTarget::Linux {
        volume: found.volume,
        kernel: found.path.clone(),
        initrds: initrds_of(hands, within, &found.path),
        args: String::new(),
        root: None,
    };
    let from = format!(
        "{}; no system was found that it belongs to: `args root=…` names its root",
        hands.whereabouts(found.volume)
    );
    Ok(Composed {
        title: found.path.rsplit('/').next().unwrap_or_default().to_string(),
        target,
        from,
        is_newest: false,
    })
}
