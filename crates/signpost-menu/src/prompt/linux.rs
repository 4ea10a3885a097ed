//! A Linux system as the prompt starts it.

use alloc::string::String;
use alloc::vec::Vec;

use super::Hands;
use crate::linux_files::{mounts, named};
use crate::place::resolve;

/// A Linux system, as far as a start needs it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct LinuxSystem {
    /// Its title.
    pub(super) title: String,
    /// The volume of its root.
    pub(super) root: usize,
    /// Its root on that volume: `/`, or a subvolume's path.
    pub(super) root_path: String,
    /// The volume of its kernels.
    pub(super) boot: usize,
    /// Its kernels, the newest first; spare ones last.
    pub(super) kernels: Vec<Kernel>,
    /// Its arguments.
    pub(super) args: String,
    /// Where they come from.
    pub(super) args_from: String,
}

/// A kernel, with its initrds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Kernel {
    /// Its path.
    pub(super) path: String,
    /// Its version.
    pub(super) version: String,
    /// The initrds of its version.
    pub(super) initrds: Vec<String>,
}

/// The volume that a table of mounts puts at a place.
pub(super) fn mounted_at(hands: &impl Hands, fstab: &str, at: &str) -> Option<usize> {
    let what = mounts(fstab).into_iter().find(|mount| mount.at == at)?.what;
    resolve(&named(what)?, hands.volumes()).ok()
}
