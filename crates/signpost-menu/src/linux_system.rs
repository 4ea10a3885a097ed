//! A Linux system as a start needs it.

use alloc::string::String;
use alloc::vec::Vec;

/// A Linux system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinuxSystem {
    /// Its title.
    pub title: String,
    /// The volume of its root; none where only its entry files show it.
    pub root: Option<usize>,
    /// Its root on that volume: `/`, or a subvolume's path.
    pub root_path: String,
    /// Whether it is a copy of another one as that was once.
    pub is_snapshot: bool,
    /// Its kernels: the newest that has all that goes with it first, those for rescue last.
    pub kernels: Vec<LinuxKernel>,
    /// Its arguments.
    pub args: String,
    /// Where they come from.
    pub args_from: String,
}

/// A kernel, with what goes with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinuxKernel {
    /// Its volume.
    pub volume: usize,
    /// Its path.
    pub path: String,
    /// Its version.
    pub version: String,
    /// Its initrds, in the kernel's order.
    pub initrds: Vec<String>,
    /// Its own arguments, where they are not its system's.
    pub args: Option<String>,
}
