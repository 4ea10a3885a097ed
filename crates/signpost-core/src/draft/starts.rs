//! How a system is started: its kernel directly, where host, Secure Boot and file system allow it; else by its own
//! loader; else by its firmware entry.

use signpost_facts::secure_boot::Verdict;
use signpost_facts::{FirmwareEntry, FirmwareKind, Kernel, Result, Role, System};
use signpost_firmware::bios::code::SectorCode;
use signpost_menu::counter::lasting_path;
use signpost_menu::document::Host;
use signpost_menu::layouts::newest_pattern;
use signpost_place::Look;

use super::field::Field;
use super::offered::Body;

/// A way, or why there is none.
pub(super) type Way = std::result::Result<Body, String>;

/// The best way for a system.
pub(super) fn best(look: &Look, system: &System, host: Host) -> Result<Way> {
    if let Some(image) = &system.image {
        let place = look.survey.at(image.volume, &image.path);
        return Ok(Err(format!(
            "it is in the image file {place}; `signpost entry add image {place}` adds it"
        )));
    }
    if look.survey.machine.firmware == FirmwareKind::Bios {
        if host == Host::Firmware {
            return by_sector(look, system, host);
        }
        return match newest_kernel(look, system, host, "")? {
            Ok(body) => Ok(Ok(body)),
            Err(_) => by_sector(look, system, host),
        };
    }
    Ok(match newest_kernel(look, system, host, "")? {
        Ok(body) => Ok(body),
        Err(no_kernel) => match firmware_entry_with_data(look, system)? {
            Some(body) => Ok(body),
            None => {
                let by_our_program =
                    host == Host::Firmware && newest_kernel(look, system, Host::Signpost, "")?.is_ok();
                loader(look, system, &no_kernel, by_our_program)?
            }
        },
    })
}

/// The boot sector of a system's partition, which is all that BIOS firmware and plain code start.
fn by_sector(look: &Look, system: &System, host: Host) -> Result<Way> {
    let root = system.root.and_then(|root| Some((root, look.survey.boot_sector_of(root)?)));
    let Some((root, sector)) = root.filter(|(_, sector)| sector.code == SectorCode::Starts) else {
        let way = if host == Host::Firmware && newest_kernel(look, system, Host::Signpost, "")?.is_ok() {
            "the boot program starts its kernel: `signpost tune host=signpost`, then `signpost draft`"
        } else {
            "its own installer writes one"
        };
        return Ok(Err(format!("it has no boot sector that starts it; {way}")));
    };
    if sector.entry.is_none() && host == Host::Firmware {
        return Ok(Err(format!(
            "the boot sector of {} starts it, and a logical partition cannot be active; the boot program starts it: \
             `signpost tune host=signpost`, then `signpost draft`",
            sector.name
        )));
    }
    let body =
        vec![("starts", "sector".into()), ("volume", look.stable_name(root.index())?.to_string().into())];
    Ok(Ok((body, format!("the boot sector of {}", sector.name))))
}

/// The newest kernel of a system, directly; `more` goes behind its arguments.
pub(crate) fn newest_kernel(look: &Look, system: &System, host: Host, more: &str) -> Result<Way> {
    let Some(newest) = system.kernels.first() else {
        return Ok(Err("no kernel of it was found".into()));
    };
    // The newest may lie in two places; the one that the firmware reads is the one to start.
    let is_fat = |kernel: &&Kernel| look.survey.volumes[kernel.volume.index()].is_fat;
    let is_copy = |kernel: &&Kernel| {
        kernel.version == newest.version && kernel.initrds.is_empty() == newest.initrds.is_empty()
    };
    let mut copies = system.kernels.iter().filter(is_copy);
    let kernel = copies.find(is_fat).unwrap_or(newest);
    if let Err(why) = can_start(look, kernel, host) {
        return Ok(Err(why));
    }
    let source = system.arguments.as_ref().map(|arguments| arguments.source.clone()).unwrap_or_default();
    let reads = reader_of(host);
    let why = format!("its kernel directly, from a volume that {reads} reads; arguments {source}");
    // A snapshot gets no updates: what is newer where its kernel lies is its origin's.
    let start = if system.snapshot.is_some() { Start::of(kernel, more) } else { Start::newest(kernel, more) };
    Ok(Ok((kernel_body(look, system, &start)?, why)))
}

/// Whether a kernel can be started directly.
pub(super) fn can_start(look: &Look, kernel: &Kernel, host: Host) -> std::result::Result<(), String> {
    let volume = &look.survey.volumes[kernel.volume.index()];
    if !volume.is_fat && (host == Host::Firmware || look.reader(kernel.volume.index()).is_none()) {
        return Err(format!("its kernel lies on {}, which {} does not read", volume.kind, reader_of(host)));
    }
    if kernel.efi_stub.is_none() && look.survey.machine.firmware != FirmwareKind::Bios {
        return Err("its kernel has no EFI stub".into());
    }
    let verdict = look.secure_boot_verdict(kernel.volume.index(), &kernel.path);
    if verdict.is_some_and(|verdict| !matches!(verdict, Ok(Verdict::Accepted(_)))) {
        return Err("Secure Boot is on, and its loader is what vouches for the kernel".into());
    }
    Ok(())
}

fn reader_of(host: Host) -> &'static str {
    if host == Host::Signpost { "the boot program" } else { "the firmware" }
}

/// A start of a kernel.
pub(super) struct Start<'a> {
    kernel: &'a Kernel,
    path: String,
    initrds: Vec<String>,
    /// What goes behind the arguments.
    more: &'a str,
}

impl<'a> Start<'a> {
    /// This very kernel.
    pub(super) fn of(kernel: &'a Kernel, more: &'a str) -> Self {
        Self { kernel, path: kernel.path.clone(), initrds: kernel.initrds.clone(), more }
    }

    /// The newest kernel, whichever that is, where names tell.
    pub(super) fn newest(kernel: &'a Kernel, more: &'a str) -> Self {
        match newest_pattern(&kernel.path, &kernel.initrds) {
            Some((path, initrds)) => Self { kernel, path, initrds, more },
            None => Self::of(kernel, more),
        }
    }
}

/// What an entry says that starts a kernel of a system.
pub(super) fn kernel_body(
    look: &Look,
    system: &System,
    start: &Start<'_>,
) -> Result<Vec<(&'static str, Field)>> {
    let mut body = vec![
        ("starts", "linux".into()),
        ("volume", look.stable_name(start.kernel.volume.index())?.to_string().into()),
        ("kernel", start.path.as_str().into()),
    ];
    if !start.initrds.is_empty() {
        body.push(("initrd", Field::List(start.initrds.clone())));
    }
    if let Some(root) = system.root {
        body.push(("root", look.stable_name(root.index())?.to_string().into()));
    }
    let arguments = start.kernel.arguments.as_ref().or(system.arguments.as_ref());
    let own = arguments.map(|arguments| arguments.text.as_str()).unwrap_or_default();
    body.push(("args", format!("{own} {}", start.more).trim().into()));
    Ok(body)
}

/// A closed system's loader may rely on the data that its installer put into its entry.
fn firmware_entry_with_data(look: &Look, system: &System) -> Result<Option<Body>> {
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
pub(crate) fn firmware_entry_body(look: &Look, entry: &FirmwareEntry) -> Result<Vec<(&'static str, Field)>> {
    let mut body = vec![("starts", "firmware-entry".into()), ("label", entry.label.as_str().into())];
    if let Some(target) = &entry.target {
        let target = format!("{}{}", look.stable_name(target.volume.index())?, target.file);
        body.push(("target", target.into()));
    }
    Ok(body)
}

fn loader(look: &Look, system: &System, no_kernel: &str, by_our_program: bool) -> Result<Way> {
    let Some(file) = system.loaders.first().map(|index| &look.survey.boot_files[*index]) else {
        let way = match by_our_program {
            true => "the boot program starts it: `signpost tune host=signpost`, then `signpost draft`",
            false => "give it a loader on an ESP, or put its kernel there",
        };
        return Ok(Err(format!("{no_kernel}, and no loader of it was found on an ESP; {way}")));
    };
    let path = lasting_path(&file.path).unwrap_or_else(|| file.path.clone());
    let program = format!("{}{path}", look.stable_name(file.volume.index())?);
    let body = vec![("starts", "efi".into()), ("program", program.into())];
    let what = match file.role {
        Role::UnifiedImage => "its unified kernel image",
        Role::FallbackPath => "its fallback path, the only loader of it that was found",
        _ => "its own loader",
    };
    let why = if system.kernels.is_empty() { what.to_string() } else { format!("{what}: {no_kernel}") };
    Ok(Ok((body, why)))
}
