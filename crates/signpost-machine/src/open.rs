//! Which machine is meant: a bench, loose disk images, or the one that we run on.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use signpost_disk::block::SharedDevice;
use signpost_facts::{DiskNumber, FirmwareKind, Result};
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::store::MemoryStore;

use crate::machine::{Machine, MachineDisk, Running};
use crate::{bench, image, live};

impl Machine {
    /// Opens a bench.
    ///
    /// # Errors
    /// Where its `machine.toml` or its variables cannot be read. A disk that cannot is a finding instead.
    pub fn open_bench(folder: &Path) -> Result<Self> {
        bench::open(folder).map(Self::with_numbers)
    }

    /// The machine that we run on.
    pub fn live() -> Self {
        Self::live_below(Path::new("/"))
    }

    /// A machine as its kernel shows it below a folder: `/`, or one with copies of what stands there.
    pub fn live_below(folder: &Path) -> Self {
        live::open(folder).with_numbers()
    }

    /// Makes a bench of loose disks, images or devices, with an empty folder for variables: so that a disk of another machine can
    /// be worked on. The disks themselves are not touched.
    ///
    /// # Errors
    /// Where the folder is not empty, or a disk cannot be opened.
    pub fn make_bench(folder: &Path, images: &[PathBuf]) -> Result<()> {
        bench::make(folder, &images.iter().map(|image| loose_disk(image)).collect::<Vec<_>>())
    }

    /// A machine of loose disks, images or devices, of which nothing more is known.
    pub fn of_images(images: &[PathBuf]) -> Self {
        let mut disks: Vec<MachineDisk> = images.iter().map(|image| loose_disk(image)).collect();
        let machine = Self {
            name: "Loose disks".into(),
            firmware: FirmwareKind::Unknown,
            architecture: MachineType::X64,
            secure_boot: None,
            edd: Vec::new(),
            running: Running::default(),
            variables: Box::new(MemoryStore::default()),
            host: None,
            devices: live::for_loose(&mut disks),
            disks,
            folder: PathBuf::new(),
        };
        machine.with_numbers()
    }
}

/// An image by itself: the size of its sectors shows in where a GPT's header stands.
fn loose_disk(image: &Path) -> MachineDisk {
    let contents = image::ImageFile::open(image)
        .map(|file| Arc::new(file) as SharedDevice)
        .map_err(|error| error.to_string());
    let mut mark = [0; 8];
    let has_mark = |device: &SharedDevice| device.read_at(4096, &mut mark).is_ok() && mark == *b"EFI PART";
    let is_large = contents.as_ref().is_ok_and(has_mark);
    MachineDisk {
        number: DiskNumber(0),
        name: image.display().to_string(),
        bus: None,
        boot_place: None,
        is_removable: false,
        model: None,
        serial: None,
        path: None,
        sector_size: if is_large { 4096 } else { 512 },
        image: image.to_path_buf(),
        contents,
        node: None,
    }
}
