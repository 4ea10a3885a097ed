//! The survey: the complete picture of a machine, read without changing it.

mod belongs;
mod changes;
mod closed;
mod contents;
mod disks;
mod entry_files;
mod facts;
mod families;
mod findings;
mod firmware;
mod fstab;
mod host;
mod images;
mod kernels;
mod known;
mod linux;
mod loaders;
mod ours;
mod reader;
mod side_by_side;
mod startup;
mod states;
mod systems;
mod volumes;

use std::cell::OnceCell;

use signpost_firmware::boot_variables::BootVariables;
use signpost_menu::place::{Unresolved, VolumeIdentity, VolumeRef, resolve, stable};
use signpost_menu::text::shown;

pub use changes::Changes;
use contents::Contents;
pub use facts::{
    Arguments, Disk, EntryFile, Finding, FirmwareEntry, FirmwareFacts, ImageFile, Kernel, MachineFacts,
    Partition, Role, StartupFile, Survey, System, TableFacts, Target, VersionFacts, Volume,
};
pub(crate) use firmware::hex;
pub(crate) use kernels::patterns;
pub use known::Known;
pub use ours::OurVariables;
pub use reader::VolumeReader;
use signpost_disk::fat::FatVolume;
pub use signpost_disk::file_system::Item;
use signpost_disk::file_system::VolumeError;
pub(crate) use systems::slug;

use crate::catalogue::Catalogue;
use crate::error::{Error, Result};
use crate::machine::{HostKind, Machine};
use crate::secure_boot::{SecureBoot, Verdict};

/// A machine together with its survey: what later steps work on.
pub struct Look<'m> {
    /// The machine.
    pub machine: &'m Machine,
    /// What it is.
    pub survey: Survey,
    /// Its boot variables.
    pub boot: BootVariables,
    /// What boot program and desk tell each other through variables.
    pub ours: OurVariables,
    /// What the disks held when they were last seen.
    pub known: Known,
    /// Whether every variable could be read.
    pub has_all_variables: bool,
    identities: Vec<VolumeIdentity>,
    readers: Vec<LazyReader>,
    home: Option<usize>,
    secure_boot: SecureBoot,
}

/// A volume that is opened when it is first asked for.
struct LazyReader {
    source: disks::Source,
    names: reader::Names,
    cell: OnceCell<Option<VolumeReader>>,
}

impl<'m> Look<'m> {
    /// Surveys a machine.
    ///
    /// # Errors
    /// Never for what one disk or volume does: that is a finding. Variables that cannot be read at all are
    /// a finding too.
    pub fn at(machine: &'m Machine, catalogue: &Catalogue) -> Self {
        let read = disks::read(machine);
        let mut findings = read.findings;
        let identities = read.volumes.iter().map(|volume| volume.identity(false)).collect();
        let mut has_all_variables = false;
        let mut ours = OurVariables::default();
        let mut keys = SecureBoot::default();
        let mut boot = match machine.contents() {
            Ok(contents) => {
                ours = OurVariables::read(&contents);
                keys = SecureBoot::read(&contents);
                has_all_variables = contents.faults.is_empty();
                findings.extend(contents.faults.iter().map(|fault| findings::variables(fault)));
                BootVariables::read(&contents)
            }
            Err(error) => {
                findings.push(findings::variables(&error.to_string()));
                BootVariables::default()
            }
        };
        findings.extend(boot.faults.iter().map(|fault| findings::variables(fault)));
        // What a store cannot hold, the machine's description says.
        boot.current = boot.current.or(machine.running.entry);
        let secure_boot = boot.secure_boot.or(keys.is_on()).or(machine.secure_boot);
        let facts = MachineFacts {
            name: said(&machine.name),
            firmware: machine.firmware.word(),
            architecture: machine.architecture.to_string(),
            secure_boot,
            command_line: machine.host.as_ref().and_then(|host| host.command_line.as_deref()).map(said),
            is_rescue: machine.host.as_ref().is_some_and(|host| host.kind == HostKind::Rescue),
            notes: host::notes(machine, &read.disks, &read.volumes),
        };
        let survey = Survey {
            schema: crate::SCHEMA,
            machine: facts,
            systems: Vec::new(),
            disks: read.disks,
            volumes: read.volumes,
            startup_files: Vec::new(),
            entry_files: Vec::new(),
            firmware: FirmwareFacts::default(),
            findings,
        };
        let mut contents = contents::gather(&survey, &read.slice_types, &read.sources, catalogue);
        let readers = read.sources.into_iter().zip(&mut contents).map(|(source, found)| LazyReader {
            source,
            names: std::mem::take(&mut found.names),
            cell: OnceCell::new(),
        });
        let readers = readers.collect();
        let known = machine.known_record().map(|record| Known::load(&record)).unwrap_or_default();
        let mut look = Self {
            machine,
            survey,
            boot,
            ours,
            known,
            has_all_variables,
            identities,
            readers,
            home: None,
            secure_boot: keys,
        };
        look.fill(contents, catalogue);
        look
    }

    /// Files, systems, firmware entries and findings, each from what came before.
    fn fill(&mut self, mut contents: Vec<Contents>, catalogue: &Catalogue) {
        if let Some(running) = self.running_root() {
            for number in self.survey.disks_of(running + 1) {
                let disk = &mut self.survey.disks[number - 1];
                disk.takes_part = !disk.is_medium;
            }
        }
        self.survey.systems = linux::systems(
            &contents,
            &self.survey.volumes,
            self.running_root(),
            self.machine.running.root_path.as_deref(),
            self.survey.machine.command_line.as_deref(),
        );
        self.note_disks();
        fstab::read(self, &contents);
        kernels::assign(self, &contents);
        let mut images = Vec::new();
        let mut others = Vec::new();
        let mut entries = Vec::new();
        for (volume, found) in self.survey.volumes.iter_mut().zip(&mut contents) {
            volume.is_hibernated |= found.is_asleep;
            self.survey.findings.extend(findings::odd_names(volume, found.odd_names));
            if let Some(fault) = &found.fault {
                self.survey.findings.push(findings::unread(volume, fault));
                if fault.is_of_all() {
                    volume.cannot_be_read(fault.why.to_string());
                }
            }
            self.survey.startup_files.append(&mut found.startup_files);
            entries.append(&mut found.entry_files);
            others.extend(found.other.take().map(|system| *system));
            images.append(&mut found.images);
        }
        self.survey.systems.append(&mut others);
        self.note_disks();
        let judged = firmware::judged(self);
        loaders::assign(self, &judged, catalogue);
        entry_files::assign(self, entries);
        entry_files::take_arguments(self);
        self.survey.systems.extend(images);
        self.note_disks();
        systems::make_ids_unique(&mut self.survey.systems);
        systems::make_titles_differ(self);
        self.survey.firmware = firmware::facts(self, judged);
        systems::finish(self);
        self.home = crate::home::of(self);
        if let Some(identity) = self.home.and_then(|home| self.identities.get_mut(home)) {
            identity.is_home = true;
        }
        self.survey.firmware.starts_next = firmware::starts_next(self);
        let more = findings::all(self);
        self.survey.findings.extend(more);
        self.survey.findings.sort_by_key(|finding| finding.code);
        let ways = crate::ways::ways(self, crate::rehearse::State::of(self));
        for system in &mut self.survey.systems {
            let own = ways.iter().filter(|way| way.system == system.id);
            system.ways = own.map(|way| way.through.clone()).collect();
        }
    }

    /// Notes on which disks the systems lie whose root or image is known.
    fn note_disks(&mut self) {
        let survey = &self.survey;
        let place = |system: &System| system.root.or(system.image.as_ref().map(|image| image.volume));
        let disks: Vec<_> =
            survey.systems.iter().map(|system| place(system).map(|volume| survey.disks_of(volume))).collect();
        for (system, disks) in self.survey.systems.iter_mut().zip(disks) {
            system.disks = disks.map_or_else(|| system.disks.clone(), |disks| disks.into_iter().collect());
        }
    }

    /// The volume of this index, opened; `None` where it is not of a kind that is looked into, or broken.
    pub fn reader(&self, volume: usize) -> Option<&VolumeReader> {
        let lazy = self.readers.get(volume)?;
        lazy.cell.get_or_init(|| VolumeReader::open(&lazy.source, lazy.names.clone()).ok().flatten()).as_ref()
    }

    /// Why a FAT (by its volume's index) does not hold together. One that is mounted is the kernel's to look after.
    pub(crate) fn check_fat(&self, volume: usize) -> Option<String> {
        let source = &self.readers.get(volume)?.source;
        let device = source.device.as_ref().filter(|_| source.mounts.is_empty())?;
        let checked = reader::guarded(|| FatVolume::open(device.clone()).and_then(|fat| fat.check()));
        match checked {
            Ok(result) => result.err().map(|error| error.to_string()),
            Err(why) => Some(why),
        }
    }

    /// Whether the survey found that a volume's uppermost folder has nothing that a path could start with. Where it is
    /// false, the volume must be asked.
    pub(crate) fn surely_lacks(&self, volume: usize, path: &str) -> bool {
        let names = self.readers.get(volume).and_then(|lazy| lazy.names.get()?.as_ref());
        names.is_some_and(|names| !reader::may_hold(names, path))
    }

    /// What Secure Boot says of a program on a volume (by index); `None` where it is not on.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn secure_boot_verdict(
        &self,
        volume: usize,
        path: &str,
    ) -> Option<std::result::Result<Verdict, VolumeError>> {
        let reader = self.reader(volume).filter(|_| self.survey.machine.secure_boot == Some(true))?;
        Some(reader.read(path, startup::MAX_PROGRAM).map(|file| self.secure_boot.judge(&file)))
    }

    /// What Secure Boot says of these bytes; `None` where it is not on.
    pub fn secure_boot_verdict_of(&self, file: &[u8]) -> Option<Verdict> {
        (self.survey.machine.secure_boot == Some(true)).then(|| self.secure_boot.judge(file))
    }

    /// The index of the volume that a name means.
    ///
    /// # Errors
    /// Where none or more than one does.
    pub fn resolve(&self, volume: &VolumeRef) -> std::result::Result<usize, Unresolved> {
        resolve(volume, &self.identities)
    }

    /// What the disks hold, as it is to be kept for later.
    pub fn known_now(&self) -> Known {
        self.known.with(&self.survey, &self.identities)
    }

    /// The index of the home volume, where the machine has one.
    pub fn home(&self) -> Option<usize> {
        self.home
    }

    /// All by which the volumes can be named, in their order.
    pub fn identities(&self) -> &[VolumeIdentity] {
        &self.identities
    }

    /// A name for a volume that holds: one that no other volume shares.
    ///
    /// # Errors
    /// Where every name of it is shared.
    pub fn stable_name(&self, volume: usize) -> Result<VolumeRef> {
        stable(volume, &self.identities).ok_or_else(|| Error::Unusable {
            place: format!("volume v{}", volume + 1),
            why: "no name tells it from the other volumes; give its disk a serial or its file system a new UUID".into(),
        })
    }

    /// The index of the root volume of the running system.
    pub fn running_root(&self) -> Option<usize> {
        let by_device = self.survey.volumes.iter().position(|volume| volume.is_running_root);
        by_device.or_else(|| self.machine.running.root.as_ref().and_then(|root| self.resolve(root).ok()))
    }

    /// Volumes of the machine's own that firmware reads.
    pub fn fat_volumes(&self) -> impl Iterator<Item = usize> {
        let is_ours = |volume: &Volume| volume.is_fat && !self.survey.is_on_medium(volume);
        self.survey
            .volumes
            .iter()
            .enumerate()
            .filter(move |(_, volume)| is_ours(volume))
            .map(|(index, _)| index)
    }
}

/// Text that is not ours, as it is shown.
pub(crate) fn said(text: &str) -> String {
    shown(text).into_owned()
}
