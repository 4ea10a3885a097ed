//! The survey: the complete picture of a machine, read without changing it.
//!
//! In come a machine and a catalogue; out come facts, disks looked at side by side, and the volumes, to be looked into
//! further. What starts next, what is gone and what can be done about it is not decided here.

mod boot_files;
pub mod catalogue;
mod changes;
mod closed;
mod contents;
mod disks;
mod families;
mod findings;
mod firmware;
mod found;
mod fstab;
mod guard;
mod host;
mod images;
mod kept;
mod linux;
#[cfg(test)]
mod live_tests;
mod loaders;
mod sectors;
mod side_by_side;
mod source;
mod states;
mod systems;
mod tables;
mod volumes;

use catalogue::Catalogue;
pub use changes::Changes;
use found::Contents;
pub use sectors::copies;
use signpost_facts::firmware::FirmwareFacts;
use signpost_facts::ours::OurVariables;
use signpost_facts::programs::System;
use signpost_facts::sectors::BootSectors;
use signpost_facts::survey::{MachineFacts, Survey};
use signpost_facts::{SCHEMA, VolumeNumber};
use signpost_machine::{HostKind, Machine};
use signpost_menu::text::shown;
use signpost_place::finder::Systems;
use signpost_place::look::LazyVolume;
use signpost_place::{Look, home};

/// Surveys a machine. What one disk or volume does is never an error, but a finding; so are variables that cannot be read.
pub fn survey(machine: &Machine, catalogue: &Catalogue) -> Look {
    let read = disks::read(machine);
    let contents = machine.contents().map_err(|error| error.to_string());
    let survey = Survey {
        stray_kernels: Vec::new(),
        schema: SCHEMA,
        machine: MachineFacts {
            name: said(&machine.name),
            firmware: machine.firmware,
            architecture: machine.architecture.to_string(),
            secure_boot: None,
            command_line: command_line(machine).map(said),
            is_rescue: machine.host.as_ref().is_some_and(|host| host.kind == HostKind::Rescue),
            notes: host::notes(machine, &read.disks, &read.volumes),
        },
        systems: Vec::new(),
        disks: read.disks,
        volumes: read.volumes,
        boot_files: Vec::new(),
        entry_files: Vec::new(),
        boot_sectors: BootSectors::default(),
        firmware: FirmwareFacts::default(),
        findings: read.findings,
    };
    let mut found = contents::gather(&survey, &read.slice_types, &read.sources, catalogue);
    let lazy = |(source, found): (source::Source, &mut Contents)| {
        LazyVolume::new(Box::new(source), std::mem::take(&mut found.names))
    };
    let mut look = Look::new(survey, contents, machine.architecture);
    look.volumes = read.sources.into_iter().zip(&mut found).map(lazy).collect();
    (look.known, look.noted) = (machine.known(), kept::noted(machine));
    look.root_path.clone_from(&machine.running.root_path);
    look.machine_id.clone_from(&machine.running.machine_id);
    let named = || machine.running.root.as_ref().and_then(|root| look.resolve(root).ok());
    look.running = look.running.or_else(named);
    look.tables = tables::corrections(machine, &look.survey);
    look.survey.boot_sectors = sectors::read(machine, &look.survey, catalogue);
    look.variables_room = machine.variables.room();
    look.variables_closed = machine.variables.need_writable().err().map(|error| error.to_string());
    take_variables(&mut look, machine);
    if let Some(ours) = look.survey.boot_sectors.home().and_then(|first| first.ours.as_ref()) {
        let (_, state) = ours.state();
        look.ours = OurVariables::in_state(&state);
    }
    fill(&mut look, found, catalogue);
    look
}

/// What the running kernel was started with.
fn command_line(machine: &Machine) -> Option<&str> {
    let described = machine.running.command_line.as_deref();
    described.or_else(|| machine.host.as_ref()?.command_line.as_deref())
}

/// What the variables say, and what the machine's description adds where a store cannot hold it.
fn take_variables(look: &mut Look, machine: &Machine) {
    let faults = match &look.contents {
        Ok(contents) => contents.faults.iter().map(ToString::to_string).collect(),
        Err(error) => vec![error.clone()],
    };
    let all = faults.iter().chain(&look.boot.faults);
    look.survey.findings.extend(all.map(|fault| findings::variables(fault)));
    look.boot.current = look.boot.current.or(machine.running.entry);
    let by_keys = look.secure_boot.is_on();
    look.survey.machine.secure_boot = look.boot.secure_boot.or(by_keys).or(machine.secure_boot);
}

/// Files, systems, firmware entries and findings, each from what came before.
fn fill(look: &mut Look, mut contents: Vec<Contents>, catalogue: &Catalogue) {
    if let Some(running) = look.running {
        for number in look.survey.disks_of(VolumeNumber::of_index(running)) {
            let disk = look.survey.disks.iter_mut().find(|disk| disk.number == number);
            disk.into_iter().for_each(|disk| disk.takes_part = !disk.is_medium);
        }
    }
    // What is plugged in stands back from the first.
    look.set_home(None);
    let found = contents.iter_mut().map(|found| std::mem::take(&mut found.linux)).collect();
    look.systems = Systems::of(look, found);
    linux::take(look);
    fstab::read(look);
    let mut images = Vec::new();
    let mut others = Vec::new();
    for (volume, found) in look.survey.volumes.iter_mut().zip(&mut contents) {
        volume.is_hibernated |= found.is_asleep;
        look.survey.findings.extend(findings::unprintable_names(volume, found.unprintable_names));
        if let Some(fault) = &found.fault {
            look.survey.findings.push(findings::unread(volume, fault));
            if fault.is_of_all() {
                volume.cannot_be_read(fault.why.to_string());
            }
        }
        look.survey.boot_files.append(&mut found.boot_files);
        others.extend(found.other.take().map(|system| *system));
        images.append(&mut found.images);
    }
    look.survey.systems.append(&mut others);
    note_disks(look);
    let judged = firmware::judged(look);
    loaders::assign(look, &judged, catalogue);
    look.survey.systems.extend(images);
    note_disks(look);
    systems::make_ids_unique(&mut look.survey.systems);
    look.survey.firmware = firmware::facts(look, judged);
    systems::finish(look);
    look.set_home(home::of(look));
    systems::make_titles_differ(look);
    findings::add(look);
}

/// Notes on which disks the systems lie whose root or image is known.
fn note_disks(look: &mut Look) {
    let survey = &look.survey;
    let place = |system: &System| system.root.or(system.image.as_ref().map(|image| image.volume));
    let disks: Vec<_> =
        survey.systems.iter().map(|system| place(system).map(|volume| survey.disks_of(volume))).collect();
    for (system, disks) in look.survey.systems.iter_mut().zip(disks) {
        system.disks = disks.map_or_else(|| system.disks.clone(), |disks| disks.into_iter().collect());
    }
}

/// Text that is not ours, as it is shown.
pub(crate) fn said(text: &str) -> String {
    shown(text).into_owned()
}
