//! What partitions and files of a surveyed machine are called where the firmware's rules are explained.

use alloc::format;
use alloc::string::{String, ToString};

use signpost_disk::probe::VolumeKind;
use signpost_firmware::start::{Names, Target, volume_path};

use crate::look::Look;

impl Names for Look {
    fn name(&self, partition: usize) -> String {
        self.survey.volumes[partition].name.clone()
    }

    fn number(&self, partition: usize) -> u32 {
        self.survey.volumes[partition].partition.map_or(0, |number| number.0)
    }

    fn unreadable(&self, partition: usize) -> String {
        let volume = &self.survey.volumes[partition];
        if let Some((disk, entry)) = self.survey.partition_of(volume) {
            let why = entry.unseen.clone();
            let bare =
                || disk.table.is_unprotected.then(|| "its disk's GPT has no protective MBR".to_string());
            if let Some(why) = why.or_else(bare) {
                return format!("{why}, so the firmware does not see it");
            }
        }
        if let Some(why) = &volume.firmware_refuses {
            return format!("{why}, so the firmware does not read it");
        }
        // What firmware does not read anyway, is not the worse for being broken.
        let fault = volume.fault.clone().filter(|_| volume.holds_fat());
        let other = || match volume.kind {
            VolumeKind::Unknown => "it holds no file system that is known".to_string(),
            kind => format!("it holds {kind}, which firmware does not read"),
        };
        fault.unwrap_or_else(other)
    }

    /// The title of the system, or of what the file is else.
    fn title(&self, target: &Target) -> Option<String> {
        let index = self.survey.boot_file(target.partition, &volume_path(&target.path))?;
        let file = &self.survey.boot_files[index];
        let system = file.system.as_ref().and_then(|id| self.survey.system(id));
        Some(system.map_or_else(|| file.description.clone(), |system| system.title.clone()))
    }
}
