//! The picture behind the menu, as it was applied.

use signpost_menu::parse_leniently;
use signpost_menu::picture_place::{PICTURE_PATH, PicturePlace};
use signpost_menu::place::VolumeRef;
use signpost_place::Look;
use signpost_place::boot_program::sha256;

use super::{Held, Material};

/// A picture that does not stand on the home volume as it was applied.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Lost {
    /// It can be written again.
    There(Vec<u8>),
    /// The menu file names another by now, or none that can be read.
    Gone,
}

impl Lost {
    pub(super) fn bytes(self) -> Option<Vec<u8>> {
        match self {
            Self::There(bytes) => Some(bytes),
            Self::Gone => None,
        }
    }
}

/// The picture that was applied, where it is gone from the home volume or damaged there.
pub(super) fn lost_picture(look: &Look, held: &Held, material: Material<'_>) -> Option<Lost> {
    let applied = held.picture.as_ref()?;
    let is_it = |bytes: &Vec<u8>| sha256(bytes) == *applied;
    let is_here = |place: &PicturePlace| {
        VolumeRef::parse(&place.volume).is_ok_and(|volume| look.resolve(&volume).is_ok())
    };
    let homes: Vec<String> = held.homes().map(str::to_string).collect();
    let places = places(&homes, held.picture_place.as_ref()).into_iter().filter(is_here);
    let found: Vec<Option<Vec<u8>>> = places.map(|place| at(look, &place)).collect();
    if found.iter().all(|bytes| bytes.as_ref().is_some_and(is_it)) {
        return None;
    }
    if let Some(whole) = found.into_iter().flatten().find(is_it) {
        return Some(Lost::There(whole));
    }
    let name = parse_leniently(&held.menu).0.and_then(|document| document.look.picture);
    let again = name.and_then(|name| (material.picture)(&name)).filter(is_it);
    Some(again.map_or(Lost::Gone, Lost::There))
}

/// Where a menu's picture lies: on each home volume, or, where sectors are home, in a place of its own.
pub(super) fn places(homes: &[String], own: Option<&PicturePlace>) -> Vec<PicturePlace> {
    let on = |home: &String| PicturePlace { path: PICTURE_PATH.into(), volume: home.clone() };
    own.map_or_else(|| homes.iter().map(on).collect(), |own| vec![own.clone()])
}

/// What stands there.
pub(super) fn at(look: &Look, place: &PicturePlace) -> Option<Vec<u8>> {
    let volume = look.resolve(&VolumeRef::parse(&place.volume).ok()?).ok()?;
    look.reader(volume)?.read(&place.path, signpost_place::home::MAX_FILE).ok()
}
