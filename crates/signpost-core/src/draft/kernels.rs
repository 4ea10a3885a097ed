//! Groups of a Linux system: its older kernels, and its starts for a single user.

use signpost_facts::{Kernel, Result, System};
use signpost_menu::document::Host;
use signpost_place::Look;

use super::offered::{Offer, Place};
use super::starts::{can_start, kernel_body};

/// Older kernels of one system that are offered.
const MAX_OLDER: usize = 8;
/// What a Linux system is told to come up for a single user.
const SINGLE: &str = "single";

/// The groups of a system whose newest kernel is started directly; `key` is that of its own offer. The firmware's own
/// list has no groups, so there are none for it.
pub(super) fn groups(look: &Look, system: &System, key: &str, host: Host) -> Result<Vec<Offer>> {
    let (Some(newest), Host::Signpost) = (system.kernels.first(), host) else { return Ok(Vec::new()) };
    let name = short_name(look, system);
    let is_older = |kernel: &&Kernel| {
        kernel.version != newest.version
            && kernel.path != newest.path
            && can_start(look, kernel, host).is_ok()
    };
    let older: Vec<&Kernel> = system.kernels.iter().filter(is_older).take(MAX_OLDER).collect();
    let mut offers = Vec::new();
    let older_key = format!("{key} older");
    if !older.is_empty() {
        offers.push(group(&older_key, &format!("{}-older", system.id), format!("{name}, older kernels")));
    }
    for kernel in &older {
        let title = format!("{}, {}", system.title, called(kernel));
        offers.push(member(look, system, kernel, "", title, &older_key)?);
    }
    let single_key = format!("{key} single");
    offers.push(group(&single_key, &format!("{}-single", system.id), format!("{name}, single user")));
    if let Ok((body, _)) = super::newest_kernel(look, system, host, SINGLE)? {
        let title = format!("{}, single user", system.title);
        let why = "its newest kernel, for a single user".to_string();
        let id = format!("{}-single-newest", system.id);
        offers.push(Offer::member(format!("{single_key} newest"), id, title, (body, why), &single_key));
    }
    for kernel in older.iter().filter(|kernel| !kernel.is_spare) {
        let title = format!("{}, {}, single user", system.title, called(kernel));
        offers.push(member(look, system, kernel, SINGLE, title, &single_key)?);
    }
    Ok(offers)
}

fn called(kernel: &Kernel) -> String {
    let spare = if kernel.is_spare { "spare " } else { "" };
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
    let body = kernel_body(look, system, kernel.volume, kernel.path.clone(), kernel.initrds.clone(), more)?;
    let dash = if more.is_empty() { "" } else { "-" };
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
    let version = kernel.version.replace(|c| !fits(c), "-").to_lowercase();
    let id = format!("{}{dash}{more}-{version}", system.id);
    let why = format!("{} of {}", called(kernel), system.title);
    Ok(Offer::member(format!("{group} {}", kernel.path), id, title, (body, why), group))
}

/// What a system's groups are called by: its name without the version, where no other system shares that.
fn short_name(look: &Look, system: &System) -> String {
    let first = system.title.split(' ').next().unwrap_or_default();
    let shared =
        look.survey.systems.iter().filter(|other| other.title.split(' ').next() == Some(first)).count();
    if shared > 1 || first.is_empty() { system.title.clone() } else { first.to_string() }
}
