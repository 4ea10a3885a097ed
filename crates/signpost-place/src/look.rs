//! A machine together with its survey: what every decision at the desk is made on.

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cell::OnceCell;

use signpost_disk::file_system::VolumeError;
use signpost_facts as facts;
use signpost_facts::change::SectorWrite;
use signpost_facts::known::Known;
use signpost_facts::location::Location;
use signpost_facts::noted::Noted;
use signpost_facts::ours::OurVariables;
use signpost_facts::secure_boot::Verdict;
use signpost_facts::{DiskNumber, FirmwareEntry, FirmwareKind, Survey, System, VolumeNumber};
use signpost_firmware::bios::code::{FirstCode, SectorCode};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::variable::Contents;
use signpost_menu::place::{Mistyped, Place, Unresolved, VolumeIdentity, VolumeRef, resolve, stable, typed};
use signpost_menu::resolve::{Firmware, LoadOptionSeen};

use crate::finder::{Systems, WithSystems};
use crate::reader::{self, Names, VolumeReader};
use crate::secure_boot::SecureBoot;
use crate::surroundings::stands_around_a_menu;
use crate::volumes::{Seen, Volumes, nearness};

/// No program that firmware loads is longer, in bytes.
pub const MAX_PROGRAM: usize = 256 << 20;

/// A machine as it was seen.
pub struct Look {
    /// What it is.
    pub survey: Survey,
    /// All variables; or why none could be read.
    pub contents: Result<Contents, String>,
    /// Its boot variables.
    pub boot: BootVariables,
    /// What boot program and desk tell each other through variables.
    pub ours: OurVariables,
    /// What the disks held when they were last seen.
    pub known: Known,
    /// What this system noted for itself.
    pub noted: Noted,
    /// What its firmware runs.
    pub architecture: MachineType,
    /// The running system's machine-id, where the machine itself told it.
    pub machine_id: Option<String>,
    /// The folder of the running system's root on its volume, where that is known.
    pub root_path: Option<String>,
    /// All by which the volumes can be named, in their order.
    pub identities: Vec<VolumeIdentity>,
    /// The volumes, to be looked into.
    pub volumes: Vec<LazyVolume>,
    /// Index of the running system's root volume.
    pub running: Option<usize>,
    /// Index of the home volume.
    pub home: Option<usize>,
    /// Secure Boot's keys.
    pub secure_boot: SecureBoot,
    /// The Linux systems, as the finder found them.
    pub systems: Systems,
    /// Bytes that the firmware has left for variables, where it says so.
    pub variables_room: Option<u64>,
    /// Why variables cannot be written, though they can be read.
    pub variables_closed: Option<String>,
    /// What would correct the partition tables of disks, by their numbers; of those that are not whole, and can be.
    pub tables: Vec<(DiskNumber, SectorWrite)>,
}

/// What a volume can be asked beside its files.
pub trait Source {
    /// Opens it; `None` where it is not of a kind that is looked into, or broken.
    fn open(&self, names: Names) -> Option<VolumeReader>;

    /// Why a FAT does not hold together; nothing of one that is mounted, which is the kernel's to look after.
    fn check(&self) -> Option<String>;

    /// What room a FAT has.
    ///
    /// # Errors
    /// Why it cannot be told, in words.
    fn room(&self) -> Result<Room, String>;
}

/// Room on a volume.
#[derive(Clone, Copy, Debug)]
pub struct Room {
    /// Free bytes.
    pub free: u64,
    /// Bytes in a cluster: every file and folder takes whole ones.
    pub cluster: u64,
    /// Free entries of the root folder, where that cannot grow and can be looked at.
    pub root_entries: Option<u64>,
}

/// A volume that is opened when it is first asked for.
pub struct LazyVolume {
    source: Box<dyn Source>,
    names: Names,
    cell: OnceCell<Option<VolumeReader>>,
}

impl LazyVolume {
    /// A volume; `names` are those of its top folder, where they are known already.
    pub fn new(source: Box<dyn Source>, names: Names) -> Self {
        Self { source, names, cell: OnceCell::new() }
    }
}

impl Look {
    /// A machine of these facts and variables, without volumes that could be looked into: as it was recorded, or before they
    /// are known.
    pub fn new(survey: Survey, contents: Result<Contents, String>, architecture: MachineType) -> Self {
        let read = contents.as_ref().ok();
        Self {
            boot: read.map(BootVariables::read).unwrap_or_default(),
            ours: read.map(OurVariables::read).unwrap_or_default(),
            secure_boot: read.map(SecureBoot::read).unwrap_or_default(),
            identities: survey.volumes.iter().map(|volume| volume.identity(false)).collect(),
            running: survey.volumes.iter().position(|volume| volume.is_running_root),
            survey,
            contents,
            known: Known::default(),
            noted: Noted::default(),
            architecture,
            machine_id: None,
            root_path: None,
            volumes: Vec::new(),
            home: None,
            systems: Systems::default(),
            variables_room: None,
            variables_closed: None,
            tables: Vec::new(),
        }
    }

    /// The volume of this index, opened; `None` where it is not of a kind that is looked into, or broken.
    pub fn reader(&self, volume: usize) -> Option<&VolumeReader> {
        let lazy = self.volumes.get(volume)?;
        lazy.cell.get_or_init(|| lazy.source.open(lazy.names.clone())).as_ref()
    }

    /// Why a FAT (by its volume's index) does not hold together. One that is mounted is the kernel's to look after.
    pub fn check_fat(&self, volume: usize) -> Option<String> {
        self.volumes.get(volume)?.source.check()
    }

    /// What room there is on a FAT volume (by index).
    ///
    /// # Errors
    /// Why it cannot be told, in words.
    pub fn room(&self, volume: usize) -> Result<Room, String> {
        self.volumes.get(volume).ok_or("there is no such volume")?.source.room()
    }

    /// A file of at most `most` bytes; `None` where it is not there.
    ///
    /// # Errors
    /// Where it cannot be read.
    pub fn read_file(&self, volume: usize, path: &str, most: usize) -> facts::Result<Option<Vec<u8>>> {
        let place =
            |why: String| facts::Error::Unusable { place: Volumes::name(self, volume) + ":" + path, why };
        let reader = self.reader(volume).ok_or_else(|| place("its volume cannot be read".into()))?;
        match reader.read(path, most) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(VolumeError::NotFound(_)) => Ok(None),
            Err(error) => Err(place(error.to_string())),
        }
    }

    /// Whether the survey found that a volume's top folder has nothing that a path could start with. Where it is
    /// false, the volume must be asked.
    pub fn surely_lacks(&self, volume: usize, path: &str) -> bool {
        let names = self.volumes.get(volume).and_then(|lazy| lazy.names.get()?.as_ref());
        names.is_some_and(|names| !reader::may_hold(names, path))
    }

    /// What Secure Boot says of a program on a volume (by index); `None` where it is not on.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn secure_boot_verdict(&self, volume: usize, path: &str) -> Option<Result<Verdict, VolumeError>> {
        let reader = self.reader(volume).filter(|_| self.survey.machine.secure_boot == Some(true))?;
        Some(reader.read(path, MAX_PROGRAM).map(|file| self.secure_boot.judge(&file)))
    }

    /// What Secure Boot says of these bytes; `None` where it is not on.
    pub fn secure_boot_verdict_of(&self, file: &[u8]) -> Option<Verdict> {
        (self.survey.machine.secure_boot == Some(true)).then(|| self.secure_boot.judge(file))
    }

    /// The index of the volume that a name means.
    ///
    /// # Errors
    /// Where none or more than one does.
    pub fn resolve(&self, volume: &VolumeRef) -> Result<usize, Unresolved> {
        resolve(volume, &self.identities)
    }

    /// The place that a person means; the path is empty where none was typed.
    ///
    /// # Errors
    /// Where it fits no volume, or several: what there is.
    pub fn typed(&self, text: &str) -> Result<Place, Mistyped> {
        let found = typed(text, &self.identities, || Volumes::system_ids(self))?;
        Ok(Place { volume: VolumeRef::Name(Volumes::name(self, found.volume)), path: found.path })
    }

    /// The index of the volume that a person means.
    ///
    /// # Errors
    /// Where it fits no volume, or several; where a path follows it.
    pub fn typed_volume(&self, text: &str) -> Result<usize, Mistyped> {
        let found = typed(text, &self.identities, || Volumes::system_ids(self))?;
        match found.path.as_str() {
            "" | "/" => Ok(found.volume),
            path => Err(Mistyped::Path { typed: text.to_string(), path: path.to_string() }),
        }
    }

    /// A name for a volume that holds: one that no other volume shares.
    ///
    /// # Errors
    /// Where every name of it is shared.
    pub fn stable_name(&self, volume: usize) -> facts::Result<VolumeRef> {
        stable(volume, &self.identities).ok_or_else(|| facts::Error::Unusable {
            place: Volumes::name(self, volume),
            why: "no name tells it from the other volumes; give its disk a serial or its file system a new UUID".into(),
        })
    }

    /// Notes which volume is home, and how near to it all others lie.
    pub fn set_home(&mut self, home: Option<usize>) {
        self.home = home;
        let in_sectors = || self.survey.boot_sectors.home().map(|first| Vec::from([first.disk]));
        let homes_disks = home.map(|home| self.disks_of(home)).or_else(in_sectors).unwrap_or_default();
        self.identities = identities(self, home, &homes_disks);
    }

    /// Volumes of the machine's own that firmware reads.
    pub fn fat_volumes(&self) -> impl Iterator<Item = usize> {
        let is_ours = |volume: &facts::Volume| volume.is_fat && !self.survey.is_on_medium(volume);
        self.survey
            .volumes
            .iter()
            .enumerate()
            .filter(move |(_, volume)| is_ours(volume))
            .map(|(index, _)| index)
    }

    /// Whether every variable could be read.
    pub fn has_all_variables(&self) -> bool {
        self.contents.as_ref().is_ok_and(|contents| contents.faults.is_empty())
    }

    /// All variables.
    ///
    /// # Errors
    /// Where they could not be read.
    pub fn contents(&self) -> facts::Result<&Contents> {
        let unusable =
            |why: &String| facts::Error::Unusable { place: "firmware variables".into(), why: why.clone() };
        self.contents.as_ref().map_err(unusable)
    }

    /// Where a volume lies on its disk.
    pub fn location(&self, volume: usize) -> Option<Location> {
        let facts = self.survey.volumes.get(volume)?;
        let (_, partition) = self.survey.partition_of(facts)?;
        Some(Location { disk: facts.disk, start: partition.start, length: partition.size })
    }
}

/// The volumes' identities where this one is home, which lies on these disks.
pub(crate) fn identities(
    look: &Look,
    home: Option<usize>,
    homes_disks: &[DiskNumber],
) -> Vec<VolumeIdentity> {
    let seen = look.identities.iter().zip(nearness(look, homes_disks)).enumerate();
    seen.map(|(index, (identity, nearness))| VolumeIdentity {
        is_home: home == Some(index),
        nearness,
        ..identity.clone()
    })
    .collect()
}

impl Volumes for Look {
    fn identities(&self) -> &[VolumeIdentity] {
        &self.identities
    }

    fn seen(&self, volume: usize) -> Option<Seen<'_>> {
        let facts = self.survey.volumes.get(volume)?;
        Some(Seen {
            kind: facts.kind,
            label: facts.label.as_deref(),
            size: facts.size,
            disk: Some(facts.disk),
            is_extended_boot: facts.is_extended_boot,
        })
    }

    fn disks_of(&self, volume: usize) -> Vec<DiskNumber> {
        self.survey.disks_of(VolumeNumber::of_index(volume)).into_iter().collect()
    }

    fn takes_part(&self, disk: DiskNumber) -> bool {
        self.survey.disk(disk).is_none_or(|disk| disk.takes_part)
    }

    fn system_ids(&self) -> Vec<(String, usize)> {
        let own = |system: &System| {
            let image = system.image.as_ref().map(|image| image.volume);
            let loaders = system.loaders.first().map(|file| self.survey.boot_files[*file].volume);
            let volume = system.root.or(image).or(loaders)?;
            Some((system.id.clone(), volume.index()))
        };
        self.survey.systems.iter().filter_map(own).collect()
    }

    fn fault(&self, volume: usize) -> Option<String> {
        self.survey.volumes.get(volume)?.fault.clone()
    }

    fn opened(&self, volume: usize) -> Option<&VolumeReader> {
        self.reader(volume)
    }

    fn machine_type(&self) -> MachineType {
        self.architecture
    }

    fn firmware(&self) -> Firmware {
        match self.survey.machine.firmware {
            FirmwareKind::Bios => Firmware::Bios,
            FirmwareKind::Uefi | FirmwareKind::Unknown => Firmware::Uefi,
        }
    }

    fn sector(&self, volume: usize) -> Option<(String, SectorCode)> {
        let sector = self.survey.boot_sector_of(VolumeNumber::of_index(volume))?;
        Some((sector.name.clone(), sector.code))
    }

    fn first_sector(&self, volume: usize) -> Option<(String, FirstCode, bool)> {
        let disk = self.survey.volumes.get(volume)?.disk;
        let first = self.survey.boot_sectors.first_of(disk)?;
        let is_home = self.survey.boot_sectors.home().is_some_and(|home| home.disk == disk);
        Some((format!("d{disk}"), first.code, is_home))
    }

    fn options(&self) -> Vec<LoadOptionSeen> {
        let seen = |entry: &FirmwareEntry| LoadOptionSeen {
            number: entry.number(),
            label: entry.label.clone(),
            target: entry.target.as_ref().map(|target| (target.volume.index(), target.file.clone())),
            fault: entry
                .judged
                .as_ref()
                .filter(|verdict| verdict.starts_nothing())
                .map(|_| entry.finding.clone()),
        };
        self.survey.firmware.entries.iter().map(seen).collect()
    }
}

impl WithSystems for Look {
    fn systems(&self) -> &Systems {
        &self.systems
    }
}

stands_around_a_menu!(Look);
