//! Where a system's arguments come from: what it keeps for its kernels, the entry file of the kernel, or its root volume.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::include::EntryFile;
use signpost_menu::linux_files::made_arguments;
use signpost_menu::place::VolumeIdentity;

use super::kernels::FoundKernel;
use super::releases::text;
use super::roots::Root;
use crate::reader::VolumeReader;

/// Bytes of a block of variables: entry files of one family have some of their arguments in such a file, which has lines
/// `NAME=VALUE` and is filled up with `#`.
const BLOCK: u64 = 1024;
/// Folders and files in which one is looked for.
const MAX_LOOKED_AT: usize = 64;

/// Arguments, and where they come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Arguments {
    /// The arguments.
    pub text: String,
    /// Where they come from.
    pub source: Source,
    /// Names of variables that stood in them, and that nothing here says.
    pub left_out: Vec<String>,
}

/// Where arguments come from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// The system keeps them for its kernels, in this file.
    Kept {
        /// Its volume.
        volume: usize,
        /// Its path.
        path: String,
    },
    /// An entry file gives them.
    EntryFile {
        /// Its volume.
        volume: usize,
        /// Its path.
        path: String,
    },
    /// They are made from where the root lies.
    Made {
        /// The root's volume.
        volume: usize,
        /// What of it.
        from: &'static str,
    },
}

impl Arguments {
    /// Where they come from, in words; `name` says what people call a volume.
    pub fn words(&self, name: impl Fn(usize) -> String) -> String {
        let from = match &self.source {
            Source::Kept { volume, path } | Source::EntryFile { volume, path } => {
                format!("{}:{path}", name(*volume))
            }
            Source::Made { volume, from } => format!("made from the {from} of {}", name(*volume)),
        };
        match self.left_out.as_slice() {
            [] => from,
            names => format!("{from}; {} left out, since no value for it was found", names.join(" and ")),
        }
    }
}

/// A system as far as its arguments need it.
pub(super) struct Of<'a> {
    /// The volume of its root.
    pub(super) volume: usize,
    pub(super) root: &'a Root,
    pub(super) identity: &'a VolumeIdentity,
    /// Kind of the root's file system.
    pub(super) kind: String,
}

/// An entry file, and the blocks of variables of its volume and its system's.
#[derive(Clone)]
pub(super) struct Entry<'a> {
    pub(super) volume: usize,
    pub(super) path: &'a str,
    pub(super) entry: &'a EntryFile,
    pub(super) blocks: Vec<&'a str>,
}

impl Entry<'_> {
    /// Whether it starts a kernel on a volume.
    fn starts(&self, (volume, kernel): (usize, &FoundKernel)) -> bool {
        self.volume == volume && self.entry.program() == Some(&kernel.path)
    }
}

/// The arguments of a system that only entry files show.
pub(super) fn of_entries(kernel: (usize, &FoundKernel), entries: &[Entry<'_>]) -> Option<Arguments> {
    entry_of(Some(kernel), entries).map(of_entry)
}

/// A kernel's own arguments, where an entry file names it.
pub(super) fn of_kernel(
    of: &Of<'_>,
    kernel: (usize, &FoundKernel),
    entries: &[Entry<'_>],
) -> Option<Arguments> {
    let own: Vec<Entry<'_>> = entries.iter().filter(|entry| entry.starts(kernel)).cloned().collect();
    (!own.is_empty()).then(|| of_system(of, Some(kernel), &own))
}

/// The arguments of a system, as its first kernel is started.
pub(super) fn of_system(
    system: &Of<'_>,
    kernel: Option<(usize, &FoundKernel)>,
    entries: &[Entry<'_>],
) -> Arguments {
    if let Some((path, text)) = &system.root.cmdline {
        let source = Source::Kept { volume: system.volume, path: path.clone() };
        return Arguments { text: text.clone(), source, left_out: Vec::new() };
    }
    let made = made(system, kernel.is_none_or(|(_, kernel)| !kernel.initrds.is_empty()));
    let Some(entry) = entry_of(kernel, entries) else { return made };
    let mut arguments = of_entry(entry);
    if !arguments.text.split_whitespace().any(|word| word.starts_with("root=")) {
        arguments.text = format!("{} {}", made.text, arguments.text).trim().to_string();
    }
    arguments
}

/// The arguments of an entry file by itself.
fn of_entry(entry: &Entry<'_>) -> Arguments {
    let (mut words, mut left_out) = (Vec::new(), Vec::new());
    for word in entry.entry.options.split_whitespace() {
        match word.strip_prefix('$') {
            None => words.push(word.to_string()),
            Some(name) => match variable(&entry.blocks, name.trim_matches(['{', '}'])) {
                Some(value) => words.extend(value.split_whitespace().map(ToString::to_string)),
                None => left_out.push(word.to_string()),
            },
        }
    }
    let source = Source::EntryFile { volume: entry.volume, path: entry.path.to_string() };
    Arguments { text: words.join(" "), source, left_out }
}

/// The entry file that starts a kernel as it is started by itself; where it has none, that of another of the system's. A
/// fallback's and a rescue's options are their own.
fn entry_of<'e, 'a>(
    kernel: Option<(usize, &FoundKernel)>,
    entries: &'e [Entry<'a>],
) -> Option<&'e Entry<'a>> {
    entries.iter().filter(|entry| !entry.entry.options.is_empty()).min_by_key(|entry| {
        let names_it = kernel.is_some_and(|kernel| entry.starts(kernel));
        let last = entry.entry.initrds.last();
        let is_fallback = kernel.is_some_and(|(_, kernel)| last.is_some() && last == kernel.fallback.last());
        let name = entry.path.to_lowercase();
        let is_other =
            is_fallback || ["rescue", "fallback", "recovery"].iter().any(|word| name.contains(word));
        (is_other, !names_it)
    })
}

/// Arguments made from where the root lies.
fn made(system: &Of<'_>, has_initrd: bool) -> Arguments {
    let (mut text, from) = made_arguments(system.identity, &system.root.path, has_initrd);
    if let Some(wanted) = system.root.wanted {
        text = format!("{text} {}", wanted.replace("{type}", &system.kind));
    }
    Arguments { text, source: Source::Made { volume: system.volume, from }, left_out: Vec::new() }
}

fn variable<'b>(blocks: &[&'b str], name: &str) -> Option<&'b str> {
    let line = |text: &'b str| text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('='));
    blocks.iter().find_map(|text| line(text))
}

/// The blocks of variables on a volume: in the folders beside the kernels, where an entry file wants one.
pub(super) fn environment(
    reader: &VolumeReader,
    roots: &[Root],
    entry_files: &[(String, EntryFile)],
) -> Vec<String> {
    if roots.is_empty() && !entry_files.iter().any(|(_, entry)| entry.options.contains('$')) {
        return Vec::new();
    }
    let mut above: Vec<String> = roots.iter().map(|root| root.below("/boot")).collect();
    if roots.is_empty() {
        above.extend(["/boot", "", "/EFI"].map(String::from));
    }
    let mut files = Vec::new();
    for folder in above.iter().flat_map(|above| reader.folders_in(above, MAX_LOOKED_AT)).take(MAX_LOOKED_AT) {
        files.extend(reader.files_in(&folder, MAX_LOOKED_AT));
    }
    files
        .iter()
        .filter(|path| reader.metadata(path).is_ok_and(|found| !found.is_folder && found.size == BLOCK))
        .filter_map(|path| text(reader, path))
        .filter(|text| text.contains('=') && text.trim_end().ends_with('#'))
        .collect()
}
