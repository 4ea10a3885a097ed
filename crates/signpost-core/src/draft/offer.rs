//! What draft would put into a menu: an entry for every system, and groups for what else starts it.

use signpost_facts::{BootFile, Result, System, VolumeNumber};
use signpost_menu::document::{Hidden, Host};
use signpost_menu::ids::EntryId;
use signpost_menu::place::{Place, VolumeRef};
use signpost_menu::{MenuDocument, ids};
use signpost_place::Look;

use super::field::Field;
use super::offered::{Body, Offer};
use super::starts::Way;
use super::{is_plain, kernels, starts, symbol};
use crate::resolve::ResolvedEntry;
use crate::ways::is_started_by;

/// Everything that there is to offer, and what cannot be, with the reasons; a system that something in the menu starts
/// needs none.
pub(super) fn all(look: &Look, host: Host, menu: &[ResolvedEntry<'_>]) -> Result<(Vec<Offer>, Vec<String>)> {
    let (mut offers, mut groups, mut left) = (Vec::new(), Vec::new(), Vec::new());
    for (index, system) in look.survey.systems.iter().enumerate() {
        if !look.survey.is_of_machine(system) {
            if !menu.iter().any(|entry| starts_it(look, entry, system)) {
                left.push(format!("{}: {}", system.title, on_removable(look, system)));
            }
            continue;
        }
        if !is_plain(system) {
            continue;
        }
        left.extend(system.unfinished_kernels().map(|kernel| {
            format!(
                "{}, kernel {}: it has no initrd yet; an update seems to be under way",
                system.title, kernel.version
            )
        }));
        let key = key(look, system);
        match way(look, system, host) {
            Ok(mut body) => {
                // The firmware's own list shows none.
                let symbol = symbol::of(system.family, &body.0).filter(|_| host == Host::Signpost);
                body.0.extend(symbol.map(|symbol| ("symbol", symbol)));
                let is_kernel = body.0.contains(&("starts", "linux".into()));
                let offer = Offer::by_hand(system.title.clone(), body);
                let id = system.id.clone();
                offers.push(Offer { key: key.clone(), id, system: Some(index), ..offer });
                if is_kernel {
                    groups.extend(kernels::groups(look, system, &key, host)?);
                }
            }
            Err(_) if menu.iter().any(|entry| starts_it(look, entry, system)) => {}
            Err(why) => left.push(format!("{}: {why}", system.title)),
        }
    }
    offers.append(&mut groups);
    make_keys_unique(&mut offers);
    Ok((offers, left))
}

/// The systems of the machine that no entry of a menu starts, each with the reason or the command that adds it. What the menu
/// hides is left out on purpose.
pub(crate) fn left_out(look: &Look, document: &MenuDocument, menu: &[ResolvedEntry<'_>]) -> Vec<String> {
    let is_missing = |system: &&System| {
        look.survey.is_of_machine(system)
            && is_plain(system)
            && !is_hidden(look, document, system)
            && !menu.iter().any(|entry| starts_it(look, entry, system))
    };
    let missing = look.survey.systems.iter().filter(is_missing);
    let line = |system: &System| match way(look, system, document.settings.host) {
        Ok(_) => format!("{}: `signpost draft --offer-removed` adds it", system.title),
        Err(why) => format!("{}: {why}", system.title),
    };
    missing.map(line).collect()
}

fn starts_it(look: &Look, entry: &ResolvedEntry<'_>, system: &System) -> bool {
    entry.target.as_ref().is_ok_and(|target| is_started_by(look, system, target))
}

/// The best way of a system that the host can tell apart. A volume that nothing tells from its copy is no reason to offer
/// nothing of the others.
fn way(look: &Look, system: &System, host: Host) -> Way {
    let way = starts::best(look, system, host).unwrap_or_else(|error| Err(error.to_string()));
    way.and_then(|body| seen_at_boot(look, body, host))
}

/// An entry whose volumes the host can tell apart; or why it cannot. Whether firmware lets a drive be asked for its serial shows
/// at boot alone: where a disk is plugged in tells it from a copy then.
fn seen_at_boot(look: &Look, mut body: Body, host: Host) -> Way {
    for (_, field) in body.0.iter_mut().filter(|_| host == Host::Signpost) {
        let Field::Text(text) = field else { continue };
        if !text.starts_with("disk:") {
            continue;
        }
        let place = by_path(look, text).ok_or_else(|| {
            format!(
                "nothing but its disk's serial tells its volume from a copy ({text}), and the boot program may see no \
                 serials; give one of the two a new UUID, or unplug one"
            )
        })?;
        *text = place.to_string();
    }
    Ok(body)
}

/// A place that names its volume by where its disk is plugged in.
fn by_path(look: &Look, text: &str) -> Option<Place> {
    let place = Place::parse(text).ok()?;
    let identity = look.identities.get(look.resolve(&place.volume).ok()?)?;
    let volume = VolumeRef::Path(identity.disk_path.clone()?, identity.partition?);
    // A `disk:` field that names a volume alone has no path.
    let path = if text.ends_with(&place.path) { place.path } else { String::new() };
    look.resolve(&volume).is_ok().then_some(Place { volume, path })
}

/// Why a system on a disk that can be taken along is not offered, and what takes it up.
fn on_removable(look: &Look, system: &System) -> String {
    let way = match (&system.image, system.root, system.loaders.first()) {
        (Some(image), ..) => {
            format!("`signpost entry add image {}`", look.survey.at(image.volume, &image.path))
        }
        (None, Some(root), _) if !system.kernels.is_empty() => {
            format!("`signpost entry add linux --on {}`", look.survey.name(root))
        }
        (None, _, Some(loader)) => {
            let file = &look.survey.boot_files[*loader];
            format!("`signpost entry add efi {}`", look.survey.at(file.volume, &file.path))
        }
        (None, ..) => "`signpost entry add`".to_string(),
    };
    let disks: Vec<String> = system.disks.iter().map(ToString::to_string).collect();
    format!("it lies on disk {}, which can be taken along; {way} adds it", disks.join(" and "))
}

/// What tells a system from others at every draft: its root's identity, or else its name.
pub(super) fn key(look: &Look, system: &System) -> String {
    let Some(volume) = system.root.and_then(|root| look.survey.volumes.get(root.index())) else {
        return format!("system {}", system.id);
    };
    let identity = volume.uuid.as_ref().or(volume.part_uuid.as_ref()).or(volume.label.as_ref());
    format!("root {}{}", identity.map_or(volume.name.as_str(), |identity| identity), system.root_path)
}

/// Clones share an identity: the second gets a number.
fn make_keys_unique(offers: &mut [Offer]) {
    for index in 0..offers.len() {
        let base = offers[index].key.clone();
        let mut count = 1;
        while offers[..index].iter().any(|before| before.key == offers[index].key) {
            count += 1;
            offers[index].key = format!("{base} {count}");
        }
    }
}

/// Whether the menu file says that a system is not to be offered.
pub(crate) fn is_hidden(look: &Look, document: &MenuDocument, system: &System) -> bool {
    let loaders = || system.loaders.iter().map(|index| &look.survey.boot_files[*index]);
    document.hidden.iter().any(|hide| match &hide.what {
        // Entries are hidden by their ids: draft gives a system's own entry that of the system.
        Hidden::Entry(id) => *id == system.id,
        Hidden::System(title) => *title == system.title,
        Hidden::Volume(volume) => look.resolve(volume).is_ok_and(|volume| {
            system.root == Some(VolumeNumber::of_index(volume))
                || (system.root.is_none() && loaders().all(|loader| loader.volume.index() == volume))
        }),
        Hidden::File(place) => look.resolve(&place.volume).is_ok_and(|volume| {
            let is_it = |loader: &BootFile| loader.volume.index() == volume && place.covers(&loader.path);
            system.root.is_none() && !system.loaders.is_empty() && loaders().all(is_it)
        }),
    })
}

/// Whether the menu file says that an entry of this id is not to be offered.
pub(super) fn is_hidden_id(document: &MenuDocument, id: &str) -> bool {
    document.hidden.iter().any(|hide| hide.what == Hidden::Entry(id.to_string().into()))
}

/// An id that no entry has: the system's own, or with a number behind it.
pub(crate) fn free_id(base: &str, taken: &[EntryId]) -> EntryId {
    // An id has 40 letters at most, and a number may follow.
    const MOST: usize = 36;
    let base = base.chars().take(MOST).collect::<String>();
    let base = base.trim_end_matches('-');
    ids::first_free(base, base, |id| taken.iter().any(|taken| taken == id)).into()
}
