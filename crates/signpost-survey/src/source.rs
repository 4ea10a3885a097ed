//! A volume's bytes, and opening it.

use signpost_disk::block::SharedDevice;
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::{FileSystem, VolumeError};
use signpost_disk::probe::Identity;
use signpost_machine::live::mounted::MountedVolume;
use signpost_machine::live::mounts::{self, Mount};
use signpost_place::VolumeReader;
use signpost_place::look::Room;
use signpost_place::reader::{Fault, Names};

use crate::guard::{guard, guarded};

/// A volume's bytes and what they are.
pub(crate) struct Source {
    pub(crate) device: Option<SharedDevice>,
    pub(crate) identity: Identity,
    pub(crate) is_broken: bool,
    /// Where it is mounted in the running system.
    pub(crate) mounts: Vec<Mount>,
    /// A FAT, opened already. Not where it is mounted: what was read may be older than what the system has written.
    pub(crate) fat: Option<FatVolume>,
}

impl signpost_place::look::Source for Source {
    fn open(&self, names: Names) -> Option<VolumeReader> {
        open(self, names).ok().flatten()
    }

    fn check(&self) -> Option<String> {
        let device = self.device.as_ref().filter(|_| self.mounts.is_empty())?;
        match guarded(|| FatVolume::open(device.clone()).and_then(|fat| fat.check())) {
            Ok(result) => result.err().map(|error| error.to_string()),
            Err(why) => Some(why),
        }
    }

    fn room(&self) -> Result<Room, String> {
        if let Some((free, cluster)) = mounts::free(&self.mounts) {
            return Ok(Room { free, cluster, root_entries: None });
        }
        let device = self.device.clone().ok_or("it cannot be read")?;
        let room = guarded(|| {
            let volume = FatVolume::open(device)?;
            let (free, root_entries) = (volume.free_bytes()?, volume.root_room()?);
            Ok(Room { free, cluster: volume.cluster_size(), root_entries })
        });
        room?.map_err(|error: VolumeError| error.to_string())
    }
}

/// Opens a volume; `None` where it is not of a kind that is looked into, or is known to be broken.
pub(crate) fn open(source: &Source, names: Names) -> Result<Option<VolumeReader>, Fault> {
    let raw = || {
        let device = source.device.as_ref().filter(|_| !source.is_broken)?;
        let opened = guarded(|| signpost_disk::open::file_system(device, &source.identity));
        opened.unwrap_or_else(|why| Some(Err(VolumeError::Corrupt(why))))
    };
    let fs: Option<Box<dyn FileSystem>> = if !source.mounts.is_empty() {
        let mounted = MountedVolume::open(&source.mounts, || raw()?.ok());
        mounted.map(|volume| Box::new(volume) as Box<dyn FileSystem>)
    } else if let Some(fat) = &source.fat {
        Some(Box::new(fat.clone()))
    } else {
        raw().transpose().map_err(Fault::of_all)?
    };
    Ok(fs.map(|fs| VolumeReader::new(fs, names, guard)))
}
