//! The systems of a machine, with what is theirs.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::kernels::newest_first;
use signpost_menu::sorted::sorted;

use super::arguments::{self, Entry, Of};
use super::found_system::{FoundSystem, SystemKernel};
use super::owners::{Owner, mounted, of_kernel, of_kernel_elsewhere};
use super::roots::Root;
use super::{Found, entries, releases, snapshots};
use crate::volumes::Volumes;

/// All systems, by what was found on each volume.
pub(super) fn all(volumes: &impl Volumes, found: &[Found]) -> Vec<FoundSystem> {
    let (mut owners, mut systems) = (Vec::new(), Vec::new());
    for (volume, on_it) in found.iter().enumerate() {
        for (index, root) in on_it.roots.iter().enumerate() {
            let owner = Owner::new(volumes, volume, root);
            systems.push(of_root(volumes, found, &owner, index));
            owners.push(owner);
        }
    }
    give_kernels(volumes, found, &owners, &mut systems);
    snapshots::give_kernels(&owners, &mut systems);
    entries::give(volumes, found, &owners, &mut systems);
    for system in &mut systems {
        system.kernels = in_order(core::mem::take(&mut system.kernels));
    }
    for (owner, system) in owners.iter().zip(&mut systems) {
        take_arguments(volumes, found, owner, system);
    }
    snapshots::take_arguments(&mut systems);
    make_titles_differ(found, &mut systems);
    snapshots::name(&mut systems);
    let mut shown_by_entries = entries::systems_of_their_own(found, &systems);
    for system in &mut shown_by_entries {
        system.kernels = in_order(core::mem::take(&mut system.kernels));
        let entries = entries_of(found, system);
        for own in &mut system.kernels {
            own.arguments = arguments::of_entries((own.volume, &own.kernel), &entries);
        }
        system.arguments = system.kernels.first_mut().and_then(|own| own.arguments.take());
    }
    systems.append(&mut shown_by_entries);
    systems
}

fn of_root(volumes: &impl Volumes, found: &[Found], owner: &Owner<'_>, index: usize) -> FoundSystem {
    let root = owner.root;
    let mut release = (owner.volume, root.release.clone());
    let (mut title, mut id) = (root.title.clone(), root.id.clone());
    if title.is_none()
        && let Some(volume) = usr_of(volumes, root)
        && let Some((path, its)) = found.get(volume).and_then(|on_it| on_it.usr_release.as_ref())
    {
        (title, id, release) =
            (releases::title(its), its.id().map(ToString::to_string), (volume, path.clone()));
    }
    FoundSystem {
        root: Some((owner.volume, index)),
        title: title.unwrap_or_else(|| "Linux".into()),
        id: id.unwrap_or_else(|| "linux".into()),
        id_like: root.id_like.clone(),
        release,
        root_path: root.path.clone(),
        snapshot: root.is_snapshot.then_some(root.made),
        boot: owner.boot,
        mounts: owner.mounts.clone(),
        kernels: Vec::new(),
        arguments: None,
        entry_files: Vec::new(),
    }
}

/// The volume that a system mounts at `/usr`.
fn usr_of(volumes: &impl Volumes, root: &Root) -> Option<usize> {
    mounted(root, volumes.identities()).into_iter().find(|mount| mount.at == "/usr")?.volume.ok()
}

/// Gives each kernel to its system: the one in whose root it lies, else the one whose word its volume is.
fn give_kernels(volumes: &impl Volumes, found: &[Found], owners: &[Owner<'_>], systems: &mut [FoundSystem]) {
    let mut left = Vec::new();
    for (volume, on_it) in found.iter().enumerate() {
        for (root, kernels) in &on_it.kernels {
            let own =
                root.and_then(|root| systems.iter().position(|system| system.root == Some((volume, root))));
            for kernel in kernels {
                let owner = own.or_else(|| of_kernel(volumes, owners, (volume, &kernel.version)));
                let kernel = SystemKernel { volume, kernel: kernel.clone(), arguments: None };
                match owner.and_then(|owner| systems.get_mut(owner)) {
                    Some(system) => system.kernels.push(kernel),
                    None => left.push(kernel),
                }
            }
        }
    }
    for kernel in left {
        let has_kernels = |index: usize| systems.get(index).is_none_or(|system| !system.kernels.is_empty());
        let about = (kernel.volume, kernel.kernel.version.as_str());
        let owner = of_kernel_elsewhere(volumes, owners, about, has_kernels);
        if let Some(system) = owner.and_then(|owner| systems.get_mut(owner)) {
            system.kernels.push(kernel);
        }
    }
}

/// The order of a system's kernels. Where some have initrds, one that has none may be half of an update, or one that lacks
/// what it needs: it comes behind.
fn in_order(kernels: Vec<SystemKernel>) -> Vec<SystemKernel> {
    let some_have = kernels.iter().any(|own| !own.kernel.initrds.is_empty());
    let kind = |own: &SystemKernel| (own.kernel.is_rescue, some_have && own.kernel.initrds.is_empty());
    sorted(kernels, |a, b| {
        let (left, right) = (&a.kernel, &b.kernel);
        let by_version = || newest_first((&left.path, &left.version), (&right.path, &right.version));
        kind(a).cmp(&kind(b)).then_with(by_version)
    })
}

/// The entry files of a system.
fn entries_of<'f>(found: &'f [Found], system: &FoundSystem) -> Vec<Entry<'f>> {
    let own = system.mounts.iter().copied().chain(system.root.map(|(volume, _)| volume));
    let own: Vec<usize> = own.collect();
    let entry = |(volume, index): &(usize, usize)| {
        let (path, entry) = found.get(*volume)?.entry_files.get(*index)?;
        let near = core::iter::once(volume).chain(&own).filter_map(|volume| found.get(*volume));
        let blocks = near.flat_map(|found| found.environment.iter().map(String::as_str)).collect();
        Some(Entry { volume: *volume, path, entry, blocks })
    };
    system.entry_files.iter().filter_map(entry).collect()
}

fn take_arguments(volumes: &impl Volumes, found: &[Found], owner: &Owner<'_>, system: &mut FoundSystem) {
    let Some(identity) = volumes.identities().get(owner.volume) else { return };
    let kind = volumes.seen(owner.volume).map(|seen| seen.kind.to_string().to_lowercase());
    let of = Of { volume: owner.volume, root: owner.root, identity, kind: kind.unwrap_or_default() };
    let entries = entries_of(found, system);
    let kernel = system.kernels.first().map(|own| (own.volume, &own.kernel));
    let arguments = arguments::of_system(&of, kernel, &entries);
    for own in system.kernels.iter_mut().skip(1) {
        let its = arguments::of_kernel(&of, (own.volume, &own.kernel), &entries);
        own.arguments = its.filter(|its| its.text != arguments.text);
    }
    system.arguments = Some(arguments);
}

/// Systems of one volume under one title add where they lie, all but the one that is mounted by itself.
fn make_titles_differ(found: &[Found], systems: &mut [FoundSystem]) {
    let is_default = |system: &FoundSystem| {
        let root = system.root.and_then(|(volume, root)| found.get(volume)?.roots.get(root));
        root.is_some_and(|root| root.is_default)
    };
    let titles: Vec<(Option<usize>, String)> = systems
        .iter()
        .filter(|system| system.snapshot.is_none())
        .map(|system| (system.root.map(|(volume, _)| volume), system.title.clone()))
        .collect();
    for system in systems.iter_mut().filter(|system| system.snapshot.is_none() && !is_default(system)) {
        let own = (system.root.map(|(volume, _)| volume), system.title.clone());
        if titles.iter().filter(|title| **title == own).count() > 1 {
            system.title = [&own.1, ", ", &system.root_path].concat();
        }
    }
}
