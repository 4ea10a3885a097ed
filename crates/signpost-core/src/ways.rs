//! The ways in which each system can be started, what of a machine is gone or only out of reach, and what a change loses.

mod reach;
mod sectors;

use std::collections::BTreeSet;

pub(crate) use reach::identity;
pub use reach::{Reach, home_out_of_reach, of_entry, of_load_option};
use signpost_facts::change::SectorWrite;
pub use signpost_facts::way::{Through, Way};
use signpost_facts::{BootFile, Code, FirmwareKind, OptionNumber, Refusal, System, VolumeNumber};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{self, volume_path};
use signpost_menu::resolve::{ResolvedEntry, StartTarget, resolve};
use signpost_place::Look;
use signpost_place::hardware::{SurveyedHardware, disk_of_id};
use signpost_place::started_from::StartedFrom;

use crate::rehearse::{self, State};

/// The ways that work in a state, what is active counted and not what is only in a file.
pub fn ways(look: &Look, state: State<'_>) -> BTreeSet<Way> {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return sectors::ways(look, state.sectors);
    }
    let hardware = SurveyedHardware::new(look).with_planned(state.planned).with_tables(state.tables);
    let mut ways = BTreeSet::new();
    for number in state.boot.options.keys() {
        let is_in_order = state.boot.order.contains(number) || state.boot.next == Some(*number);
        for system in started_by_option(look, state.boot, &hardware, *number).filter(|_| is_in_order) {
            ways.insert(Way { system, through: Through::FirmwareEntry(OptionNumber(*number)) });
        }
    }
    for step in start::follow(state.boot, &hardware).steps {
        if let (start::Reason::MadeForDisk(disk), Some(target)) = (step.reason, started(&step.verdict)) {
            let through = || Through::FallbackPath(disk_of_id(disk));
            ways.extend(owners(look, target).map(|system| Way { system, through: through() }));
        }
    }
    if let Some((home, document)) = rehearse::active_menu(look, state.boot, &hardware) {
        let around = StartedFrom::volume(look, home).in_forecast(state.boot, &hardware);
        for entry in resolve(&around, &document) {
            if !rehearse::entry_starts(look, state.boot, &hardware, &entry) {
                continue;
            }
            let systems = match &entry.target {
                Ok(StartTarget::FirmwareEntry { number, .. }) => {
                    started_by_option(look, state.boot, &hardware, *number).collect()
                }
                Ok(target) => started_by(look, target).into_iter().map(|system| system.id.clone()).collect(),
                Err(_) => Vec::new(),
            };
            let through = || Through::Menu(entry.entry.id.clone());
            ways.extend(systems.into_iter().map(|system| Way { system, through: through() }));
        }
    }
    ways
}

/// The systems that a load option starts, where it is enabled and would start.
fn started_by_option<'l>(
    look: &'l Look,
    boot: &BootVariables,
    hardware: &SurveyedHardware<'_>,
    number: u16,
) -> impl Iterator<Item = String> + use<'l> {
    let option = boot.options.get(&number).and_then(|option| option.decoded.as_ref().ok());
    let verdict = option.filter(|option| option.is_active()).map(|option| start::locate(option, hardware));
    let target = verdict.as_ref().and_then(started).cloned();
    target.into_iter().flat_map(|target| owners(look, &target))
}

/// What a verdict starts, for all that can be told.
fn started(verdict: &start::Verdict) -> Option<&start::Target> {
    verdict.target().filter(|_| !verdict.starts_nothing())
}

/// The systems that a boot file may start.
fn owners<'l>(look: &'l Look, target: &start::Target) -> impl Iterator<Item = String> + use<'l> {
    let file = look.survey.boot_file(target.partition, &volume_path(&target.path));
    let file = file.map(|file| &look.survey.boot_files[file]);
    file.into_iter().flat_map(|file| file.owners().cloned())
}

/// The systems that a change from one state to another leaves without a way.
pub fn lost_by<'l>(look: &'l Look, before: State<'_>, after: State<'_>) -> Vec<&'l System> {
    lost(look, (&ways(look, before), &ways(look, after)), |_| true)
}

/// The systems that had ways of a kind, and have none of it then.
fn lost<'l>(
    look: &'l Look,
    (before, after): (&BTreeSet<Way>, &BTreeSet<Way>),
    is_of_kind: impl Fn(&Through) -> bool,
) -> Vec<&'l System> {
    let has = |ways: &BTreeSet<Way>, system: &System| {
        ways.iter().any(|way| way.system == system.id && is_of_kind(&way.through))
    };
    let systems = look.survey.systems.iter();
    systems.filter(|system| has(before, system) && !has(after, system)).collect()
}

/// The guard against losing the last way to a system.
pub(crate) fn last_way(look: &Look, before: State<'_>, after: State<'_>, way: &str) -> Option<Refusal> {
    last_way_but_for(look, before, after, way, &|_| false)
}

/// The same for sectors that are written on a machine with BIOS firmware, where plain code starts one system alone.
pub(crate) fn last_way_by_sectors(look: &Look, sectors: &[SectorWrite]) -> Option<Refusal> {
    const WAY: &str = "plain code starts one system alone; `signpost sector active PARTITION` chooses which";
    last_way(look, State::of(look), State::with_sectors(look, sectors), WAY)
}

/// The same, but for systems of which somebody has said that they are not wanted. A way that somebody made is not given up
/// for what the firmware does where nothing else starts.
pub(crate) fn last_way_but_for(
    look: &Look,
    before: State<'_>,
    after: State<'_>,
    way: &str,
    is_unwanted: &dyn Fn(&System) -> bool,
) -> Option<Refusal> {
    let (before, after) = (ways(look, before), ways(look, after));
    let titles = |systems: Vec<&System>| -> Vec<String> {
        let wanted = systems.into_iter().filter(|system| !is_unwanted(system));
        wanted.map(|system| system.title.clone()).collect()
    };
    let gone = titles(lost(look, (&before, &after), |_| true));
    let weaker =
        titles(lost(look, (&before, &after), |through| !matches!(through, Through::FallbackPath(_))));
    let message = match (gone.is_empty(), weaker.is_empty()) {
        (false, _) => format!("no active entry would start {} any more", gone.join(" and ")),
        (true, false) => {
            format!("nothing but the fallback path of a disk would start {} any more", weaker.join(" and "))
        }
        (true, true) => return None,
    };
    Some(Refusal { code: Code::LastWay, message, way: way.into() })
}

/// The systems that something in a menu starts.
pub fn started_by<'l>(look: &'l Look, target: &StartTarget) -> Vec<&'l System> {
    look.survey.systems.iter().filter(|system| is_started_by(look, system, target)).collect()
}

/// Whether something in a menu starts this system.
pub fn is_started_by(look: &Look, system: &System, target: &StartTarget) -> bool {
    match target {
        StartTarget::Program { volume, path, .. } => {
            let file = look.survey.boot_file(*volume, path).map(|file| &look.survey.boot_files[file]);
            file.is_some_and(|file| file.owners().any(|owner| *owner == system.id))
        }
        StartTarget::Linux { volume, kernel, args, root, .. } => {
            is_kernel_of(look, system, (*volume, kernel), args, *root)
        }
        StartTarget::Image { volume, image, .. } => {
            system.image.as_ref().is_some_and(|own| own.volume.index() == *volume && own.path == *image)
        }
        StartTarget::FirmwareEntry { number, .. } => system.entries.contains(&OptionNumber(*number)),
        StartTarget::Sector { volume, file: None, .. } => {
            let sector =
                |volume| look.survey.boot_sector_of(volume).map(|sector| (sector.disk, sector.start));
            let own = sector(VolumeNumber::of_index(*volume));
            own.is_some() && system.root.and_then(sector) == own
        }
        StartTarget::Sector { .. } | StartTarget::BuiltIn | StartTarget::Group => false,
    }
}

/// A kernel starts the system whose root its arguments name: the volume, and of several on it the subvolume.
fn is_kernel_of(
    look: &Look,
    system: &System,
    (volume, kernel): (usize, &str),
    args: &str,
    root: Option<usize>,
) -> bool {
    let has_kernel = || system.kernels.iter().any(|own| own.volume.index() == volume && own.path == kernel);
    let Some(root) = root else { return has_kernel() };
    if system.root != Some(VolumeNumber::of_index(root)) {
        return false;
    }
    let beside = look.survey.systems.iter().filter(|other| other.root == system.root).count();
    if beside < 2 {
        return true;
    }
    match subvolume(args) {
        Some(named) => named.trim_matches('/') == system.root_path.trim_matches('/'),
        // What is mounted where nobody names a subvolume is the volume's own business; its kernel tells then.
        None => has_kernel(),
    }
}

/// The subvolume that arguments mount as the root.
fn subvolume(args: &str) -> Option<&str> {
    let flags = args.split_whitespace().filter_map(|word| word.strip_prefix("rootflags=")).next_back()?;
    flags.split(',').find_map(|flag| flag.strip_prefix("subvol="))
}

/// The systems that an entry is for, also where what it starts is not there now.
pub(crate) fn meant_by<'l>(look: &'l Look, resolved: &ResolvedEntry<'_>) -> Vec<&'l System> {
    use signpost_menu::document::Starts;
    if let Ok(target) = &resolved.target {
        return started_by(look, target);
    }
    let volume_of = |name| look.resolve(name).ok();
    match &resolved.entry.starts {
        Starts::Efi { program, .. } | Starts::FirmwareEntry { target: Some(program), .. } => {
            volume_of(&program.volume).map(|volume| of_path(look, volume, &program.path)).unwrap_or_default()
        }
        Starts::Linux(linux) => {
            let root = volume_of(linux.root.as_ref().unwrap_or(&linux.volume));
            let is_it = |system: &&System| {
                root.is_some_and(|root| is_kernel_of(look, system, (root, ""), &linux.args, Some(root)))
            };
            look.survey.systems.iter().filter(is_it).collect()
        }
        Starts::FirmwareEntry { label, target: None, .. } => {
            let entries = look.survey.firmware.entries.iter().filter(|entry| entry.label == *label);
            entries.flat_map(|entry| of_load_entry(look, entry.number())).collect()
        }
        _ => Vec::new(),
    }
}

/// The systems that a load option is for, also where its file is not there now.
pub(crate) fn of_load_entry(look: &Look, number: u16) -> Vec<&System> {
    let Some(Ok(option)) = look.boot.options.get(&number).map(|option| &option.decoded) else {
        return Vec::new();
    };
    let (Some(drive), Some(file)) = (option.path.hard_drive(), option.path.file()) else { return Vec::new() };
    let volume = look.survey.disks.iter().find_map(|disk| {
        let is_it = |partition: &&signpost_facts::Partition| {
            partition.firmware_number == drive.number
                && disk.path_signature(partition) == Some(drive.signature)
        };
        disk.partitions.iter().find(is_it)?.volume
    });
    volume.map(|volume| of_path(look, volume.index(), &volume_path(&file))).unwrap_or_default()
}

/// The systems whose loader stands, or stood, at a path of a volume.
fn of_path<'l>(look: &'l Look, volume: usize, path: &str) -> Vec<&'l System> {
    if let Some(file) = look.survey.boot_file(volume, path) {
        let file = &look.survey.boot_files[file];
        return file.owners().filter_map(|id| look.survey.system(id)).collect();
    }
    let mut parts = path.split('/').filter(|part| !part.is_empty());
    let (efi, vendor) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
    if !efi.eq_ignore_ascii_case("efi") {
        return Vec::new();
    }
    let owners = look.survey.owners_of_name(
        &look.survey.systems,
        &[vendor.to_string()],
        VolumeNumber::of_index(volume),
    );
    if !owners.is_empty() {
        return owners;
    }
    // Others show by their loaders: one of the same folder tells.
    let start = format!("/efi/{}/", vendor.to_lowercase());
    let beside = look.survey.boot_files.iter().filter(|file| file.path.to_lowercase().starts_with(&start));
    let owner = beside.filter(|file| file.volume.index() == volume).flat_map(BootFile::owners).next();
    owner.and_then(|id| look.survey.system(id)).into_iter().collect()
}
