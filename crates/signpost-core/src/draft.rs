//! Drafting: a menu file made or added to from a survey. What stands in the file stays as it is.

mod text;

use std::path::Path;

use serde::Serialize;
use signpost_menu::MenuDocument;
use signpost_menu::document::RESERVED_IDS;
use signpost_menu::document::{Hidden, Host};

use crate::error::{Error, Result};
use crate::menu_file;
use crate::resolve::{StartTarget, resolve};
pub(crate) use text::{extend, quote};

use crate::survey::{FirmwareEntry, Kernel, Look, Role, StartupFile, System, patterns};

/// A draft: the file's new text, and what is new and gone in it.
#[derive(Clone, Debug, Serialize)]
pub struct Draft {
    /// Version of this document.
    pub schema: u32,
    /// Whether the file is made now.
    pub is_new_file: bool,
    /// Entries that were added.
    pub added: Vec<DraftEntry>,
    /// Entries that stand in the file and start nothing that is there.
    pub gone: Vec<GoneEntry>,
    /// Systems that were not taken up, each with the reason.
    pub left: Vec<String>,
    /// The file's text.
    #[serde(skip)]
    pub text: String,
}

/// An entry that draft made.
#[derive(Clone, Debug, Serialize)]
pub struct DraftEntry {
    /// Its id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Why it starts in this way.
    pub why: String,
    #[serde(skip)]
    body: Vec<(&'static str, String)>,
}

impl DraftEntry {
    pub(crate) fn new(id: String, title: String, why: String, body: Vec<(&'static str, String)>) -> Self {
        Self { id, title, why, body }
    }
}

/// An entry that starts nothing that is there.
#[derive(Clone, Debug, Serialize)]
pub struct GoneEntry {
    /// Its id.
    pub id: String,
    /// What was looked for.
    pub why: String,
}

/// Drafts the menu of a machine into the file at `path`, which is not written yet. `new_host` is who shows a menu
/// whose file is made now.
///
/// # Errors
/// Where the file has errors, or a volume cannot be named.
pub fn draft(look: &Look<'_>, path: &Path, new_host: Host) -> Result<Draft> {
    let existing = menu_file::load_text(path)?;
    let empty = MenuDocument::default();
    let document = existing.as_ref().map_or(&empty, |file| &file.document);
    let host = existing.as_ref().map_or(new_host, |file| file.document.settings.host);
    let resolved = resolve(look, document);
    let gone = resolved
        .iter()
        .filter_map(|entry| Some(GoneEntry { id: entry.entry.id.clone(), why: entry.target.clone().err()? }))
        .collect();
    let targets: Vec<&StartTarget> = resolved.iter().filter_map(|entry| entry.target.as_ref().ok()).collect();
    let mut ids: Vec<String> = document.entries.iter().map(|entry| entry.id.clone()).collect();
    let mut added: Vec<DraftEntry> = Vec::new();
    let mut left = Vec::new();
    for system in &look.survey.systems {
        if targets.iter().any(|target| is_started_by(look, system, target)) {
            continue;
        }
        if is_hidden(look, document, system) {
            left.push(format!("{}: hidden in the menu file", system.title));
            continue;
        }
        match entry(look, system, free_id(&system.id, &ids), host)? {
            Ok(entry) => {
                ids.push(entry.id.clone());
                added.push(entry);
            }
            Err(why) => left.push(format!("{}: {why}", system.title)),
        }
    }
    let text = match &existing {
        Some(file) => extend(&file.text, &added),
        None => text::new_file(&look.survey.machine.name, host, &added),
    };
    menu_file::check(path, &text).map_err(|_| {
        Error::unusable(
            path,
            "the entries cannot be added at its end; write its entries as [[entry]] sections",
        )
    })?;
    Ok(Draft { schema: crate::SCHEMA, is_new_file: existing.is_none(), added, gone, left, text })
}

/// Whether something that is in the menu starts this system.
pub(crate) fn is_started_by(look: &Look<'_>, system: &System, target: &StartTarget) -> bool {
    match target {
        StartTarget::Program { volume, path, .. } => {
            let file = look.survey.startup_file(*volume, path);
            file.is_some_and(|file| look.survey.startup_files[file].system.as_ref() == Some(&system.id))
        }
        StartTarget::Linux { root: Some(root), .. } => system.root == Some(root + 1),
        StartTarget::Linux { volume, kernel, root: None, .. } => {
            system.kernels.iter().any(|own| own.volume == volume + 1 && own.path == *kernel)
        }
        StartTarget::FirmwareEntry { number, .. } => system.entries.contains(&crate::survey::hex(*number)),
        StartTarget::BuiltIn | StartTarget::Group => false,
    }
}

fn is_hidden(look: &Look<'_>, document: &MenuDocument, system: &System) -> bool {
    let loaders = || system.loaders.iter().map(|index| &look.survey.startup_files[*index]);
    document.hidden.iter().any(|hide| match &hide.what {
        Hidden::Entry(id) => *id == system.id,
        Hidden::System(title) => *title == system.title,
        Hidden::Volume(volume) => look.resolve(volume).is_ok_and(|volume| {
            system.root == Some(volume + 1)
                || (system.root.is_none() && loaders().all(|loader| loader.volume == volume + 1))
        }),
        Hidden::File(place) => look.resolve(&place.volume).is_ok_and(|volume| {
            let is_it = |loader: &StartupFile| {
                loader.volume == volume + 1 && loader.path.eq_ignore_ascii_case(&place.path)
            };
            system.root.is_none() && !system.loaders.is_empty() && loaders().all(is_it)
        }),
    })
}

/// An id that no entry has: the system's own, or with a number behind it.
pub(crate) fn free_id(base: &str, taken: &[String]) -> String {
    let is_free = |id: &str| !taken.iter().any(|taken| taken == id) && !RESERVED_IDS.contains(&id);
    let numbered = (2..).map(|number| format!("{base}-{number}"));
    std::iter::once(base.to_string()).chain(numbered).find(|id| is_free(id)).unwrap_or_default()
}

/// The entry for a system, in the way that suits who shows the menu: the kernel directly, else its own loader,
/// else its firmware entry. The inner error says why there is none.
fn entry(
    look: &Look<'_>,
    system: &System,
    id: String,
    host: Host,
) -> Result<std::result::Result<DraftEntry, String>> {
    if let Some(image) = &system.image {
        let place = format!("v{}:{}", image.volume, image.path);
        return Ok(Err(format!("it lies in the image file {place}; an entry for it is written by hand")));
    }
    let body = match kernel_directly(look, system, host)? {
        Ok(body) => Ok(body),
        Err(no_kernel) => match firmware_entry_with_data(look, system)? {
            Some(body) => Ok(body),
            None => loader(look, system, &no_kernel)?,
        },
    };
    Ok(body.map(|(body, why)| DraftEntry { id, title: system.title.clone(), why, body }))
}

pub(crate) type Body = (Vec<(&'static str, String)>, String);

pub(crate) fn kernel_directly(
    look: &Look<'_>,
    system: &System,
    host: Host,
) -> Result<std::result::Result<Body, String>> {
    let Some(newest) = system.kernels.first() else {
        return Ok(Err("no kernel of it was found".into()));
    };
    // The newest may lie in two places; the one that the firmware reads is the one to start.
    let is_fat = |kernel: &&Kernel| look.survey.volumes[kernel.volume - 1].is_fat;
    let mut copies = system.kernels.iter().filter(|kernel| kernel.version == newest.version);
    let kernel = copies.find(is_fat).unwrap_or(newest);
    let volume = &look.survey.volumes[kernel.volume - 1];
    let reads = if host == Host::Signpost { "the boot program" } else { "the firmware" };
    if !volume.is_fat && (host == Host::Firmware || look.reader(kernel.volume - 1).is_none()) {
        return Ok(Err(format!("its kernel lies on {}, which {reads} does not read", volume.kind)));
    }
    if kernel.efi_stub.is_none() {
        return Ok(Err("its kernel has no EFI stub".into()));
    }
    if look.survey.machine.secure_boot == Some(true) {
        return Ok(Err("Secure Boot is on, and its loader is what vouches for the kernel".into()));
    }
    let quoted = quote;
    let (pattern, initrds) =
        patterns(kernel).unwrap_or_else(|| (kernel.path.clone(), kernel.initrds.clone()));
    let mut body = vec![
        ("starts", quoted("linux")),
        ("volume", quoted(&look.stable_name(kernel.volume - 1)?.to_string())),
        ("kernel", quoted(&pattern)),
    ];
    if !initrds.is_empty() {
        let list: Vec<String> = initrds.iter().map(|initrd| quoted(initrd)).collect();
        body.push(("initrd", format!("[{}]", list.join(", "))));
    }
    let arguments = system.arguments.clone();
    let source = arguments.as_ref().map(|arguments| arguments.source.clone()).unwrap_or_default();
    if let Some(root) = system.root {
        body.push(("root", quoted(&look.stable_name(root - 1)?.to_string())));
    }
    body.push(("args", quoted(&arguments.map(|arguments| arguments.text).unwrap_or_default())));
    Ok(Ok((body, format!("its kernel directly, from a volume that {reads} reads; arguments {source}"))))
}

/// A closed system's loader may rely on the data that its installer put into its entry.
fn firmware_entry_with_data(look: &Look<'_>, system: &System) -> Result<Option<Body>> {
    let mut entries = look.survey.firmware.entries.iter();
    let with_data = |entry: &&FirmwareEntry| {
        entry.system.as_ref() == Some(&system.id) && entry.data_length > 0 && !entry.is_made_by_firmware
    };
    let Some(entry) = entries.find(with_data) else { return Ok(None) };
    if entry.target.is_none() {
        return Ok(None);
    }
    let body = firmware_entry_body(look, entry)?;
    Ok(Some((body, "its firmware entry, which hands data of its own to the loader".into())))
}

/// What an entry says that starts one of the firmware's: its label, and its file, where labels alone do not tell.
pub(crate) fn firmware_entry_body(
    look: &Look<'_>,
    entry: &FirmwareEntry,
) -> Result<Vec<(&'static str, String)>> {
    let mut body = vec![("starts", quote("firmware-entry")), ("label", quote(&entry.label))];
    if let Some(target) = &entry.target {
        let target = format!("{}{}", look.stable_name(target.volume - 1)?, target.file);
        body.push(("target", quote(&target)));
    }
    Ok(body)
}

fn loader(look: &Look<'_>, system: &System, no_kernel: &str) -> Result<std::result::Result<Body, String>> {
    let Some(file) = system.loaders.first().map(|index| &look.survey.startup_files[*index]) else {
        let way = "give it a loader on an ESP, or put its kernel there";
        return Ok(Err(format!("{no_kernel}, and no loader of it was found on an ESP; {way}")));
    };
    let program = format!("{}{}", look.stable_name(file.volume - 1)?, file.path);
    let body = vec![("starts", quote("efi")), ("program", quote(&program))];
    let what = match file.role {
        Role::UnifiedImage => "its unified kernel image",
        Role::SparePath => "its spare path, the only loader of it that was found",
        _ => "its own loader",
    };
    let why = if system.kernels.is_empty() { what.to_string() } else { format!("{what}: {no_kernel}") };
    Ok(Ok((body, why)))
}
