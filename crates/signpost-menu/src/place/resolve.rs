//! Finding the volume that a name means.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::VolumeRef;
use crate::nearest::nearest;

/// Volumes of one name that are listed.
const MAX_PLACES: usize = 6;

/// How near to the menu a volume lies. Of several volumes that a name fits, as those of a disk and of its copy, the nearest is
/// meant; a copy that is plugged in changes nothing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum Nearness {
    /// On the disk of the home volume.
    HomesDisk,
    /// On another disk of the machine's own.
    #[default]
    Machine,
    /// On a disk that can be taken along.
    Plugged,
}

/// All by which a volume can be named.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VolumeIdentity {
    /// Its name as people read and type it: `d1p2`, `kestrel/tidewater`.
    pub name: String,
    /// Its device in the running system: `/dev/nvme0n1p2`.
    pub device: Option<String>,
    /// File-system UUID or serial.
    pub uuid: Option<String>,
    /// File-system label.
    pub label: Option<String>,
    /// Partition GUID.
    pub part_uuid: Option<String>,
    /// Partition name.
    pub part_label: Option<String>,
    /// Group and name of a logical volume.
    pub lv: Option<(String, String)>,
    /// The disk's serial.
    pub disk_serial: Option<String>,
    /// Whether the boot program can ask for that.
    pub is_serial_seen_at_boot: bool,
    /// Where the disk is plugged in: its device path's text.
    pub disk_path: Option<String>,
    /// The disk's GUID.
    pub disk_guid: Option<String>,
    /// Partition number on the disk.
    pub partition: Option<u32>,
    /// Whether it is the home volume.
    pub is_home: bool,
    /// How near to the menu it lies.
    pub nearness: Nearness,
}

impl VolumeIdentity {
    fn is(&self, volume: &VolumeRef) -> bool {
        let same = |ours: &Option<String>, wanted: &str| {
            ours.as_ref().is_some_and(|ours| ours.eq_ignore_ascii_case(wanted))
        };
        match volume {
            VolumeRef::Uuid(value) => same(&self.uuid, value),
            VolumeRef::PartUuid(value) => same(&self.part_uuid, value),
            VolumeRef::Label(value) => self.label.as_ref() == Some(value),
            VolumeRef::PartLabel(value) => self.part_label.as_ref() == Some(value),
            VolumeRef::Lv(group, name) => self.lv.as_ref().is_some_and(|lv| lv.0 == *group && lv.1 == *name),
            VolumeRef::Disk(serial, number) => {
                self.disk_serial.as_ref() == Some(serial) && self.partition == Some(*number)
            }
            VolumeRef::DiskId(guid, number) => same(&self.disk_guid, guid) && self.partition == Some(*number),
            VolumeRef::Path(path, number) => same(&self.disk_path, path) && self.partition == Some(*number),
            VolumeRef::Home => self.is_home,
            VolumeRef::Name(name) => self.name.eq_ignore_ascii_case(name),
        }
    }

    /// Every stable name, the one that says most first.
    pub fn names(&self) -> Vec<VolumeRef> {
        let with_number = |id: &Option<String>| Some((id.clone()?, self.partition?));
        [
            self.uuid.clone().map(VolumeRef::Uuid),
            self.lv.clone().map(|(group, name)| VolumeRef::Lv(group, name)),
            self.part_uuid.clone().map(VolumeRef::PartUuid),
            with_number(&self.disk_guid).map(|(guid, number)| VolumeRef::DiskId(guid, number)),
            with_number(&self.disk_serial).map(|(serial, number)| VolumeRef::Disk(serial, number)),
            self.label.clone().map(VolumeRef::Label),
            self.part_label.clone().map(VolumeRef::PartLabel),
            with_number(&self.disk_path).map(|(path, number)| VolumeRef::Path(path, number)),
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

/// Why a name means no one volume.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unresolved {
    /// No volume has it.
    #[error("no volume is {wanted}{}", near.as_ref().map(|near| format!("; there is {near}")).unwrap_or_default())]
    None {
        /// The name.
        wanted: String,
        /// A volume that may be meant.
        near: Option<String>,
    },
    /// Several have it.
    #[error("{wanted} is ambiguous: it fits {count} volumes, {}{}", places.join(", "), if *count > places.len() { ", …" } else { "" })]
    Several {
        /// The name.
        wanted: String,
        /// How many have it.
        count: usize,
        /// A place for each of the first that tells it from the others.
        places: Vec<String>,
    },
}

impl Unresolved {
    /// These volumes all fit a name.
    pub(super) fn several(wanted: &str, fitting: &[usize], volumes: &[VolumeIdentity]) -> Self {
        // Telling one apart takes comparing it with all others: a few are enough to see what is meant.
        let places = fitting.iter().take(MAX_PLACES).filter_map(|index| {
            let told = stable(*index, volumes).map(|name| format!(" ({name})")).unwrap_or_default();
            Some(format!("{}{told}", volumes.get(*index)?.name))
        });
        Self::Several { wanted: wanted.to_string(), count: fitting.len(), places: places.collect() }
    }
}

/// The index of the one volume that this name means: the nearest of those that it fits.
///
/// # Errors
/// Where it fits none, or several that are equally near.
pub fn resolve(volume: &VolumeRef, volumes: &[VolumeIdentity]) -> Result<usize, Unresolved> {
    let mut found = nearest_of(volume, volumes);
    let wanted = volume.to_string();
    match (found.next(), found.next()) {
        (Some((index, _)), None) => Ok(index),
        (None, _) => Err(Unresolved::None { near: near(volume, volumes), wanted }),
        (Some(first), Some(second)) => {
            let all: Vec<usize> = [first, second].into_iter().chain(found).map(|(index, _)| index).collect();
            Err(Unresolved::several(&wanted, &all, volumes))
        }
    }
}

/// Those volumes of a name that are nearest to the menu.
fn nearest_of<'v>(
    volume: &VolumeRef,
    volumes: &'v [VolumeIdentity],
) -> impl Iterator<Item = (usize, &'v VolumeIdentity)> + Clone {
    let fitting: Vec<_> = volumes.iter().enumerate().filter(|(_, identity)| identity.is(volume)).collect();
    let nearest = fitting.iter().map(|(_, identity)| identity.nearness).min();
    fitting.into_iter().filter(move |(_, identity)| Some(identity.nearness) == nearest)
}

/// The first name of this volume that means it, and no other volume.
pub fn stable(index: usize, volumes: &[VolumeIdentity]) -> Option<VolumeRef> {
    let names = volumes.get(index)?.names();
    let means_it = |name: &VolumeRef| {
        let mut meant = nearest_of(name, volumes);
        meant.next().is_some_and(|(first, _)| first == index) && meant.next().is_none()
    };
    names.into_iter().find(means_it)
}

/// How many volumes a name fits, near or not.
pub fn count(volume: &VolumeRef, volumes: &[VolumeIdentity]) -> usize {
    volumes.iter().filter(|identity| identity.is(volume)).count()
}

/// A name of the same kind that is nearly the wanted one.
fn near(volume: &VolumeRef, volumes: &[VolumeIdentity]) -> Option<String> {
    let wanted = volume.to_string();
    let kind = wanted.split_once(':')?.0;
    let names: Vec<String> = volumes
        .iter()
        .flat_map(VolumeIdentity::names)
        .map(|name| name.to_string())
        .filter(|name| name.split_once(':').is_some_and(|(its_kind, _)| its_kind == kind))
        .collect();
    nearest(&wanted, names.iter().map(String::as_str)).map(ToString::to_string)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn volume(name: &str, uuid: &str, label: &str, disk: &str) -> VolumeIdentity {
        VolumeIdentity {
            name: name.into(),
            uuid: Some(uuid.into()),
            label: Some(label.into()),
            disk_serial: Some(disk.into()),
            partition: Some(1),
            ..VolumeIdentity::default()
        }
    }

    #[test]
    fn clones_are_named_both_with_places_that_tell_them_apart() {
        let volumes = [volume("d1p1", "4F2A-11C9", "TIDE", "A"), volume("d2p1", "4F2A-11C9", "TIDE", "B")];
        let error = resolve(&VolumeRef::Uuid("4f2a-11c9".into()), &volumes).unwrap_err();
        assert_eq!(
            error.to_string(),
            "uuid:4f2a-11c9 is ambiguous: it fits 2 volumes, d1p1 (disk:A#1), d2p1 (disk:B#1)"
        );
        assert_eq!(stable(1, &volumes), Some(VolumeRef::Disk("B".into(), 1)));
    }

    #[test]
    fn of_a_volume_and_its_copies_the_nearest_is_meant() {
        let mut volumes = [
            volume("d1p1", "4F2A-11C9", "TIDE", "A"),
            volume("d2p1", "4F2A-11C9", "TIDE", "B"),
            volume("d3p1", "4F2A-11C9", "TIDE", "C"),
        ];
        let uuid = VolumeRef::Uuid("4f2a-11c9".into());
        volumes[0].nearness = Nearness::Plugged;
        assert!(resolve(&uuid, &volumes).is_err(), "two of the machine's own are equally near");
        volumes[1].nearness = Nearness::HomesDisk;
        assert_eq!((resolve(&uuid, &volumes), count(&uuid, &volumes)), (Ok(1), 3));
        assert_eq!(stable(1, &volumes), Some(VolumeRef::Uuid("4F2A-11C9".into())));
        assert_eq!(stable(0, &volumes), Some(VolumeRef::Disk("A".into(), 1)));
    }

    #[test]
    fn a_name_that_is_off_by_a_letter_offers_the_right_one() {
        let volumes = [volume("d1p1", "4F2A-11C9", "TIDE", "A"), volume("d2p1", "0000-0001", "GAUGE", "B")];
        let error = resolve(&VolumeRef::Label("TIDES".into()), &volumes).unwrap_err();
        assert_eq!(error.to_string(), "no volume is label:TIDES; there is label:TIDE");
        assert_eq!(resolve(&VolumeRef::Name("d2p1".into()), &volumes), Ok(1));
        assert!(resolve(&VolumeRef::Home, &volumes).is_err());
    }
}
