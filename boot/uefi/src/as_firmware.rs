//! The machine as the firmware's own rules of starting see it: what a load option leads to is judged here by the code that
//! judges it at the desk.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::file_system::VolumeError;
use signpost_firmware::device_path::DevicePath;
use signpost_firmware::image::loading;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::start::{DiskMatch, Hardware, Names, PartitionSeen, Program, Target, volume_path};

use crate::machine::Machine;
use crate::start::{OURS, PROGRAM_HEAD};

/// Partitions and files that the firmware shows; a partition's id is its volume's index.
pub struct AsFirmware<'a> {
    machine: &'a Machine,
    partitions: Vec<PartitionSeen>,
    disks: Vec<usize>,
}

impl<'a> AsFirmware<'a> {
    pub fn new(machine: &'a Machine) -> Self {
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
        let fs = match self.machine.file_system(partition) {
            Ok(fs) => fs,
            Err(why) => return Program::Unfit(why),
        };
        let head = match fs.read_head(&volume_path(path), PROGRAM_HEAD) {
            Ok(head) => head,
            Err(VolumeError::NotFound(_)) => return Program::Missing,
            Err(error) => return Program::Unfit(error.to_string()),
        };
        let size = fs.metadata(&volume_path(path)).map_or(0, |found| found.size);
        loading::becomes(&head, size, OURS)
    }

    /// Firmware's own entries name a disk by its whole path.
    fn disk_of(&self, path: &DevicePath, _: &str) -> DiskMatch {
        let found = self.machine.disks.iter().position(|disk| disk == path);
        found.map_or(DiskMatch::Unknown, DiskMatch::Disk)
    }

    fn spare_file_name(&self) -> &str {
        OURS.spare_file_name().unwrap_or(MachineType::X64_SPARE)
    }
}

impl Names for Machine {
    fn place(&self, partition: usize) -> String {
        self.volumes.get(partition).map(|volume| volume.whereabouts.clone()).unwrap_or_default()
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
