//! A Linux system that was found, with what is its.

use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::linux_system::{LinuxKernel, LinuxSystem};

use super::arguments::Arguments;
use super::kernels::FoundKernel;
use crate::volumes::Volumes;

/// A Linux system.
#[derive(Clone, Debug)]
pub struct FoundSystem {
    /// The volume of its root, and the root's place among those of the volume; none where only entry files show it.
    pub root: Option<(usize, usize)>,
    /// Its title.
    pub title: String,
    /// Its `ID`.
    pub id: String,
    /// Names of systems that it is made from.
    pub id_like: Vec<String>,
    /// The file that says so: volume and path.
    pub release: (usize, String),
    /// Its root on that volume: `/`, or a subvolume's path.
    pub root_path: String,
    /// When it was made as a copy of another one, in seconds since 1970; 0 where that is not known. `None` for one that is no
    /// copy.
    pub snapshot: Option<i64>,
    /// The volume that it mounts at `/boot`.
    pub boot: Option<usize>,
    /// All volumes that it mounts.
    pub mounts: Vec<usize>,
    /// Its kernels: the newest that has all that goes with it first, those for rescue last.
    pub kernels: Vec<SystemKernel>,
    /// Its arguments, for the first of them.
    pub arguments: Option<Arguments>,
    /// The entry files that start it: volume, and place among those of the volume.
    pub entry_files: Vec<(usize, usize)>,
}

/// A kernel of a system.
#[derive(Clone, Debug)]
pub struct SystemKernel {
    /// Its volume.
    pub volume: usize,
    /// The kernel.
    pub kernel: FoundKernel,
    /// Its own arguments, where they are not its system's.
    pub arguments: Option<Arguments>,
}

impl FoundSystem {
    /// As a start needs it.
    pub fn as_started(&self, volumes: &impl Volumes) -> LinuxSystem {
        let kernel = |own: &SystemKernel| LinuxKernel {
            args: own.arguments.as_ref().map(|arguments| arguments.text.clone()),
            ..own.kernel.as_started(own.volume)
        };
        LinuxSystem {
            title: self.title.clone(),
            root: self.root.map(|(volume, _)| volume),
            root_path: self.root_path.clone(),
            is_snapshot: self.snapshot.is_some(),
            kernels: self.kernels.iter().map(kernel).collect(),
            args: self.arguments.as_ref().map(|arguments| arguments.text.clone()).unwrap_or_default(),
            args_from: self
                .arguments
                .as_ref()
                .map(|arguments| arguments.words(|volume| volumes.name(volume)))
                .unwrap_or_default(),
        }
    }
}
