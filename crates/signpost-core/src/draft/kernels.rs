//! Groups of a Linux system: its older kernels, its starts for a single user, its snapshots.

use signpost_facts::{Kernel, Result, System};
use signpost_menu::document::Host;
use signpost_place::Look;

use super::is_plain;
use super::offered::{Offer, Place};
use super::starts::{Start, can_start, kernel_body};

/// Older kernels of one system that are offered.
const MAX_OLDER: usize = 8;
/// Snapshots of one system that are offered, the newest.
const MAX_SNAPSHOTS: usize = 10;
/// The argument that brings a Linux system up for a single user.
const SINGLE: &str = "single";
/// What the key of a group of snapshots ends in.
const SNAPSHOTS: &str = " snapshots";

/// The groups of a system whose newest kernel is started directly; `key` is that of its own offer. The firmware's own
/// list has no groups, so there are none for it.
pub(super) fn groups(look: &Look, system: &System, key: &str, host: Host) -> Result<Vec<Offer>> {
    let (Some(newest), Host::Signpost) = (system.kernels.first(), host) else { return Ok(Vec::new()) };
    let name = short_name(look, system);
    let is_older = |kernel: &&Kernel| {
        // One for rescue may be a copy of the newest, with an initrd of its own.
        (kernel.version != newest.version || kernel.is_rescue)
            && kernel.path != newest.path
            && !system.unfinished_kernels().any(|unfinished| unfinished.path == kernel.path)
            && can_start(look, kernel, host).is_ok()
    };
    let older: Vec<&Kernel> = system.kernels.iter().filter(is_older).take(MAX_OLDER).collect();
    let mut offers = Vec::new();
    let older_key = format!("{key} older");
    let mut members = Vec::new();
    if !newest.fallback.is_empty() {
        members.push(with_all_drivers(look, system, newest, &older_key)?);
    }
    for kernel in &older {
        let title = format!("{}, {}", system.title, called(kernel));
        members.push(member(look, system, kernel, "", title, &older_key)?);
    }
    if !members.is_empty() {
        offers.push(group(&older_key, &format!("{}-older", system.id), format!("{name}, older kernels")));
        offers.append(&mut members);
    }
    let single_key = format!("{key} single");
    offers.push(group(&single_key, &format!("{}-single", system.id), format!("{name}, single user")));
    if let Ok((body, _)) = super::newest_kernel(look, system, host, SINGLE)? {
        let title = format!("{}, single user", system.title);
        let why = "its newest kernel, for a single user".to_string();
        let id = format!("{}-single-newest", system.id);
        offers.push(Offer::member(format!("{single_key} newest"), id, title, (body, why), &single_key));
    }
    for kernel in older.iter().filter(|kernel| !kernel.is_rescue) {
        let title = format!("{}, {}, single user", system.title, called(kernel));
        offers.push(member(look, system, kernel, SINGLE, title, &single_key)?);
    }
    offers.append(&mut snapshots(look, system, &name, key, host)?);
    Ok(offers)
}

/// The newest kernel with the initrd that has all drivers.
fn with_all_drivers(look: &Look, system: &System, newest: &Kernel, group: &str) -> Result<Offer> {
    let fallback = Kernel { initrds: newest.fallback.clone(), ..newest.clone() };
    let title = format!("{}, with all drivers", system.title);
    let why = "its newest kernel, with the initrd that has all drivers".to_string();
    let body = kernel_body(look, system, &Start::newest(&fallback, ""))?;
    Ok(Offer::member(
        format!("{group} all drivers"),
        format!("{}-all-drivers", system.id),
        title,
        (body, why),
        group,
    ))
}

/// The snapshots of a system, as a group.
fn snapshots(look: &Look, system: &System, name: &str, key: &str, host: Host) -> Result<Vec<Offer>> {
    let is_of_it = |other: &&System| {
        other.snapshot.is_some() && other.root == system.root && other.os_id == system.os_id
    };
    let mut of_it: Vec<&System> = look.survey.systems.iter().filter(is_of_it).collect();
    of_it.sort_by_key(|snapshot| std::cmp::Reverse(snapshot.snapshot));
    let group_key = format!("{key}{SNAPSHOTS}");
    let mut offers = Vec::new();
    for snapshot in of_it.into_iter().take(MAX_SNAPSHOTS) {
        let Ok((body, why)) = super::newest_kernel(look, snapshot, host, "")? else { continue };
        let why = format!("{}: {why}", snapshot.root_path);
        let key = format!("{group_key} {}", snapshot.root_path);
        let id = format!("{}-snapshot", system.id);
        offers.push(Offer::member(key, id, snapshot.title.clone(), (body, why), &group_key));
    }
    if !offers.is_empty() {
        offers
            .insert(0, group(&group_key, &format!("{}-snapshots", system.id), format!("{name}, snapshots")));
    }
    Ok(offers)
}

/// Whether an offer is a group of snapshots.
pub(super) fn is_of_snapshots(offer: &Offer) -> bool {
    offer.place == Place::Heading && offer.key.ends_with(SNAPSHOTS)
}

fn called(kernel: &Kernel) -> String {
    let spare = if kernel.is_rescue { "spare " } else { "" };
    format!("{spare}kernel {}", kernel.version)
}

fn group(key: &str, id: &str, title: String) -> Offer {
    let body = vec![("title", title.into()), ("starts", "group".into())];
    Offer {
        key: key.to_string(),
        id: id.to_string(),
        why: "opens a list of its own".into(),
        body,
        place: Place::Heading,
        system: None,
    }
}

fn member(
    look: &Look,
    system: &System,
    kernel: &Kernel,
    more: &str,
    title: String,
    group: &str,
) -> Result<Offer> {
    let body = kernel_body(look, system, &Start::of(kernel, more))?;
    let dash = if more.is_empty() { "" } else { "-" };
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
    let version = kernel.version.replace(|c| !fits(c), "-").to_lowercase();
    let id = format!("{}{dash}{more}-{version}", system.id);
    let why = format!("{} of {}", called(kernel), system.title);
    Ok(Offer::member(format!("{group} {}", kernel.path), id, title, (body, why), group))
}

/// What a system's groups are called by: its name without the version, where no other system shares that.
fn short_name(look: &Look, system: &System) -> String {
    let first = |system: &System| system.title.split(' ').next().unwrap_or_default().to_string();
    let own = first(system);
    let others = look.survey.systems.iter().filter(|other| is_plain(other));
    let shared = others.filter(|other| first(other) == own).count();
    if shared > 1 || own.is_empty() { system.title.clone() } else { own }
}
