//! The home volume: where the boot program and the menu in force live.

use sha2::{Digest, Sha256};
use signpost_firmware::image::pe::Pe;
use signpost_firmware::start::{self, Target, volume_path};
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot, SlotFault, newest};

use crate::applied::Applied;
use crate::code::Code;
use crate::error::{Error, Refusal, Result};
use crate::hardware::SurveyedHardware;
use crate::history::{Change, FileWrite, History};
use crate::machine::Location;
use crate::survey::Look;

/// No file of ours is longer, in bytes.
pub(crate) const MAX_FILE: usize = 4 << 20;

/// The home volume, and why it is that one.
#[derive(Clone, Debug)]
pub struct Home {
    /// Its index.
    pub volume: usize,
    /// Why.
    pub why: &'static str,
}

/// The boot program, as it is put on the home volume.
#[derive(Clone, Debug)]
pub struct BootProgram {
    bytes: Vec<u8>,
}

impl BootProgram {
    /// The program in these bytes.
    pub fn new(bytes: Vec<u8>) -> Self {
        Self { bytes }
    }

    /// Its bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Whether it says of itself that it is our boot program.
    pub fn is_ours(&self) -> bool {
        Pe::decode(&self.bytes).is_ok_and(|pe| has_mark(&pe))
    }

    /// Its path on the home volume: named by its own contents, so that one that was altered is not taken for it.
    pub fn path(&self) -> String {
        format!("{HOME_FOLDER}/{}", file_name(&sha256(&self.bytes)))
    }
}

/// The file name of a boot program with this SHA-256.
fn file_name(sha256: &str) -> String {
    format!("{}.EFI", sha256.get(..8).unwrap_or_default().to_uppercase())
}

/// Whether a start-up file is a boot program of ours: in our folder, and named by its own contents.
pub(crate) fn is_boot_program(path: &str, sha256: Option<&str>) -> bool {
    let (folder, name) = path.rsplit_once('/').unwrap_or_default();
    folder.eq_ignore_ascii_case(HOME_FOLDER)
        && sha256.is_some_and(|sha256| file_name(sha256).eq_ignore_ascii_case(name))
}

/// The section by which a program says that it is our boot program.
const MARK_SECTION: &str = ".sgnpost";

/// Whether a program says that it is our boot program.
pub(crate) fn has_mark(pe: &Pe) -> bool {
    pe.section(MARK_SECTION).is_some()
}

/// The home volume of a machine: the one whose boot program the firmware starts, by the entry that it was started from, the
/// next one, the boot order, or by itself. Never a medium that people take along, unless the running system lies on it.
pub(crate) fn of(look: &Look<'_>) -> Option<usize> {
    let boot = &look.boot;
    let numbers = boot.current.iter().chain(&boot.next).chain(&boot.order);
    let by_entry = numbers.filter_map(|number| {
        let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == *number)?;
        entry.judged.as_ref()?.target()
    });
    let by_entry: Vec<Target> = by_entry.cloned().collect();
    let by_itself = start::follow(boot, &SurveyedHardware::new(look)).steps.into_iter();
    let by_itself =
        by_itself.filter(|step| step.option.is_none()).filter_map(|step| step.verdict.target().cloned());
    let by_firmware = by_entry.into_iter().chain(by_itself).find(|target| is_home(look, target));
    by_firmware.map(|target| target.partition).or_else(|| by_spare_path(look))
}

/// Where an entry of the order names a disk as only this firmware names it: the one volume with our boot program under
/// the name that firmware looks for on such a disk.
fn by_spare_path(look: &Look<'_>) -> Option<usize> {
    let is_unclear = |number: &u16| {
        let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == *number);
        entry.is_some_and(|entry| matches!(entry.judged, Some(start::Verdict::UnknownDevice)))
    };
    if !look.boot.order.iter().any(is_unclear) {
        return None;
    }
    let path = format!("/EFI/BOOT/{}", look.machine.architecture.spare_file_name()?);
    let is_home = |volume: &usize| {
        let file = look.survey.startup_file(*volume, &path);
        file.is_some_and(|file| look.survey.startup_files[file].is_ours()) && may_be_home(look, *volume)
    };
    let homes: Vec<usize> = look.fat_volumes().filter(is_home).collect();
    <[usize; 1]>::try_from(homes).ok().map(|[home]| home)
}

fn is_home(look: &Look<'_>, target: &Target) -> bool {
    let file = look.survey.startup_file(target.partition, &volume_path(&target.path));
    file.is_some_and(|file| look.survey.startup_files[file].is_ours()) && may_be_home(look, target.partition)
}

/// Whether a volume lies where a home may be.
fn may_be_home(look: &Look<'_>, volume: usize) -> bool {
    let volumes = &look.survey.volumes;
    volumes[volume].firmware_reads && look.survey.takes_part(volume + 1)
}

/// SHA-256 in hexadecimal.
pub(crate) fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The index of the volume of a file that was written.
pub(crate) fn volume_of(look: &Look<'_>, write: &FileWrite) -> Option<usize> {
    look.resolve(&VolumeRef::parse(&write.volume).ok()?).ok()
}

/// Where a volume lies on its disk.
pub(crate) fn location(look: &Look<'_>, volume: usize) -> Option<Location> {
    let facts = look.survey.volumes.get(volume)?;
    let (_, partition) = look.survey.partition_of(facts)?;
    Some(Location::new(facts.disk - 1, partition.start, partition.size))
}

/// Chooses the home volume: the one asked for, the one that is home already, the ESP of the running system's
/// disk, the first ESP.
///
/// # Errors
/// Where the one asked for is none that firmware reads, or there is no ESP.
pub fn choose(look: &Look<'_>, asked: Option<&VolumeRef>) -> Result<Home> {
    let volumes = &look.survey.volumes;
    if let Some(asked) = asked {
        let unusable = |why: String| Error::Unusable { place: "--home".into(), why };
        let volume = look.resolve(asked).map_err(|error| unusable(error.to_string()))?;
        if !volumes[volume].is_fat {
            return Err(unusable(format!(
                "{} is {}, which firmware does not read",
                asked, volumes[volume].kind
            )));
        }
        return Ok(Home { volume, why: "as asked for" });
    }
    if let Some(volume) = look.home() {
        return Ok(Home { volume, why: "it is home already" });
    }
    // Where the firmware has lost our entry, what this system noted tells; a file on a disk does not.
    let applied = Applied::load(look.machine).and_then(|applied| VolumeRef::parse(&applied.home?).ok());
    let applied = applied.and_then(|home| look.resolve(&home).ok());
    if let Some(volume) = applied.filter(|volume| may_be_home(look, *volume)) {
        return Ok(Home { volume, why: "this system's menu was put there" });
    }
    let running = look.running_root().map(|root| volumes[root].disk);
    let esp = |volume: &usize| volumes[*volume].is_esp && may_be_home(look, *volume);
    let beside = look.fat_volumes().filter(esp).find(|volume| Some(volumes[*volume].disk) == running);
    if let Some(volume) = beside {
        return Ok(Home { volume, why: "the ESP on the running system's disk" });
    }
    look.fat_volumes().find(esp).map(|volume| Home { volume, why: "the first ESP" }).ok_or_else(|| {
        Error::Unusable {
            place: "home".into(),
            why: "no ESP was found that could be the home volume; --home names a FAT volume to use".into(),
        }
    })
}

/// The machine-id of the running system, by which its menus are told from those of other systems.
pub(crate) fn machine_id(look: &Look<'_>) -> String {
    let root = look.running_root().and_then(|root| look.reader(root));
    let path = format!(
        "{}/etc/machine-id",
        look.machine.running.root_path.as_deref().unwrap_or("").trim_end_matches('/')
    );
    let id = root.and_then(|reader| reader.text(&path)).unwrap_or_default();
    let id = id.trim();
    if id.chars().all(|c| c.is_ascii_hexdigit()) { id.to_string() } else { String::new() }
}

/// Whether a slot on a volume is this system's own: by its machine-id, or, where it carries none, since this system wrote
/// the slots there.
pub(crate) fn is_own(look: &Look<'_>, history: &History, volume: usize, slot: &Slot) -> bool {
    if !slot.machine.is_empty() {
        return slot.machine == machine_id(look);
    }
    let records =
        history.records().iter().filter(|record| !record.is_copy && !history.is_undone(record.serial));
    let mut files = records.flat_map(|record| &record.writes).filter_map(Change::file);
    files.any(|write| {
        SLOT_NAMES.iter().any(|name| write.path.ends_with(name)) && volume_of(look, write) == Some(volume)
    })
}

/// The guard against writing over, or past, the menu of another system of this PC: on any of these volumes.
pub(crate) fn other_system(
    look: &Look<'_>,
    history: &History,
    volumes: impl IntoIterator<Item = usize>,
) -> Option<Refusal> {
    let held = volumes.into_iter().find_map(|volume| {
        let (_, slot) = newest_slot(look, volume)?;
        (!is_own(look, history, volume, &slot)).then_some((volume, slot))
    });
    let (volume, slot) = held?;
    let who = match slot.machine.as_str() {
        "" => "one that its menu does not name".to_string(),
        machine => format!("machine-id {machine}"),
    };
    Some(Refusal {
        code: Code::OtherSystem,
        message: format!("the menu on v{} was put there by another system of this PC ({who})", volume + 1),
        way: "--take-over replaces it with this one".into(),
    })
}

/// The slots of a volume, as they are.
pub(crate) fn slots(look: &Look<'_>, volume: usize) -> [std::result::Result<Slot, SlotFault>; 2] {
    SLOT_NAMES.map(|name| {
        let reader = look.reader(volume).ok_or(SlotFault::Empty)?;
        let bytes =
            reader.read_head(&format!("{HOME_FOLDER}/{name}"), SLOT_SIZE).map_err(|_| SlotFault::Empty)?;
        Slot::decode(&bytes)
    })
}

/// The text of the menu that counts on the home volume.
pub fn newest_text(look: &Look<'_>) -> Option<String> {
    newest_slot(look, look.home()?).map(|(_, slot)| slot.text)
}

/// The newest whole slot of a volume, and its index.
pub(crate) fn newest_slot(look: &Look<'_>, volume: usize) -> Option<(usize, Slot)> {
    let slots = slots(look, volume);
    newest(&slots).map(|(index, slot)| (index, slot.clone()))
}
