//! The machine that is worked on: for now a bench.

mod bench;
mod image;
mod variables;

use std::path::{Path, PathBuf};

use signpost_disk::block::SharedDevice;
use signpost_firmware::image::pe::MachineType;
use signpost_firmware::variable::VariableStore;
use signpost_menu::place::VolumeRef;

use crate::error::{Error, Result};

/// A machine, opened.
pub struct Machine {
    /// Its name.
    pub name: String,
    /// Its processor, as programs name it.
    pub architecture: MachineType,
    /// Whether Secure Boot is on, as the machine's description says.
    pub secure_boot: Option<bool>,
    /// Its disks, in its own order.
    pub disks: Vec<MachineDisk>,
    /// What the running system was started from.
    pub running: Running,
    /// Its firmware variables.
    pub variables: Box<dyn VariableStore>,
    folder: PathBuf,
}

/// A disk of the machine.
#[derive(Clone)]
pub struct MachineDisk {
    /// What it is called where there is no device name: its image.
    pub name: String,
    /// How it is connected.
    pub bus: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Its serial.
    pub serial: Option<String>,
    /// Bytes in a sector.
    pub sector_size: u32,
    /// Its contents, or why they cannot be read.
    pub contents: std::result::Result<SharedDevice, String>,
}

/// What the running system was started from, as far as the machine's description says it.
#[derive(Clone, Debug, Default)]
pub struct Running {
    /// The load option.
    pub entry: Option<u16>,
    /// The root volume.
    pub root: Option<VolumeRef>,
}

impl Machine {
    /// Opens a bench.
    ///
    /// # Errors
    /// Where its `machine.toml` or its variables cannot be read. A disk that cannot is a finding instead.
    pub fn open_bench(folder: &Path) -> Result<Self> {
        bench::open(folder)
    }

    /// The machine's own menu file.
    pub fn menu_file(&self) -> PathBuf {
        self.folder.join("menu.toml")
    }

    /// The folder of its history.
    pub fn history_folder(&self) -> PathBuf {
        self.folder.join("history")
    }

    /// The boot variables as they are now, what the machine's description adds included: where the
    /// variables say it, they win.
    ///
    /// # Errors
    /// Where the store cannot be read.
    pub fn contents(&self) -> Result<signpost_firmware::variable::Contents> {
        self.variables.read_all().map_err(Error::from)
    }
}
