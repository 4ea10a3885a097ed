//! What desk and boot program say of a machine's volumes; all that stands around a menu is made of it.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_disk::probe::VolumeKind;
use signpost_firmware::bios::code::{FirstCode, SectorCode};
use signpost_firmware::image::pe::MachineType;
use signpost_menu::disk_number::DiskNumber;
use signpost_menu::place::{Nearness, VolumeIdentity};
use signpost_menu::resolve::{Firmware, LoadOptionSeen};

use crate::reader::VolumeReader;

/// A machine's volumes. Calls name them by their index.
pub trait Volumes {
    /// By what they can be named.
    fn identities(&self) -> &[VolumeIdentity];

    /// What a volume is; `None` where there is no such volume.
    fn seen(&self, volume: usize) -> Option<Seen<'_>>;

    /// The disks that a volume lies on: several, where it is a logical volume or an array.
    fn disks_of(&self, volume: usize) -> Vec<DiskNumber>;

    /// Whether a disk decides what the machine starts; one that can be taken along does not.
    fn takes_part(&self, disk: DiskNumber) -> bool;

    /// The name of a volume as people read and type it: `d1p2`.
    fn name(&self, volume: usize) -> String {
        self.identities().get(volume).map(|identity| identity.name.clone()).unwrap_or_default()
    }

    /// Ids of systems, each with the volume that is meant by it.
    fn system_ids(&self) -> Vec<(String, usize)>;

    /// Why nothing of a volume can be read, in words; nothing where it can, or is not of a kind that is looked into.
    fn fault(&self, volume: usize) -> Option<String>;

    /// A volume, opened; `None` where that is impossible.
    fn opened(&self, volume: usize) -> Option<&VolumeReader>;

    /// What a plan makes of a file: its contents, or nothing where it removes it; `None` where it leaves it alone.
    fn planned(&self, _volume: usize, _path: &str) -> Option<Option<&[u8]>> {
        None
    }

    /// The names of a folder's files that a plan writes or removes, each with whether it is there then.
    fn planned_in(&self, _volume: usize, _folder: &str) -> Vec<(&str, bool)> {
        Vec::new()
    }

    /// What the firmware runs.
    fn machine_type(&self) -> MachineType;

    /// The machine's firmware.
    fn firmware(&self) -> Firmware {
        Firmware::Uefi
    }

    /// A volume's boot sector, or that of the partition whose slice it is: what the partition is called, and its code. `None` where
    /// that is not known.
    fn sector(&self, _volume: usize) -> Option<(String, SectorCode)> {
        None
    }

    /// The first sector of the disk that a volume lies on: the disk's name, its code, and whether it is the one that shows the menu.
    /// `None` where that is not known.
    fn first_sector(&self, _volume: usize) -> Option<(String, FirstCode, bool)> {
        None
    }

    /// The firmware's load options, in the boot order first.
    fn options(&self) -> Vec<LoadOptionSeen>;
}

/// How near to the menu each volume lies, whose home lies on these disks.
pub fn nearness(volumes: &impl Volumes, homes_disks: &[DiskNumber]) -> Vec<Nearness> {
    let of = |volume| {
        let disks = volumes.disks_of(volume);
        if disks.iter().any(|disk| homes_disks.contains(disk)) {
            Nearness::HomesDisk
        } else if disks.iter().all(|disk| volumes.takes_part(*disk)) {
            Nearness::Machine
        } else {
            Nearness::Plugged
        }
    };
    (0..volumes.identities().len()).map(of).collect()
}

/// What is known of a volume without opening it.
#[derive(Clone, Copy, Debug)]
pub struct Seen<'a> {
    /// Kind of its file system.
    pub kind: VolumeKind,
    /// Its label.
    pub label: Option<&'a str>,
    /// Bytes.
    pub size: u64,
    /// The number of its disk, where it is a partition.
    pub disk: Option<DiskNumber>,
    /// Whether it lies in an extended boot partition.
    pub is_extended_boot: bool,
}
