//! On which volumes boot program and menu are put: home, and where the menu wants two of them, one on another disk.

use signpost_facts::{Error, Result};
use signpost_menu::MenuDocument;
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::newest;
use signpost_place::home::{Home, asked_for, choose, identity, may_be_home, slots};
use signpost_place::{Look, home};

use super::planned::Wishes;
use super::safe;
use crate::ways;

/// A home.
pub(super) enum Place {
    /// It can be written to.
    Here(Home),
    /// The menu was put there, and nothing can be written there now: its name, and why.
    Left(VolumeRef, String),
}

impl Place {
    /// Its stable name.
    ///
    /// # Errors
    /// Where nothing tells it from other volumes.
    pub(super) fn name(&self, look: &Look) -> Result<String> {
        Ok(match self {
            Self::Here(home) => look.stable_name(home.volume)?.to_string(),
            Self::Left(name, _) => name.to_string(),
        })
    }

    /// Why nothing can be written there, in words.
    fn left(&self) -> Option<String> {
        match self {
            Self::Here(_) => None,
            Self::Left(name, why) => Some(format!("{name} {why}")),
        }
    }
}

/// The homes in their order.
pub(super) struct Homes {
    /// All of them, one at least of which is here.
    pub(super) places: Vec<Place>,
    /// What is to be said of them.
    pub(super) notes: Vec<String>,
}

impl Homes {
    /// Those that can be written to.
    pub(super) fn here(&self) -> impl Iterator<Item = &Home> {
        self.places.iter().filter_map(|place| match place {
            Place::Here(home) => Some(home),
            Place::Left(..) => None,
        })
    }

    /// Whether one of them cannot be written to.
    pub(super) fn has_left(&self) -> bool {
        self.here().count() < self.places.len()
    }

    /// By what slots call them; nothing where there is but one. One that is out of reach is called as the menu calls it that was
    /// put on both.
    pub(super) fn identities(&self, look: &Look) -> Vec<String> {
        if self.places.len() < 2 {
            return Vec::new();
        }
        let here: Vec<String> = self.here().map(|home| identity(look, home.volume).to_string()).collect();
        if !self.has_left() {
            return here;
        }
        let named = self.here().filter_map(|home| {
            let slots = slots(look, home.volume);
            newest(&slots).map(|(_, slot)| slot.homes.clone())
        });
        named.into_iter().find(|named| here.iter().all(|name| named.contains(name))).unwrap_or(here)
    }

    /// A home in words, by its place among them.
    pub(super) fn words(&self, look: &Look, index: usize) -> Option<String> {
        Some(match self.places.get(index)? {
            Place::Here(home) => format!("{}, {}", look.survey.volumes[home.volume].where_it_is(), home.why),
            Place::Left(name, why) => format!("{name}, which {why}"),
        })
    }
}

/// Chooses them.
///
/// # Errors
/// Where none can be had, or the one that was home is out of reach and nobody names another.
pub(super) fn of(look: &Look, document: &MenuDocument, wishes: &Wishes) -> Result<Homes> {
    if document.settings.homes < 2 {
        stays_at_home(look, wishes)?;
        let home = choose(look, wishes.home.as_deref())?;
        return Ok(Homes { places: vec![Place::Here(home)], notes: Vec::new() });
    }
    let noted = noted(look, wishes.stays);
    let is_first_time = noted.is_none();
    let [first, second] = noted.unwrap_or_default();
    let asked = |name: &Option<String>, option: &str| {
        let asked = name.as_deref().map(|name| asked_for(look, name, option));
        asked.transpose().map(|home| home.map(Place::Here))
    };
    let first = asked(&wishes.home, "--home")?.or(first);
    let second = asked(&wishes.second_home, "--second-home")?.or(second);
    let is_here = |place: &Place| volume(place).is_some();
    let mut places: Vec<Place> = first.into_iter().collect();
    if places.is_empty() && (is_first_time || !second.as_ref().is_some_and(is_here)) {
        stays_at_home(look, wishes)?;
        places.push(Place::Here(choose(look, None)?));
    }
    places.extend(second);
    places.dedup_by(|one, other| is_here(one) && volume(one) == volume(other));
    if !places.iter().any(is_here) {
        let both = places.iter().filter_map(Place::left).collect::<Vec<_>>().join("; ");
        return Err(Error::Unusable {
            place: "home".into(),
            why: format!("{both}; --home names another volume"),
        });
    }
    let mut notes = Vec::new();
    if places.len() < 2 && !wishes.stays {
        let first = places.iter().find_map(volume).unwrap_or_default();
        match another(look, first) {
            Some(volume) => places.push(Place::Here(Home { volume, why: "the ESP of another disk" })),
            None => notes.push(
                "homes = 2: no other disk has an ESP that could be the second home; --second-home names a FAT volume to use".into(),
            ),
        }
    }
    notes.extend(places.iter().filter_map(Place::left).map(|left| {
        format!("homes = 2: {left}, and stays as it is; `signpost apply` and `signpost hold` bring it up to date once that is over")
    }));
    Ok(Homes { places, notes })
}

fn volume(place: &Place) -> Option<usize> {
    match place {
        Place::Here(home) => Some(home.volume),
        Place::Left(..) => None,
    }
}

/// Where the menu was applied to two homes, those. Where the machine starts from another one by now, they count no more, but for what
/// only holds them.
fn noted(look: &Look, stays: bool) -> Option<[Option<Place>; 2]> {
    let (first, second) = look.noted.applied.as_ref().and_then(|applied| {
        let parse = |name: &Option<String>| VolumeRef::parse(name.as_deref()?).ok();
        Some((parse(&applied.home)?, parse(&applied.second_home)?))
    })?;
    let is_one = |home| [&first, &second].into_iter().any(|name| look.resolve(name) == Ok(home));
    if !stays && look.home.is_some_and(|home| !is_one(home)) {
        return None;
    }
    Some([place(look, first, stays), place(look, second, stays)])
}

/// A home that was noted; nothing, where it is gone, and another one may be looked for.
fn place(look: &Look, name: VolumeRef, stays: bool) -> Option<Place> {
    let left = |why: &str| Some(Place::Left(name.clone(), why.into()));
    match look.resolve(&name) {
        Ok(volume) => match safe::of_volume(look, volume) {
            None => Some(Place::Here(Home { volume, why: "this system's menu was put there" })),
            Some(refusal) => left(&format!("is not written to: {}", refusal.message)),
        },
        Err(_) if ways::home_out_of_reach(look, Some(&name.to_string())).is_some() => {
            left("is not attached or cannot be read")
        }
        Err(_) if stays => left("is gone: it was formatted again, or wiped"),
        Err(_) => None,
    }
}

/// The ESP of another disk that could be the second home beside this one: one that was, or else the first.
fn another(look: &Look, first: usize) -> Option<usize> {
    let volumes = &look.survey.volumes;
    let own = identity(look, first);
    let can_be = |volume: &usize| {
        let held = &volumes[*volume];
        let name = identity(look, *volume);
        held.is_esp
            && held.disk != volumes[first].disk
            && may_be_home(look, *volume)
            && !name.is_empty()
            && name != own
            && safe::of_volume(look, *volume).is_none()
    };
    let found: Vec<usize> = look.fat_volumes().filter(can_be).collect();
    let machine = home::machine_id(look);
    let was_it = |volume: &&usize| {
        let slots = slots(look, **volume);
        newest(&slots)
            .is_some_and(|(_, slot)| slot.machine == machine && slot.homes.iter().any(|name| name == own))
    };
    found.iter().find(was_it).or_else(|| found.first()).copied()
}

/// A home that is out of reach is not given up for another one unless somebody names that.
fn stays_at_home(look: &Look, wishes: &Wishes) -> Result<()> {
    if wishes.home.is_some() || look.home.is_some() {
        return Ok(());
    }
    let applied = look.noted.applied.as_ref().and_then(|applied| applied.home.as_deref());
    match ways::home_out_of_reach(look, applied) {
        None => Ok(()),
        Some(home) => Err(Error::Unusable {
            place: "home".into(),
            why: format!(
                "{home}, where the menu was applied, is not attached or cannot be read; attach it, or name another volume with --home"
            ),
        }),
    }
}
