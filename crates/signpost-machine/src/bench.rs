//! `machine.toml`: a folder that stands in for a machine.

use std::fs;
use std::path::Path;
use std::sync::Arc;

use serde::Deserialize;
use signpost_disk::block::SharedDevice;
use signpost_facts::DiskNumber;
use signpost_facts::error::{Error, Result};
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::store::MemoryStore;
use signpost_firmware::variable::VariableStore;
use signpost_menu::place::VolumeRef;

use crate::image::ImageFile;
use crate::machine::{FirmwareKind, Machine, MachineDisk, Running};
use crate::os_words::in_words;
use crate::variables::{FdFile, FolderStore};
use crate::{durable, files, live};

const FORMAT: i64 = 1;
/// Bytes of a bench's description.
const MAX_FILE: u64 = 1 << 20;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct MachineFile {
    format: i64,
    name: String,
    firmware: Firmware,
    #[serde(default)]
    architecture: Architecture,
    variables: Option<String>,
    secure_boot: Option<bool>,
    /// The disks in the order in which BIOS firmware tries them, by their place in this file.
    #[serde(default)]
    order: Vec<usize>,
    #[serde(default)]
    running: RunningSection,
    #[serde(default)]
    disk: Vec<DiskSection>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Firmware {
    Uefi,
    Bios,
}

#[derive(Deserialize, Default)]
#[serde(rename_all = "snake_case")]
enum Architecture {
    #[default]
    #[serde(rename = "x86_64")]
    X64,
    X86,
    Aarch64,
    Riscv64,
}

#[derive(Deserialize, Default)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RunningSection {
    entry: Option<String>,
    root: Option<String>,
    command_line: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct DiskSection {
    image: String,
    #[serde(default = "default_sector_size")]
    sector_size: u32,
    bus: Option<String>,
    removable: Option<bool>,
    model: Option<String>,
    serial: Option<String>,
    path: Option<String>,
}

fn default_sector_size() -> u32 {
    512
}

pub(super) fn open(folder: &Path) -> Result<Machine> {
    let path = folder.join("machine.toml");
    let text = files::read_text(&path, MAX_FILE).map_err(|error| Error::unusable(path.display(), error))?;
    let none = "not a bench: it has no machine.toml; `signpost demo DIR` makes a bench to look at";
    let text = text.ok_or_else(|| Error::unusable(folder.display(), none))?;
    let file: MachineFile = toml::from_str(&text).map_err(|error| {
        let place = match error.span() {
            Some(span) => format!("{}, line {}", path.display(), line_of(&text, span.start)),
            None => path.display().to_string(),
        };
        Error::Unusable { place, why: error.message().to_string() }
    })?;
    let wrong = |why: String| Error::unusable(path.display(), why);
    if file.format != FORMAT {
        return Err(wrong(format!("format is {}; this program reads format {FORMAT}", file.format)));
    }
    let bad_size = |disk: &&DiskSection| {
        !disk.sector_size.is_power_of_two() || !(512..=4096).contains(&disk.sector_size)
    };
    if let Some(disk) = file.disk.iter().find(bad_size) {
        let why = format!("{}: sector-size is {}; disks have 512 or 4096", disk.image, disk.sector_size);
        return Err(wrong(why));
    }
    let (firmware, variables) = match (&file.firmware, &file.variables) {
        (Firmware::Uefi, Some(variables)) => (FirmwareKind::Uefi, open_variables(&folder.join(variables))?),
        (Firmware::Uefi, None) => {
            return Err(wrong("it says no variables, the file or folder of its UEFI variables".into()));
        }
        (Firmware::Bios, None) => {
            (FirmwareKind::Bios, Box::new(MemoryStore::default()) as Box<dyn VariableStore>)
        }
        (Firmware::Bios, Some(_)) => return Err(wrong("variables: BIOS firmware has none".into())),
    };
    let mut disks: Vec<MachineDisk> = file.disk.into_iter().map(|disk| open_disk(folder, disk)).collect();
    set_order(&mut disks, &file.order, firmware).map_err(&wrong)?;
    // One that is a device may be mounted here.
    let devices = live::for_loose(&mut disks);
    Ok(Machine {
        name: file.name,
        architecture: match file.architecture {
            Architecture::X64 => MachineType::X64,
            Architecture::X86 => MachineType::IA32,
            Architecture::Aarch64 => MachineType::AA64,
            Architecture::Riscv64 => MachineType::RISCV64,
        },
        secure_boot: file.secure_boot,
        edd: Vec::new(),
        running: running(&file.running).map_err(wrong)?,
        firmware,
        variables,
        disks,
        host: None,
        devices,
        folder: folder.to_path_buf(),
    })
}

/// Writes the description of a bench of these disks.
pub(super) fn make(folder: &Path, disks: &[MachineDisk]) -> Result<()> {
    let wrong = |why: &str| Error::unusable(folder.display(), why);
    if folder.read_dir().is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(wrong("it is not empty; a bench is made in an empty folder, or one that is not there"));
    }
    let mut text = format!("format = {FORMAT}\nname = \"Disks of another machine\"\nfirmware = \"uefi\"\n");
    text.push_str("variables = \"variables\"    # empty: what its own firmware holds is not known here\n");
    for disk in disks {
        if let Err(why) = &disk.contents {
            return Err(Error::unusable(disk.image.display(), why));
        }
        let image = std::path::absolute(&disk.image).map_err(|error| Error::unusable(&disk.name, error))?;
        // A JSON string is a TOML one.
        let image = serde_json::to_string(&image.to_string_lossy()).unwrap_or_default();
        text.push_str(&format!("\n[[disk]]\nimage = {image}\nsector-size = {}\n", disk.sector_size));
    }
    let failed = |error: std::io::Error| Error::unusable(folder.display(), in_words(error));
    fs::create_dir_all(folder.join("variables")).map_err(failed)?;
    durable::write_durably(&folder.join("machine.toml"), text.as_bytes())
}

fn running(section: &RunningSection) -> std::result::Result<Running, String> {
    let entry = section.entry.as_ref().map(|entry| {
        let digits = entry.strip_prefix("Boot").unwrap_or(entry);
        u16::from_str_radix(digits, 16).map_err(|_| {
            format!("[running] entry is \"{entry}\"; it takes an entry's number, such as \"0004\"")
        })
    });
    let root = section
        .root
        .as_ref()
        .map(|root| VolumeRef::parse(root).map_err(|error| format!("[running] root: {error}")));
    let command_line = section.command_line.clone();
    Ok(Running { entry: entry.transpose()?, root: root.transpose()?, command_line, ..Running::default() })
}

fn open_variables(path: &Path) -> Result<Box<dyn VariableStore>> {
    if path.is_dir() {
        Ok(Box::new(FolderStore::new(path.to_path_buf())))
    } else {
        Ok(Box::new(FdFile::open(path)?))
    }
}

/// Notes the order in which BIOS firmware tries the disks.
fn set_order(
    disks: &mut [MachineDisk],
    order: &[usize],
    firmware: FirmwareKind,
) -> std::result::Result<(), String> {
    if !order.is_empty() && firmware != FirmwareKind::Bios {
        return Err("order: UEFI firmware has its order in the variable BootOrder".into());
    }
    let count = disks.len();
    for (place, number) in order.iter().enumerate() {
        let disk = number.checked_sub(1).and_then(|index| disks.get_mut(index));
        let disk =
            disk.ok_or_else(|| format!("order: there is no disk {number} in this file; it has {count}"))?;
        if disk.boot_place.replace(place).is_some() {
            return Err(format!("order: disk {number} is named twice"));
        }
    }
    Ok(())
}

fn open_disk(folder: &Path, disk: DiskSection) -> MachineDisk {
    let image = folder.join(&disk.image);
    let contents = ImageFile::open(&image)
        .map(|image| Arc::new(image) as SharedDevice)
        .map_err(|error| error.to_string());
    let DiskSection { image: name, sector_size, bus, removable, model, serial, path } = disk;
    let is_removable = removable.unwrap_or(bus.as_deref() == Some("usb"));
    MachineDisk {
        number: DiskNumber(0),
        name,
        bus,
        boot_place: None,
        is_removable,
        model,
        serial,
        path,
        sector_size,
        image,
        contents,
        node: None,
    }
}

fn line_of(text: &str, at: usize) -> usize {
    text.get(..at).unwrap_or(text).matches('\n').count() + 1
}
