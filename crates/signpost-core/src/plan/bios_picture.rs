//! The picture behind the menu with BIOS firmware. The sectors that are home have no room for it: it is a file on a volume that the
//! boot program reads, and that can be written to now; the menu's slots say where.

use signpost_facts::change::FileWrite;
use signpost_facts::{DiskNumber, FirmwareKind, Result, Volume, VolumeNumber};
use signpost_menu::picture_place::{PICTURE_PATH, PICTURE_PATH_AT_BOOT, PICTURE_PATH_AT_ROOT, PicturePlace};
use signpost_menu::place::VolumeRef;
use signpost_menu::resolve::{Firmware, Surroundings};
use signpost_place::Look;
use signpost_place::home::{MAX_FILE, newest_at_home};
use signpost_place::look::Room;

use super::leftovers::removal;
use super::planned::{Wishes, file_write};
use super::safe;
use crate::menu_file::MenuFile;

/// What becomes of it.
#[derive(Default)]
pub(super) struct Picture {
    /// Where it lies then.
    pub(super) place: Option<PicturePlace>,
    /// What is written there, before a menu names it.
    pub(super) write: Option<FileWrite>,
    /// What goes from where it was, once no menu names it.
    pub(super) removal: Option<FileWrite>,
    /// What is to be said of it.
    pub(super) notes: Vec<String>,
}

const NO_PLACE: &str = "look.picture: the menu is shown without it. It goes on a volume that the boot program reads and that can be \
                        written to from here: the one that is mounted at /boot or /, where it is a partition of its own and not btrfs, or \
                        a FAT volume with room";

/// A file on a volume.
#[derive(Clone, PartialEq)]
struct Spot {
    volume: usize,
    path: String,
}

/// Decides that for a menu that is put on these disks; `held` is where the active one says that it lies.
///
/// # Errors
/// Where what is there cannot be read.
pub(super) fn of(
    look: &Look,
    menu: &MenuFile,
    (homes, held): (&[DiskNumber], Option<&PicturePlace>),
    wishes: &Wishes,
) -> Result<Picture> {
    let appearance = &menu.document.look;
    let old = held.and_then(|held| spot_of(look, held));
    let without = |note: Option<&str>| {
        let (removal, stays) = old.as_ref().map_or(Ok((None, None)), |old| removal_of(look, old))?;
        Ok(Picture {
            removal,
            notes: note.map(String::from).into_iter().chain(stays).collect(),
            ..Picture::default()
        })
    };
    if appearance.picture.is_none() {
        return without(None);
    }
    if !appearance.screen.is_drawn(Firmware::Bios) {
        return without(Some(
            "look.picture: this menu is in firmware's own letters, without a picture; look.screen=native, or a size, has it drawn",
        ));
    }
    let as_it_is = || Ok(Picture { place: held.cloned(), ..Picture::default() });
    let takes_files = |spot: &Spot| takes_files(look, spot.volume);
    match &old {
        // Hold leaves it where it was put, also while that cannot be read or written to.
        None if wishes.stays && held.is_some() => return as_it_is(),
        Some(old) if wishes.stays && !takes_files(old) => return as_it_is(),
        Some(old) if is_there(look, old, wishes.picture.as_ref())? => return as_it_is(),
        _ => {}
    }
    let needed = wishes.picture.as_ref().map_or(0, Vec::len) as u64;
    let same = old.as_ref().filter(|old| takes_files(old)).cloned();
    let Some(spot) = same.or_else(|| spots(look, homes, needed).into_iter().next()) else {
        return without(Some(NO_PLACE));
    };
    let place = PicturePlace { path: spot.path.clone(), volume: look.stable_name(spot.volume)?.to_string() };
    let what = format!("write the picture, {}", look.at(spot.volume, &spot.path));
    let write = match wishes.picture.clone() {
        Some(bytes) => file_write(look, spot.volume, spot.path.clone(), bytes, what)?,
        None => None,
    };
    let moved = if old.as_ref() == Some(&spot) { Picture::default() } else { without(None)? };
    Ok(Picture { place: Some(place), write, ..moved })
}

/// Whether this is what stands there already.
fn is_there(look: &Look, spot: &Spot, picture: Option<&Vec<u8>>) -> Result<bool> {
    let Some(picture) = picture else { return Ok(true) };
    look.read_file(spot.volume, &spot.path, MAX_FILE).map(|there| there.as_ref() == Some(picture))
}

/// What is to be said where a picture of so many bytes would not be shown, since there is no place for its file. With UEFI firmware
/// there is one beside the boot program.
pub fn without_place(look: &Look, length: usize) -> Option<&'static str> {
    if look.survey.machine.firmware != FirmwareKind::Bios {
        return None;
    }
    let held = newest_at_home(look).and_then(|slot| spot_of(look, slot.picture.as_ref()?));
    (held.is_none() && spots(look, &[], length as u64).is_empty()).then_some(NO_PLACE)
}

/// The removal of the picture that a menu names, or why it stays.
///
/// # Errors
/// Where it cannot be read.
pub(super) fn remove(look: &Look, held: &PicturePlace) -> Result<(Option<FileWrite>, Option<String>)> {
    spot_of(look, held).map_or(Ok((None, None)), |spot| removal_of(look, &spot))
}

fn removal_of(look: &Look, spot: &Spot) -> Result<(Option<FileWrite>, Option<String>)> {
    let removal = removal(look, spot.volume, &spot.path, "the picture")?;
    if takes_files(look, spot.volume) {
        return Ok((removal, None));
    }
    let stays = |_| {
        let place = look.at(spot.volume, &spot.path);
        format!("the picture {place} stays: its volume is not mounted, or cannot safely be written to")
    };
    Ok((None, removal.map(stays)))
}

/// Where a menu says that it lies; nothing where that volume is not there.
fn spot_of(look: &Look, held: &PicturePlace) -> Option<Spot> {
    let volume = look.resolve(&VolumeRef::parse(&held.volume).ok()?).ok()?;
    look.reader(volume)?;
    Some(Spot { volume, path: held.path.clone() })
}

/// Where it can go: on a disk of the menu's own before all others, and where a Linux system keeps its boot files before a FAT.
fn spots(look: &Look, homes: &[DiskNumber], needed: u64) -> Vec<Spot> {
    let has_boot = look.survey.volumes.iter().any(|volume| is_mounted_at(volume, "/boot"));
    let mut found: Vec<((bool, u8), Spot)> = Vec::new();
    for (index, volume) in look.survey.volumes.iter().enumerate() {
        let Some((rank, path)) = path_on(volume, has_boot) else { continue };
        let takes_part = takes_files(look, index) && look.survey.takes_part(VolumeNumber::of_index(index));
        let has_room = |index| !volume.is_fat || look.room(index).is_ok_and(|room| fits(&room, needed));
        let can_be_named = look
            .stable_name(index)
            .is_ok_and(|name| PicturePlace { path: path.into(), volume: name.to_string() }.text().is_some());
        let is_readable = look.location(index).is_some() && look.reader(index).is_some();
        if takes_part && is_readable && can_be_named && has_room(index) {
            let is_elsewhere = !homes.contains(&volume.disk);
            found.push(((is_elsewhere, rank), Spot { volume: index, path: path.into() }));
        }
    }
    found.sort_by_key(|(rank, _)| *rank);
    found.into_iter().map(|(_, spot)| spot).collect()
}

/// Its path on a volume that can be written to, and how good that is.
fn path_on(volume: &Volume, has_boot: bool) -> Option<(u8, &'static str)> {
    match volume {
        _ if is_mounted_at(volume, "/boot") => Some((0, PICTURE_PATH_AT_BOOT)),
        _ if is_mounted_at(volume, "/") && !has_boot => Some((1, PICTURE_PATH_AT_ROOT)),
        _ if volume.is_fat => Some((2, PICTURE_PATH)),
        _ => None,
    }
}

/// Whether files can be written to a volume now, and safely.
fn takes_files(look: &Look, volume: usize) -> bool {
    look.survey.volumes[volume].takes_files() && safe::of_volume(look, volume).is_none()
}

/// Whether a file has room on a FAT, and two folders around it.
fn fits(room: &Room, needed: u64) -> bool {
    let clusters = needed.div_ceil(room.cluster.max(1)).saturating_add(2);
    clusters.saturating_mul(room.cluster) <= room.free && room.root_entries != Some(0)
}

fn is_mounted_at(volume: &Volume, point: &str) -> bool {
    volume.mounted.iter().any(|mounted| mounted == point)
}
