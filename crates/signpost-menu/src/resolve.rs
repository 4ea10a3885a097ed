//! What the entries of a menu start, settled on the machine as it is: the same at the desk and at boot.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::counter::{IMAGE_FOLDER, lasting_path};
use crate::document::{Entry, Host, KernelChoice, Linux, MenuDocument, SectorFrom, SectorManner, Starts};
use crate::kernel_args::named_volumes;
use crate::linux_files::version_in_name;
use crate::nearest::nearest;
use crate::place::{
    Nearness, Place, Unresolved, VolumeIdentity, VolumeRef, count, resolve as resolve_volume,
};
pub use crate::surroundings::{Firmware, LoadOptionSeen, Surroundings, UnifiedImage, Within};

/// Why an entry cannot start. Whether what is missing is gone or only out of reach, takes knowing the machine's past.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// No volume has the name that the entry writes.
    #[error("{words}")]
    NoVolume {
        /// The name.
        wanted: VolumeRef,
        /// What was looked for, and what is there.
        words: String,
    },
    /// Several volumes have it.
    #[error("{0}")]
    Ambiguous(String),
    /// A volume, or an image on it, cannot be read.
    #[error("{words}")]
    Unread {
        /// The volume.
        volume: usize,
        /// Why.
        words: String,
    },
    /// A file is not there.
    #[error("{words}")]
    NoFile {
        /// The volume on which it was looked for.
        volume: usize,
        /// What was looked for, and what is there.
        words: String,
    },
    /// The firmware has no such entry.
    #[error("{0}")]
    NoLoadOption(String),
    /// The firmware has the entry, and starts nothing by it.
    #[error("{words}")]
    DeadLoadOption {
        /// Its number.
        number: u16,
        /// Why.
        words: String,
    },
    /// What the entry asks for cannot be done.
    #[error("{0}")]
    Unfit(String),
}

/// What an entry starts, found on the machine. Volumes are indices.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StartTarget {
    /// An EFI program.
    Program {
        /// Its volume.
        volume: usize,
        /// Its path.
        path: String,
        /// Handed to it.
        args: String,
    },
    /// A Linux kernel.
    Linux {
        /// Volume of kernel and initrds.
        volume: usize,
        /// The kernel's path.
        kernel: String,
        /// The initrds' paths.
        initrds: Vec<String>,
        /// All arguments.
        args: String,
        /// The root volume, where one is named.
        root: Option<usize>,
    },
    /// A Linux kernel inside an image file.
    Image {
        /// The image's volume.
        volume: usize,
        /// The image's path.
        image: String,
        /// The kernel's path in it.
        kernel: String,
        /// The initrds' paths in it.
        initrds: Vec<String>,
        /// All arguments.
        args: String,
    },
    /// A load option that is there.
    FirmwareEntry {
        /// Its number.
        number: u16,
        /// Whether it is started directly instead of by next boot and restart.
        handover: bool,
    },
    /// A boot sector.
    Sector {
        /// The volume whose own it is, or on which the file lies.
        volume: usize,
        /// The file that holds it.
        file: Option<String>,
        /// How it is started.
        manner: SectorManner,
    },
    /// Something that needs nothing from a disk.
    BuiltIn,
    /// A group's heading.
    Group,
}

/// An entry, with what it starts or why it cannot.
#[derive(Clone, Debug)]
pub struct ResolvedEntry<'d> {
    /// The entry.
    pub entry: &'d Entry,
    /// What it starts; or what was looked for and is not there.
    pub target: Result<StartTarget, Fault>,
    /// What else is worth saying, such as a newer kernel skipped.
    pub notes: Vec<String>,
}

/// Looks for what every entry starts.
pub fn resolve<'d>(around: &impl Surroundings, document: &'d MenuDocument) -> Vec<ResolvedEntry<'d>> {
    document.entries.iter().map(|entry| resolve_entry(around, document, entry)).collect()
}

/// Looks for what one entry starts.
pub fn resolve_entry<'d>(
    around: &impl Surroundings,
    document: &MenuDocument,
    entry: &'d Entry,
) -> ResolvedEntry<'d> {
    let mut notes: Vec<String> =
        named(&entry.starts).filter_map(|name| note_on_copies(around, name)).collect();
    let host = document.settings.host;
    if let Some(serial) = named(&entry.starts).find(|name| is_unseen_at_boot(around, host, name)) {
        let words = format!(
            "{serial} goes by a disk's serial, and the boot program cannot ask for that one: name the volume by its UUID"
        );
        return ResolvedEntry { entry, target: Err(Fault::Unfit(words)), notes };
    }
    if let Some(why) = around.firmware().cannot(&entry.starts) {
        return ResolvedEntry { entry, target: Err(Fault::Unfit(why.into())), notes };
    }
    let target = match &entry.starts {
        Starts::Linux(linux) => self::linux(around, linux, &document.kernel_args, &mut notes),
        Starts::Efi { program, args } => find_program(around, program)
            .map(|(volume, path)| StartTarget::Program { volume, path, args: args.clone() }),
        Starts::FirmwareEntry { label, target, handover } => {
            firmware_entry(around, label, target.as_ref(), &mut notes)
                .map(|number| StartTarget::FirmwareEntry { number, handover: *handover })
        }
        Starts::Sector { from, manner } => sector(around, from, *manner),
        Starts::Image { image, kernel, initrd, args } => {
            self::image(around, image, (kernel, initrd), &[args, &document.kernel_args], &mut notes)
        }
        Starts::Group => Ok(StartTarget::Group),
        Starts::SetupScreen | Starts::Restart | Starts::PowerOff => Ok(StartTarget::BuiltIn),
        Starts::Unknown { why } => Err(Fault::Unfit(why.clone())),
    };
    ResolvedEntry { entry, target, notes }
}

/// What an entry starts, or why it cannot, on one line.
pub fn describe(around: &impl Surroundings, resolved: &ResolvedEntry<'_>) -> String {
    let target = match &resolved.target {
        Err(why) => return why.to_string(),
        Ok(target) => target,
    };
    match target {
        StartTarget::Program { volume, path, .. } => around.at(*volume, path),
        StartTarget::Linux { volume, kernel, .. } => around.at(*volume, kernel),
        StartTarget::Image { volume, image, kernel, .. } => {
            format!("{kernel} in {}", around.at(*volume, image))
        }
        StartTarget::FirmwareEntry { number, .. } => {
            let options = around.load_options();
            let option = options.iter().find(|option| option.number == *number);
            match option.and_then(|option| option.target.as_ref()) {
                Some((volume, path)) => {
                    format!("firmware entry {number:04X}: {}", around.at(*volume, path))
                }
                None => format!("firmware entry {number:04X}"),
            }
        }
        StartTarget::Sector { volume, manner, .. } if manner.first_sector => {
            around.first_sector(*volume).map_or_else(|why| why, |name| format!("the first sector of {name}"))
        }
        StartTarget::Sector { volume, file, .. } => match around.boot_sector(*volume, file.as_deref()) {
            Ok(name) if file.is_some() => format!("the boot sector in {name}"),
            Ok(name) => format!("the boot sector of {name}"),
            Err(why) => why,
        },
        StartTarget::BuiltIn => match resolved.entry.starts {
            Starts::SetupScreen => "firmware setup".into(),
            Starts::Restart => "restarts this machine".into(),
            Starts::PowerOff => "turns this machine off".into(),
            Starts::Linux(_)
            | Starts::Efi { .. }
            | Starts::Sector { .. }
            | Starts::FirmwareEntry { .. }
            | Starts::Image { .. }
            | Starts::Group
            | Starts::Unknown { .. } => "nothing of a disk".into(),
        },
        StartTarget::Group => "opens a group".into(),
    }
}

/// The volumes that an entry names.
fn named(starts: &Starts) -> impl Iterator<Item = &VolumeRef> {
    let (first, second) = match starts {
        Starts::Linux(linux) => (Some(&linux.volume), linux.root.as_ref()),
        Starts::Efi { program, .. } => (Some(&program.volume), None),
        Starts::Image { image, .. } => (Some(&image.volume), None),
        Starts::FirmwareEntry { target, .. } => (target.as_ref().map(|target| &target.volume), None),
        Starts::Sector { from, .. } => (Some(from.volume()), None),
        Starts::Group | Starts::SetupScreen | Starts::Restart | Starts::PowerOff | Starts::Unknown { .. } => {
            (None, None)
        }
    };
    first.into_iter().chain(second.filter(|second| Some(*second) != first))
}

/// Whether a name cannot be resolved by who shows the menu: firmware does not pass commands on to drives of every kind.
fn is_unseen_at_boot(around: &impl Surroundings, host: Host, name: &VolumeRef) -> bool {
    if host != Host::Signpost || !matches!(name, VolumeRef::Disk(..)) {
        return false;
    }
    let meant = resolve_volume(name, around.volumes()).ok().and_then(|index| around.volumes().get(index));
    meant.is_some_and(|identity| !identity.is_serial_seen_at_boot)
}

/// That a name fits a copy too, where nearness tells which is meant.
fn note_on_copies(around: &impl Surroundings, name: &VolumeRef) -> Option<String> {
    let volumes = around.volumes();
    let fitting = count(name, volumes);
    let meant = resolve_volume(name, volumes).ok().filter(|_| fitting > 1)?;
    let which = match volumes.get(meant)?.nearness {
        Nearness::HomesDisk => "on the menu's own disk",
        Nearness::Machine | Nearness::Plugged => "that is not plugged in",
    };
    Some(format!("{name} fits {fitting} volumes, one a copy of the other: the one {which} is meant"))
}

fn find_volume(around: &impl Surroundings, volume: &VolumeRef) -> Result<usize, Fault> {
    resolve_volume(volume, around.volumes()).map_err(|error| match error {
        Unresolved::None { .. } => Fault::NoVolume { wanted: volume.clone(), words: error.to_string() },
        Unresolved::Several { .. } => Fault::Ambiguous(error.to_string()),
    })
}

fn sector(around: &impl Surroundings, from: &SectorFrom, manner: SectorManner) -> Result<StartTarget, Fault> {
    let (volume, file) = match from {
        SectorFrom::Volume(volume) => (find_volume(around, volume)?, None),
        SectorFrom::File(place) => (find_file(around, place)?, Some(place.path.clone())),
    };
    let found = match manner.first_sector {
        true => around.first_sector(volume),
        false => around.boot_sector(volume, file.as_deref()),
    };
    found.map_err(Fault::Unfit)?;
    Ok(StartTarget::Sector { volume, file, manner })
}

fn find_file(around: &impl Surroundings, place: &Place) -> Result<usize, Fault> {
    let volume = find_volume(around, &place.volume)?;
    need_file(around, Within::volume(volume), &place.path)?;
    Ok(volume)
}

/// A program's volume, and the path where it stands: a unified image is the same one with another counter in its name.
fn find_program(around: &impl Surroundings, program: &Place) -> Result<(usize, String), Fault> {
    let fault = match find_file(around, program) {
        Ok(volume) => return Ok((volume, program.path.clone())),
        Err(fault) => fault,
    };
    let (Fault::NoFile { volume, .. }, Some(lasting)) = (&fault, lasting_path(&program.path)) else {
        return Err(fault);
    };
    let names = around.files(Within::volume(*volume), IMAGE_FOLDER).ok().flatten().unwrap_or_default();
    let mut paths = names.iter().map(|name| [IMAGE_FOLDER, "/", name].concat());
    let is_it = |path: &String| lasting_path(path).is_some_and(|own| own.eq_ignore_ascii_case(&lasting));
    let volume = *volume;
    paths.find(is_it).map(|path| (volume, path)).ok_or(fault)
}

fn need_file(around: &impl Surroundings, within: Within<'_>, path: &str) -> Result<(), Fault> {
    let volume = within.volume;
    let unread = |words| Fault::Unread { volume, words };
    if around.has_file(within, path).map_err(unread)? {
        return Ok(());
    }
    let at = around.whereabouts(volume);
    let inside = within.image.map(|image| format!(", {image}")).unwrap_or_default();
    let nearby = nearby(around, within, path).map_err(unread)?;
    Err(Fault::NoFile { volume, words: format!("{at}{inside} has no file {path}{nearby}") })
}

/// What stands where the file should: the nearest name in its folder.
fn nearby(around: &impl Surroundings, within: Within<'_>, path: &str) -> Result<String, String> {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let Some(names) = around.files(within, if folder.is_empty() { "/" } else { folder })? else {
        return Ok(format!("; there is no folder {folder}"));
    };
    let near = nearest(name, names.iter().map(String::as_str));
    Ok(near.map(|near| format!("; there is {near}")).unwrap_or_default())
}

fn linux(
    around: &impl Surroundings,
    linux: &Linux,
    kernel_args: &str,
    notes: &mut Vec<String>,
) -> Result<StartTarget, Fault> {
    let volume = find_volume(around, &linux.volume)?;
    let (kernel, initrds) =
        kernel_and_initrds(around, Within::volume(volume), (&linux.kernel, &linux.initrd), notes)?;
    let root = linux.root.as_ref().map(|root| find_volume(around, root)).transpose()?;
    let mut args = linux.args.clone();
    if args.contains("{root}")
        && let Some(identity) = root.and_then(|root| around.volumes().get(root))
    {
        args = args.replace("{root}", &root_argument(around, identity, root.unwrap_or_default())?);
    }
    let args = joined(&[&args, kernel_args]);
    notes.extend(named_volumes(around, &args));
    Ok(StartTarget::Linux { volume, kernel, initrds, args, root })
}

/// A system inside an image file.
fn image(
    around: &impl Surroundings,
    image: &Place,
    wanted: (&KernelChoice, &[String]),
    args: &[&str],
    notes: &mut Vec<String>,
) -> Result<StartTarget, Fault> {
    let volume = find_file(around, image)?;
    let within = Within { volume, image: Some(&image.path) };
    let (kernel, initrds) = kernel_and_initrds(around, within, wanted, notes)?;
    let args = joined(args);
    notes.extend(named_volumes(around, &args));
    Ok(StartTarget::Image { volume, image: image.path.clone(), kernel, initrds, args })
}

fn joined(parts: &[&str]) -> String {
    parts.iter().copied().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" ")
}

/// The paths of the kernel that is chosen and of its initrds, which are all there.
fn kernel_and_initrds(
    around: &impl Surroundings,
    within: Within<'_>,
    (kernel, initrd): (&KernelChoice, &[String]),
    notes: &mut Vec<String>,
) -> Result<(String, Vec<String>), Fault> {
    let (kernel, version) = match kernel {
        KernelChoice::Fixed(path) => {
            need_file(around, within, path)?;
            (path.clone(), version_in_name(path.rsplit('/').next().unwrap_or_default()).to_string())
        }
        KernelChoice::Newest(newest) => {
            let volume = within.volume;
            let names =
                around.files(within, &newest.folder).map_err(|words| Fault::Unread { volume, words })?;
            let names = names.unwrap_or_default();
            let is_complete = |version: &str| {
                let mut initrds = initrd.iter().map(|initrd| initrd.replace("{version}", version));
                // One of no bytes is about to be written, or was given up.
                initrds.all(|initrd| around.size(within, &initrd).is_some_and(|bytes| bytes > 0))
            };
            let header = |path: &str| around.kernel_header(within, path);
            let chosen = newest.choose(names.iter().map(String::as_str), header, is_complete);
            let chosen = chosen.map_err(|incomplete| {
                let words = match incomplete[..] {
                    [] => format!("no kernel fits {newest}"),
                    _ => format!("no kernel of {newest} has its initrd: {}", incomplete.join(", ")),
                };
                Fault::NoFile { volume, words }
            })?;
            let passed = chosen.passed_over.iter();
            notes.extend(passed.map(|path| format!("{path} is newer, and its initrd is not there")));
            (chosen.path, chosen.star)
        }
    };
    let initrds: Vec<String> = initrd.iter().map(|initrd| initrd.replace("{version}", &version)).collect();
    initrds.iter().try_for_each(|initrd| need_file(around, within, initrd))?;
    Ok((kernel, initrds))
}

/// What stands for `{root}` in the arguments.
fn root_argument(around: &impl Surroundings, root: &VolumeIdentity, index: usize) -> Result<String, Fault> {
    match (&root.uuid, &root.part_uuid) {
        (Some(uuid), _) => Ok(format!("UUID={uuid}")),
        (None, Some(part_uuid)) => Ok(format!("PARTUUID={part_uuid}")),
        (None, None) => Err(Fault::Unfit(format!(
            "{} has neither a UUID nor a partition UUID, so {{root}} cannot stand for it; write root=/dev/… in args instead",
            around.whereabouts(index)
        ))),
    }
}

/// The load option of this label; where several have it, the target tells, else the one first in the order.
fn firmware_entry(
    around: &impl Surroundings,
    label: &str,
    target: Option<&Place>,
    notes: &mut Vec<String>,
) -> Result<u16, Fault> {
    let options = around.load_options();
    let volume = target.map(|place| find_volume(around, &place.volume)).transpose()?;
    let fits = |option: &&LoadOptionSeen| {
        let leads_there = match (target, volume, &option.target) {
            (Some(place), Some(volume), Some((found, path))) => {
                *found == volume && path.eq_ignore_ascii_case(&place.path)
            }
            (Some(_), _, _) => false,
            (None, _, _) => true,
        };
        option.label == label && leads_there
    };
    let found: Vec<&LoadOptionSeen> = options.iter().filter(fits).collect();
    // One that starts something comes before one that does not.
    let Some(first) = found.iter().find(|option| option.fault.is_none()).or(found.first()) else {
        let labels = options.iter().map(|option| option.label.as_str());
        let near = nearest(label, labels).filter(|near| *near != label);
        let hint = near.map(|near| format!("; there is \"{near}\"")).unwrap_or_default();
        let there = if target.is_some() { " that starts this file" } else { "" };
        return Err(Fault::NoLoadOption(format!("the firmware has no entry \"{label}\"{there}{hint}")));
    };
    if let Some(fault) = &first.fault {
        let words = format!("firmware entry {:04X} starts nothing: {fault}", first.number);
        return Err(Fault::DeadLoadOption { number: first.number, words });
    }
    if let Some(second) = found.iter().find(|option| option.number != first.number) {
        notes.push(format!(
            "entries {:04X} and {:04X} both fit; the first of them in the boot order counts",
            first.number, second.number
        ));
    }
    Ok(first.number)
}
