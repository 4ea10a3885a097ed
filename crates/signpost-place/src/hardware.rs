//! A surveyed machine as the firmware sees it.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_disk::Guid;
use signpost_disk::file_system::VolumeError;
use signpost_facts::DiskNumber;
use signpost_facts::change::FileWrite;
use signpost_facts::secure_boot::Verdict;
use signpost_firmware::device_path::{DevicePath, PartitionSignature, View};
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::image::{linux, loading};
use signpost_firmware::start::{DiskMatch, Hardware, PartitionSeen, Program, volume_path};
use signpost_firmware::ucs2::Ucs2;
use signpost_menu::place::VolumeRef;

use crate::look::Look;
use crate::reader::VolumeReader;

/// Bytes of a program in which its headers lie.
pub const HEAD: usize = 64 * 1024;

/// No kernel inside an image is longer, in bytes.
const MAX_KERNEL: usize = 256 << 20;

/// Partitions and files of a survey; a partition's id is its volume's index, a disk's its number.
pub struct SurveyedHardware<'a> {
    look: &'a Look,
    partitions: Vec<PartitionSeen>,
    disks: Vec<usize>,
    /// Files that a plan would put there or remove: volume, path, contents.
    planned: Vec<(usize, String, Option<&'a [u8]>)>,
}

fn id_of_disk(number: DiskNumber) -> usize {
    usize::try_from(number.0).unwrap_or(usize::MAX)
}

/// The number of the disk that the firmware's rules know by this id.
pub fn disk_of_id(id: usize) -> DiskNumber {
    DiskNumber(u32::try_from(id).unwrap_or(u32::MAX))
}

impl<'a> SurveyedHardware<'a> {
    /// The machine as surveyed.
    pub fn new(look: &'a Look) -> Self {
        let survey = &look.survey;
        let mut partitions = Vec::new();
        for disk in &survey.disks {
            for partition in &disk.partitions {
                let Some(volume) = partition.volume else { continue };
                let signature =
                    disk.path_signature(partition).unwrap_or(PartitionSignature::Guid(Guid::ZERO));
                partitions.push(PartitionSeen {
                    id: volume.index(),
                    disk: id_of_disk(disk.number),
                    number: partition.firmware_number,
                    signature,
                    readable: survey.volumes[volume.index()].firmware_reads,
                });
            }
        }
        let disks = survey.disks.iter().map(|disk| id_of_disk(disk.number)).collect();
        Self { look, partitions, disks, planned: Vec::new() }
    }

    /// The same, with files that a plan would write or remove.
    pub fn with_planned(mut self, writes: &'a [FileWrite]) -> Self {
        let planned = writes.iter().filter_map(|write| {
            let volume = VolumeRef::parse(&write.volume).ok()?;
            let volume = self.look.resolve(&volume).ok()?;
            Some((volume, write.path.clone(), write.after.as_deref()))
        });
        self.planned = planned.collect();
        self
    }

    /// The same, with the tables of these disks corrected: the firmware sees their partitions then.
    pub fn with_tables(mut self, disks: &[DiskNumber]) -> Self {
        for seen in &mut self.partitions {
            let Some(volume) = self.look.survey.volumes.get(seen.id) else { continue };
            let unseen = self.look.survey.partition_of(volume).and_then(|(_, own)| own.unseen.as_ref());
            seen.readable |= disks.contains(&volume.disk)
                && volume.is_fat
                && volume.firmware_refuses.is_none()
                && unseen.is_none();
        }
        self
    }

    /// What a plan makes of a file: its contents, or nothing where it removes it; `None` where it leaves it alone.
    pub fn planned(&self, partition: usize, path: &str) -> Option<Option<&'a [u8]>> {
        if self.planned.is_empty() {
            return None;
        }
        let path = path.to_lowercase();
        let is_it = |file: &&(usize, String, _)| file.0 == partition && file.1.to_lowercase() == path;
        self.planned.iter().find(is_it).map(|file| file.2)
    }

    /// The names of a folder's files that a plan writes or removes, each with whether it is there then.
    pub fn planned_in(&self, partition: usize, folder: &str) -> Vec<(&str, bool)> {
        let folder = folder.trim_end_matches('/').to_lowercase();
        let its = self.planned.iter().filter(|(volume, ..)| *volume == partition);
        let named = its.filter_map(|(_, path, bytes)| Some((path.rsplit_once('/')?, bytes.is_some())));
        let inside = named.filter(|((within, _), _)| within.to_lowercase() == folder);
        inside.map(|((_, name), is_there)| (name, is_there)).collect()
    }

    /// A file's first bytes and its length, planned or there.
    fn head(&self, partition: usize, path: &str) -> Result<(Vec<u8>, u64), VolumeError> {
        let path = volume_path(path);
        match self.planned(partition, &path) {
            Some(Some(bytes)) => {
                return Ok((bytes.iter().take(HEAD).copied().collect(), bytes.len() as u64));
            }
            Some(None) => return Err(VolumeError::NotFound(path)),
            None => {}
        }
        if self.look.surely_lacks(partition, &path) {
            return Err(VolumeError::NotFound(path));
        }
        match self.look.reader(partition) {
            Some(reader) => Ok((reader.read_head(&path, HEAD)?, reader.metadata(&path)?.size)),
            None => Err(VolumeError::Unsupported("its file system cannot be read".into())),
        }
    }

    /// What becomes of a program with this start and length; `verdict` is what Secure Boot says of all of it, where it is on.
    fn judge(
        &self,
        (head, size): (&[u8], u64),
        verdict: impl FnOnce() -> Option<Result<Verdict, VolumeError>>,
    ) -> Program {
        let loaded = loading::becomes(head, size, self.look.architecture);
        if matches!(loaded, Program::Unfit(_)) {
            return loaded;
        }
        match verdict() {
            None | Some(Ok(Verdict::Accepted(_))) => loaded,
            Some(Ok(refused @ Verdict::Refused(_))) => Program::Unfit(refused.text()),
            Some(Ok(unsure @ Verdict::CannotTell { .. })) => Program::CannotTell(unsure.text()),
            Some(Err(error)) => {
                Program::CannotTell(format!("Secure Boot is on, and the file cannot be read whole: {error}"))
            }
        }
    }
}

/// A kernel's stub reads the initrds that its arguments name from its own volume, and gives up where one is
/// not there.
fn missing_initrd(reader: &VolumeReader, head: &[u8], data: &[u8]) -> Option<String> {
    linux::decode(head)?;
    let arguments = Ucs2::decode_lenient(data).to_string();
    let mut initrds =
        arguments.split_whitespace().filter_map(|word| word.strip_prefix("initrd=")).map(volume_path);
    let missing = initrds.find(|path| !reader.has_file(path))?;
    Some(format!("its arguments name the initrd {missing}, which is not there; the kernel gives up"))
}

impl SurveyedHardware<'_> {
    /// What becomes of a kernel inside an image file.
    pub fn kernel_inside(&self, volume: usize, image: &str, path: &str) -> Program {
        let inner = self.look.reader(volume).and_then(|reader| reader.inside(image).ok()).unwrap_or_default();
        let mut files = inner.into_iter().filter_map(|(_, reader)| reader?.read(path, MAX_KERNEL).ok());
        files.next().map_or(Program::Missing, |file| {
            self.judge((&file, file.len() as u64), || self.look.secure_boot_verdict_of(&file).map(Ok))
        })
    }
}

impl Hardware for SurveyedHardware<'_> {
    fn partitions(&self) -> &[PartitionSeen] {
        &self.partitions
    }

    fn disks(&self) -> &[usize] {
        &self.disks
    }

    fn program(&self, partition: usize, path: &str, data: &[u8]) -> Program {
        let file = volume_path(path);
        let verdict = || match self.planned(partition, &file) {
            Some(bytes) => self.look.secure_boot_verdict_of(bytes.unwrap_or_default()).map(Ok),
            None => self.look.secure_boot_verdict(partition, &file),
        };
        match self.head(partition, path) {
            Ok((head, size)) => match (self.judge((&head, size), verdict), self.look.reader(partition)) {
                (Program::Starts, Some(reader)) => {
                    missing_initrd(reader, &head, data).map_or(Program::Starts, Program::Unfit)
                }
                (other, _) => other,
            },
            Err(VolumeError::NotFound(_)) => Program::Missing,
            Err(error) => Program::Unfit(error.to_string()),
        }
    }

    /// Firmware names disks in its own labels by model and serial; where a disk is plugged in tells it from all others.
    fn disk_of(&self, path: &DevicePath, label: &str) -> DiskMatch {
        let disks = &self.look.survey.disks;
        let text = path.disk_text();
        if let Some(disk) = disks.iter().find(|disk| text.is_some() && disk.path == text) {
            return DiskMatch::Disk(id_of_disk(disk.number));
        }
        let named = |serial: &Option<String>| {
            serial.as_ref().is_some_and(|serial| !serial.is_empty() && label.contains(serial.as_str()))
        };
        let mut matching = disks.iter().filter(|disk| named(&disk.serial));
        match (matching.next(), matching.next()) {
            (Some(disk), None) => DiskMatch::Disk(id_of_disk(disk.number)),
            (Some(_), Some(_)) => DiskMatch::Unknown,
            (None, _) => {
                let names_serial =
                    path.views().any(|view| matches!(view, View::Nvme { .. } | View::Sata { .. }));
                let all_known = disks.iter().all(|disk| disk.serial.is_some());
                if names_serial && all_known { DiskMatch::Gone } else { DiskMatch::Unknown }
            }
        }
    }

    fn fallback_file_name(&self) -> &str {
        self.look.architecture.fallback_file_name().unwrap_or(MachineType::X64_FALLBACK)
    }
}
