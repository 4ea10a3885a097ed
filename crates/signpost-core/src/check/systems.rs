//! Systems that nothing starts, kernels without modules, what Secure Boot will refuse.

use signpost_facts::cause::{Act, Cure, Effect};
use signpost_facts::{BootFile, Code, Kernel, Subject, System, Volume, VolumeNumber};
use signpost_menu::document::Host;

use super::{Found, Seen, cause};

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    for system in &seen.look.survey.systems {
        if !seen.look.survey.is_of_machine(system) || system.snapshot.is_some() {
            continue;
        }
        modules(seen, system, found);
        if !seen.has_way(&system.id) {
            no_way(seen, system, found);
        }
    }
    boot_program_refused(seen, found);
}

/// A system without a way, where no cause tells why.
fn no_way(seen: &Seen<'_>, system: &System, found: &mut Found) {
    let subject = Subject::System(system.id.clone());
    let is_told =
        found.causes.iter().any(|cause| cause.effect.is_felt() && cause.systems.contains(&system.id));
    // What lies in an image starts where somebody has put it into a menu; what lies on a copy is its origin's to start.
    if is_told || system.image.is_some() || is_on_a_copy(seen, system) {
        return;
    }
    let loader = system.loaders.first().and_then(|loader| seen.look.survey.boot_files.get(*loader));
    let message = format!("no active entry starts {}", system.title);
    let effect = if seen.outcome().is_sound() { Effect::SystemLost } else { Effect::NothingStarts };
    let mut lost = cause(Code::NoWay, effect, Some(subject.clone()), message);
    lost.systems.push(system.id.clone());
    let is_in_our_hands = seen.menu.is_some() || !system.kernels.is_empty();
    if is_in_our_hands && seen.case.program.is_some() && offers_a_start(system) {
        lost.cures.push(Cure {
            name: "add-to-menu",
            what: "add it to the menu, and apply that".into(),
            acts: vec![Act::Redraft],
        });
    }
    if let Some(file) = loader.filter(|file| seen.look.survey.volumes[file.volume.index()].firmware_reads) {
        lost.cures.push(Cure {
            name: "make-entry",
            what: format!("make a firmware entry for {}", seen.look.survey.at(file.volume, &file.path)),
            acts: vec![Act::Make {
                label: system.title.clone(),
                volume: file.volume,
                path: file.path.clone(),
                is_first: false,
            }],
        });
        // Where firmware starts it by itself, one entry is the least.
        if seen.menu.is_none() {
            lost.cures.reverse();
        }
        // Entries live in a PC, and not on its disks: those of another PC go by the fallback path.
        let is_of_another = seen.look.contents.as_ref().is_ok_and(|contents| contents.variables.is_empty());
        let at = if is_of_another { 0 } else { lost.cures.len() };
        lost.cures.splice(at..at, by_fallback_path(seen, file));
    }
    if lost.cures.is_empty() {
        lost.by_hand = Some(
            "no loader and no kernel of it can be started: let its own installation medium write one".into(),
        );
    }
    let index = found.add(lost, &[]);
    found.explain(index, Code::InitrdMissing, Some(subject));
}

/// A loader put where firmware looks by itself, where nothing stands there.
fn by_fallback_path(seen: &Seen<'_>, file: &BootFile) -> Option<Cure> {
    let path = format!("/EFI/BOOT/{}", seen.look.architecture.fallback_file_name()?);
    let is_free = seen.look.survey.boot_file(file.volume.index(), &path).is_none();
    let is_esp = seen.look.survey.volumes[file.volume.index()].is_esp;
    (is_free && is_esp).then(|| Cure {
        name: "fallback-path",
        what: format!("copy {} to the fallback path, {path}", seen.look.survey.at(file.volume, &file.path)),
        acts: vec![Act::Copy { from: (file.volume, file.path.clone()), to: (file.volume, path) }],
    })
}

/// Whether a system lies on a volume that shares its identity with another one.
fn is_on_a_copy(seen: &Seen<'_>, system: &System) -> bool {
    let volumes = &seen.look.survey.volumes;
    let loader = system.loaders.first().and_then(|loader| seen.look.survey.boot_files.get(*loader));
    let own = system.root.or(loader.map(|file| file.volume)).and_then(|number| volumes.get(number.index()));
    let Some(own) = own else { return false };
    let shares = |other: &Volume| {
        other.number != own.number
            && (other.uuid.is_some() && other.uuid == own.uuid
                || other.part_uuid.is_some() && other.part_uuid == own.part_uuid)
    };
    volumes.iter().any(shares)
}

fn offers_a_start(system: &System) -> bool {
    !system.kernels.is_empty() || !system.loaders.is_empty()
}

/// The kernel that starts has no modules on its root, and others have: half an update, or half a removal.
fn modules(seen: &Seen<'_>, system: &System, found: &mut Found) {
    let Some(first) = system.kernels.first() else { return };
    let root = system.root.and_then(|root| seen.look.systems.found.get(root.index()));
    let root = root.and_then(|found| found.roots.iter().find(|root| root.path == system.root_path));
    let Some(root) = root.filter(|root| !root.modules.is_empty()) else { return };
    let has = |kernel: &Kernel| root.modules.contains(&kernel.version);
    if has(first) || first.version.is_empty() {
        return;
    }
    let message = format!(
        "the newest kernel of {}, {}, has no modules under /lib/modules: it starts, but finds few devices",
        system.title, first.version
    );
    let subject = Some(Subject::System(system.id.clone()));
    let mut missing = cause(Code::ModulesMissing, Effect::WillBreak, subject, message);
    missing.systems.push(system.id.clone());
    if let Some(other) = system.kernels.iter().find(|kernel| has(kernel)) {
        missing.evidence.push(format!("{} has its modules", other.version));
    }
    missing.by_hand =
        Some("install that kernel's package again, from another kernel of the system, or remove it".into());
    found.add(missing, &[]);
}

/// Secure Boot is on, and our own program is not signed.
fn boot_program_refused(seen: &Seen<'_>, found: &mut Found) {
    let Some((volume, document)) = &seen.menu else { return };
    if document.settings.host != Host::Signpost {
        return;
    }
    let number = VolumeNumber::of_index(*volume);
    let program = seen.look.survey.boot_files.iter().find(|file| file.volume == number && file.is_ours());
    let Some(program) = program else { return };
    let verdict = seen.look.secure_boot_verdict(*volume, &program.path).and_then(Result::ok);
    let Some(refusal) = crate::plan::guards::secure_boot("the boot program", verdict.as_ref()) else {
        return;
    };
    let effect = seen.effect(&[], true, Effect::StartsOther);
    let mut refused = cause(Code::SecureBootRefuses, effect, Some(Subject::Volume(number)), refusal.message);
    refused.by_hand = Some(refusal.way);
    found.add(refused, &[]);
}
