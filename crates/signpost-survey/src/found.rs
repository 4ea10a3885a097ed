//! What is found on a volume while it is looked at.

use std::collections::BTreeMap;

use signpost_facts::{BootFile, Survey, System, Volume};
use signpost_place::VolumeReader;
use signpost_place::finder::Found;
use signpost_place::reader::{Fault, Names};

use super::source::Source;

/// One volume while it is looked at.
pub(crate) struct OneVolume<'a> {
    pub(crate) survey: &'a Survey,
    /// Types of MBR partitions, by the disk's number and theirs.
    pub(crate) slice_types: &'a BTreeMap<(signpost_facts::DiskNumber, u32), u8>,
    pub(crate) source: &'a Source,
    pub(crate) facts: &'a Volume,
    /// `None` where it cannot be looked into.
    pub(crate) reader: Option<&'a VolumeReader>,
}

/// What was found on it.
#[derive(Default)]
pub(crate) struct Contents {
    /// The names in its top folder.
    pub(crate) names: Names,
    /// Boot files, their roles not yet told.
    pub(crate) boot_files: Vec<BootFile>,
    /// Linux systems, kernels and entry files on it, whose they are not yet told.
    pub(crate) linux: Found,
    /// Another system that it holds.
    pub(crate) other: Option<Box<System>>,
    /// Systems in image files.
    pub(crate) images: Vec<System>,
    /// Whether a sleeping system's memory lies in a file of it.
    pub(crate) is_asleep: bool,
    /// Names on it that cannot be shown as they are, and were skipped.
    pub(crate) unprintable_names: usize,
    /// What of it could not be read. Of a mounted volume none is kept: there we may not be allowed to read, which does
    /// not make it broken.
    pub(crate) fault: Option<Fault>,
}
