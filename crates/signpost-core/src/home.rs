//! The home volume: where the boot program and the menu in force live.

use sha2::{Digest, Sha256};
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot, SlotFault, Writer, newest};
use signpost_menu::{MenuDocument, parse_leniently};

use crate::error::{Error, Result};
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

/// Whether a file elsewhere, such as the spare path, is a copy of a boot program of ours.
pub(crate) fn is_copy(look: &Look<'_>, sha256: Option<&str>) -> bool {
    let mut files = look.survey.startup_files.iter();
    sha256.is_some()
        && files.any(|file| file.sha256.as_deref() == sha256 && is_boot_program(&file.path, sha256))
}

/// SHA-256 in hexadecimal.
pub(crate) fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
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
    let running = look.running_root().map(|root| volumes[root].disk);
    let esp = |volume: &usize| volumes[*volume].is_esp;
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

/// The slots of a volume, as they are.
pub(crate) fn slots(look: &Look<'_>, volume: usize) -> [std::result::Result<Slot, SlotFault>; 2] {
    SLOT_NAMES.map(|name| {
        let reader = look.reader(volume).ok_or(SlotFault::Empty)?;
        let bytes =
            reader.read_head(&format!("{HOME_FOLDER}/{name}"), SLOT_SIZE).map_err(|_| SlotFault::Empty)?;
        Slot::decode(&bytes)
    })
}

/// The newest whole slot of a volume, and its index.
pub(crate) fn newest_slot(look: &Look<'_>, volume: usize) -> Option<(usize, Slot)> {
    let slots = slots(look, volume);
    newest(&slots).map(|(index, slot)| (index, slot.clone()))
}

/// Entries that were put into the menu at boot, and that this one does not have: their ids, and the text of the menu that
/// holds them.
pub(crate) fn news_from_boot(look: &Look<'_>, document: &MenuDocument) -> Option<(Vec<String>, String)> {
    let (_, slot) = newest_slot(look, look.home()?)?;
    let held = (slot.writer == Writer::Boot).then(|| parse_leniently(&slot.text).0).flatten()?;
    let new: Vec<String> =
        held.entries.into_iter().map(|entry| entry.id).filter(|id| document.entry(id).is_none()).collect();
    (!new.is_empty()).then_some((new, slot.text))
}
