//! The machine at boot as the firmware's own rules of starting see it.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::file_system::VolumeError;
use signpost_firmware::device_path::DevicePath;
use signpost_firmware::image::loading;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::start::{DiskMatch, Hardware, Names, PartitionSeen, Program, Target, volume_path};

use super::{BootMachine, PROGRAM_HEAD};
use crate::surroundings;
use crate::volumes::Volumes;

/// The machine as the firmware's own rules of starting see it: what a load option leads to is judged at boot by the code that
/// judges it at the desk. A partition's id is its volume's index.
pub(super) struct AsFirmware<'a> {
    machine: &'a BootMachine,
    partitions: Vec<PartitionSeen>,
    disks: Vec<usize>,
}

impl<'a> AsFirmware<'a> {
    pub(super) fn new(machine: &'a BootMachine) -> Self {
        let seen = machine.volumes.iter().enumerate().filter_map(|(id, volume)| {
            let drive = volume.drive.as_ref()?;
            Some(PartitionSeen {
                id,
                disk: volume.disk?,
                number: drive.number,
                signature: drive.signature,
                readable: volume.is_fat,
            })
        });
        Self { machine, partitions: seen.collect(), disks: (0..machine.disks.len()).collect() }
    }
}

impl Hardware for AsFirmware<'_> {
    fn partitions(&self) -> &[PartitionSeen] {
        &self.partitions
    }

    fn disks(&self) -> &[usize] {
        &self.disks
    }

    fn program(&self, partition: usize, path: &str, _: &[u8]) -> Program {
        let reader = match surroundings::reader(self.machine, partition) {
            Ok(reader) => reader,
            Err(why) => return Program::Unfit(why),
        };
        let path = volume_path(path);
        let head = match reader.read_head(&path, PROGRAM_HEAD) {
            Ok(head) => head,
            Err(VolumeError::NotFound(_)) => return Program::Missing,
            Err(error) => return Program::Unfit(error.to_string()),
        };
        let size = reader.metadata(&path).map_or(0, |found| found.size);
        loading::becomes(&head, size, self.machine.architecture)
    }

    /// Firmware's own entries name a disk by its whole path.
    fn disk_of(&self, path: &DevicePath, _: &str) -> DiskMatch {
        let found = self.machine.disks.iter().position(|disk| disk == path);
        found.map_or(DiskMatch::Unknown, DiskMatch::Disk)
    }

    fn fallback_file_name(&self) -> &str {
        self.machine.architecture.fallback_file_name().unwrap_or(MachineType::X64_FALLBACK)
    }
}

impl Names for BootMachine {
    fn name(&self, partition: usize) -> String {
        Volumes::name(self, partition)
    }

    fn number(&self, partition: usize) -> u32 {
        self.volumes.get(partition).and_then(|volume| volume.drive.as_ref()).map_or(0, |drive| drive.number)
    }

    fn unreadable(&self, partition: usize) -> String {
        let kind = self.volumes.get(partition).map(|volume| volume.volume.identity.kind.to_string());
        format!("holds {}, which firmware does not read", kind.unwrap_or_default())
    }

    fn title(&self, _: &Target) -> Option<String> {
        None
    }
}
