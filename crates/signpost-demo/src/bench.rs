//! A bench: disk images, firmware variables, `machine.toml`.

use std::fmt::Write as _;
use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

use signpost_disk::gpt::{self, Layout, NewPartition};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::device_path::{DevicePath, HardDrive, Node, PartitionSignature};
use signpost_firmware::store::{fd, kernel_file};
use signpost_firmware::variable::Variable;

use crate::volume::{self, Packed};

const SECTOR: u64 = 512;
/// Sectors before the first partition, and the step between partitions: 1 MiB.
const ALIGNMENT: u64 = 2048;

/// A bench to be made.
#[derive(Clone, Debug)]
pub struct BenchSpec {
    /// The machine's name.
    pub name: String,
    /// Its disks, in order.
    pub disks: Vec<DiskSpec>,
    /// Its firmware variables.
    pub variables: Vec<Variable>,
    /// How they are kept.
    pub store: StoreKind,
    /// Further lines of `machine.toml`, such as `[running]`.
    pub more: String,
    /// Rows for the bench's own catalogue.
    pub catalogue: &'static str,
    /// The bench's own recipes.
    pub recipes: &'static str,
}

/// How firmware variables are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StoreKind {
    /// A folder of files, as the Linux kernel shows them.
    Folder,
    /// One `.fd` store.
    Fd,
}

/// A disk to be made.
#[derive(Clone, Debug)]
pub struct DiskSpec {
    /// File name of the image.
    pub image: &'static str,
    /// How it is connected.
    pub bus: &'static str,
    /// Its model.
    pub model: &'static str,
    /// Its serial.
    pub serial: &'static str,
    /// Its GPT GUID.
    pub guid: Guid,
    /// Its partitions, numbered from 1.
    pub partitions: Vec<PartitionSpec>,
}

/// A partition to be made.
#[derive(Clone, Debug)]
pub struct PartitionSpec {
    /// Its own GUID.
    pub guid: Guid,
    /// What it is for.
    pub type_guid: Guid,
    /// Its name.
    pub name: &'static str,
    /// MiB.
    pub mebibytes: u64,
    /// What is in it.
    pub content: Content,
}

/// What is in a partition.
#[derive(Clone, Debug)]
pub enum Content {
    /// FAT with these files.
    Fat {
        /// Label, at most 11 characters.
        label: &'static str,
        /// Serial.
        serial: u32,
        /// Paths and contents.
        files: Vec<(String, Vec<u8>)>,
    },
    /// These bytes from its start on.
    Bytes(Vec<u8>),
    /// A packed volume.
    Packed(Packed),
}

impl Content {
    /// The files of a FAT; none of anything else.
    pub fn files(&self) -> &[(String, Vec<u8>)] {
        match self {
            Self::Fat { files, .. } => files,
            Self::Bytes(_) | Self::Packed(_) => &[],
        }
    }
}

impl PartitionSpec {
    /// An ESP.
    pub fn esp(
        guid: Guid,
        label: &'static str,
        serial: u32,
        mebibytes: u64,
        files: Vec<(String, Vec<u8>)>,
    ) -> Self {
        Self {
            guid,
            type_guid: partition_type::EFI_SYSTEM,
            name: "ESP",
            mebibytes,
            content: Content::Fat { label, serial, files },
        }
    }
}

impl DiskSpec {
    /// The sectors of a partition, by its number.
    fn sectors(&self, number: u32) -> (u64, u64) {
        let before: u64 = self.partitions.iter().take(number as usize - 1).map(|p| p.mebibytes).sum();
        let first = ALIGNMENT + before * ALIGNMENT;
        (first, first + self.partitions[number as usize - 1].mebibytes * ALIGNMENT - 1)
    }

    fn total_sectors(&self) -> u64 {
        let partitions: u64 = self.partitions.iter().map(|partition| partition.mebibytes).sum();
        (partitions + 2) * ALIGNMENT
    }

    /// The device path of a file on one of its partitions.
    pub fn path_to(&self, number: u32, file: &str) -> DevicePath {
        let (first, last) = self.sectors(number);
        let drive = HardDrive {
            number,
            start: first,
            size: last - first + 1,
            signature: PartitionSignature::Guid(self.partitions[number as usize - 1].guid),
        };
        DevicePath::new(vec![Node::hard_drive(&drive), Node::file_path(file)])
    }

    fn write(&self, folder: &Path) -> io::Result<()> {
        let file = File::create(folder.join(self.image))?;
        let sectors = self.total_sectors();
        file.set_len(sectors * SECTOR)?;
        let mut partitions = Vec::new();
        for (number, spec) in (1..).zip(&self.partitions) {
            let (first_lba, last_lba) = self.sectors(number);
            partitions.push(NewPartition {
                type_guid: spec.type_guid,
                guid: spec.guid,
                first_lba,
                last_lba,
                name: spec.name,
            });
            let at = first_lba * SECTOR;
            match &spec.content {
                Content::Fat { label, serial, files } => {
                    let bytes = volume::fat((spec.mebibytes << 20) as usize, label, *serial, files)?;
                    write_sparse(&file, at, &bytes)?;
                }
                Content::Bytes(bytes) => write_sparse(&file, at, bytes)?,
                Content::Packed(packed) => packed.write(&file, at)?,
            }
        }
        for (offset, bytes) in gpt::encode(&Layout { disk_guid: self.guid, sectors, partitions }) {
            file.write_all_at(&bytes, offset)?;
        }
        Ok(())
    }
}

impl BenchSpec {
    /// Makes the bench in a folder, which is made too.
    ///
    /// # Errors
    /// Where a file cannot be written.
    pub fn write(&self, folder: &Path) -> io::Result<()> {
        fs::create_dir_all(folder)?;
        for disk in &self.disks {
            disk.write(folder)?;
        }
        let variables = match self.store {
            StoreKind::Folder => {
                fs::create_dir_all(folder.join("variables"))?;
                for variable in &self.variables {
                    let path = folder.join("variables").join(kernel_file::file_name(&variable.name));
                    fs::write(path, kernel_file::encode(variable))?;
                }
                "variables"
            }
            StoreKind::Fd => {
                let mut image = fd::FdImage::decode(fd::blank()).map_err(io::Error::other)?;
                for variable in &self.variables {
                    image.write(variable).map_err(io::Error::other)?;
                }
                fs::write(folder.join("variables.fd"), image.bytes())?;
                "variables.fd"
            }
        };
        for (name, rows) in [("catalogue", self.catalogue), ("recipes", self.recipes)] {
            if !rows.is_empty() {
                fs::create_dir_all(folder.join(name))?;
                fs::write(folder.join(name).join("kestrel.toml"), rows)?;
            }
        }
        fs::write(folder.join("machine.toml"), self.machine_toml(variables))
    }

    fn machine_toml(&self, variables: &str) -> String {
        let mut text = format!(
            "format = 1\nname = \"{}\"\nfirmware = \"uefi\"\nvariables = \"{variables}\"\n{}",
            self.name, self.more
        );
        for disk in &self.disks {
            let DiskSpec { image, bus, model, serial, .. } = disk;
            let _ = write!(
                text,
                "\n[[disk]]\nimage = \"{image}\"\nsector-size = {SECTOR}\nbus = \"{bus}\"\nmodel = \"{model}\"\n\
                 serial = \"{serial}\"\n"
            );
        }
        text
    }
}

/// Writes only what is not zero, so that the image stays sparse.
fn write_sparse(file: &File, offset: u64, bytes: &[u8]) -> io::Result<()> {
    const PIECE: usize = 4096;
    const ZEROES: [u8; PIECE] = [0; PIECE];
    for (index, piece) in bytes.chunks(PIECE).enumerate() {
        if !ZEROES.starts_with(piece) {
            file.write_all_at(piece, offset + (index * PIECE) as u64)?;
        }
    }
    Ok(())
}
