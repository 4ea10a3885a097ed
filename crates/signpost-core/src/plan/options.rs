//! Menu entries as load options.

use std::collections::BTreeMap;

use signpost_facts::OptionNumber;
use signpost_facts::change::Write;
use signpost_firmware::boot_variables::{BootVariables, boot_option};
use signpost_firmware::device_path::{DevicePath, HardDrive, Node};
use signpost_firmware::image::linux;
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::start::Names;
use signpost_firmware::ucs2::Ucs2;
use signpost_firmware::variable::Contents;
use signpost_menu::MenuDocument;
use signpost_menu::document::{Host, KernelChoice, Starts};
use signpost_place::Look;

use super::{Action, EntryPlan};
use crate::resolve::{ResolvedEntry, StartTarget};

/// Load options by number: which are ours, which a plan has given away.
pub(super) struct Numbers<'a> {
    boot: &'a BootVariables,
    /// Ours, unchanged since we wrote them: number to menu entry.
    ours: BTreeMap<u16, String>,
    given: Vec<u16>,
}

impl<'a> Numbers<'a> {
    pub(super) fn new(boot: &'a BootVariables, owned: BTreeMap<u16, (Vec<u8>, String)>) -> Self {
        // One that holds something else by now is somebody else's.
        let unchanged = owned
            .into_iter()
            .filter(|(number, (data, _))| boot.options.get(number).is_some_and(|option| option.raw == *data));
        Self {
            boot,
            ours: unchanged.map(|(number, (_, entry))| (number, entry)).collect(),
            given: Vec::new(),
        }
    }

    /// Ours for this menu entry.
    fn own(&self, id: &str) -> Option<u16> {
        let mut own = self.ours.iter().filter(|(_, entry)| *entry == id).map(|(number, _)| *number);
        own.find(|number| !self.given.contains(number))
    }

    /// One that somebody made, first in the order, that starts the same file with the same data.
    fn equal(&self, wanted: &LoadOption) -> Option<u16> {
        let ordered = self.boot.order.iter().copied();
        let rest = self.boot.options.keys().copied();
        ordered.chain(rest).find(|number| {
            let held = self.boot.options.get(number).and_then(|option| option.decoded.as_ref().ok());
            !self.given.contains(number) && held.is_some_and(|held| starts_the_same(held, wanted))
        })
    }

    /// The lowest number that nothing names.
    fn free(&self) -> Option<u16> {
        (0..=u16::MAX).find(|number| self.boot.is_free(*number) && !self.given.contains(number))
    }

    /// Ours that the plan has no use for.
    pub(super) fn not_given(&self) -> Vec<u16> {
        self.ours.keys().copied().filter(|number| !self.given.contains(number)).collect()
    }

    /// Ours whose menu entry is gone.
    pub(super) fn leftovers(&self, document: &MenuDocument) -> Vec<u16> {
        let gone = |id: &String| document.entry(id).is_none();
        let leftovers =
            self.ours.iter().filter(|(number, entry)| gone(entry) && !self.given.contains(number));
        leftovers.map(|(number, _)| *number).collect()
    }
}

/// The load option that starts the boot program, and the write that makes or changes it, if one is due.
pub(super) fn boot_program(
    look: &Look,
    contents: &Contents,
    volume: usize,
    path: &str,
    numbers: &mut Numbers<'_>,
) -> Result<(u16, Option<Write>), String> {
    let wanted = LoadOption::new("Signpost", device_path(look, volume, path)?, Vec::new());
    let own = numbers.own(MENU_ID).or_else(|| numbers.equal(&wanted));
    let number = own.or_else(|| numbers.free()).ok_or("no number is free in the firmware's list")?;
    numbers.given.push(number);
    let is_same = look.boot.options.get(&number).is_some_and(|held| held.raw == wanted.encode());
    let action = if own.is_some() { "change" } else { "make" };
    let what = format!("{action} entry {}, Signpost", OptionNumber(number));
    let write = Write::to(contents, boot_option(number, &wanted), what, Some(MENU_ID.into()));
    Ok((number, (!is_same).then_some(write)))
}

/// What the boot program's own option goes by in the history: an id that no entry can have.
pub(crate) const MENU_ID: &str = "menu";

/// Firmware looks at a partition's identity and number and at the file, in any case.
fn starts_the_same(held: &LoadOption, wanted: &LoadOption) -> bool {
    let key = |option: &LoadOption| {
        let drive = option.path.hard_drive()?;
        let file = option.path.file()?.trim_start_matches('\\').to_lowercase();
        Some((drive.number, drive.signature, file))
    };
    key(held).is_some() && key(held) == key(wanted) && held.optional_data == wanted.optional_data
}

/// What becomes of an entry, and what must be written for it.
pub(super) fn entry(
    look: &Look,
    contents: &Contents,
    resolved: &ResolvedEntry<'_>,
    numbers: &mut Numbers<'_>,
) -> (EntryPlan, Option<Write>) {
    let mut planned = EntryPlan {
        id: resolved.entry.id.clone(),
        title: resolved.entry.title.clone(),
        number: None,
        action: Action::LeaveOut,
        detail: String::new(),
    };
    let wanted = match &resolved.target {
        Err(why) => Err(why.to_string()),
        Ok(StartTarget::FirmwareEntry { number, .. }) => {
            numbers.given.push(*number);
            planned.number = Some(OptionNumber(*number));
            planned.action = Action::Adopt;
            planned.detail = "the firmware's own entry".into();
            let write = put_in_use(look, contents, *number);
            return (planned, write);
        }
        Ok(target) => wanted(look, resolved, target),
    };
    match wanted {
        Err(why) => {
            planned.detail = why;
            (planned, None)
        }
        Ok((wanted, detail)) => {
            planned.detail = detail;
            let write = place(look, contents, &wanted, &mut planned, numbers);
            (planned, write)
        }
    }
}

/// Finds or makes the load option for what an entry wants.
fn place(
    look: &Look,
    contents: &Contents,
    wanted: &LoadOption,
    planned: &mut EntryPlan,
    numbers: &mut Numbers<'_>,
) -> Option<Write> {
    let own = numbers.own(&planned.id);
    let (number, action) = if let Some(own) = own {
        let is_same = look.boot.options.get(&own).is_some_and(|held| held.raw == wanted.encode());
        (own, if is_same { Action::Keep } else { Action::Change })
    } else if let Some(equal) = numbers.equal(wanted) {
        (equal, Action::Adopt)
    } else if let Some(free) = numbers.free() {
        (free, Action::Make)
    } else {
        planned.detail = "no number is free in the firmware's list".into();
        return None;
    };
    numbers.given.push(number);
    planned.number = Some(OptionNumber(number));
    planned.action = action;
    match action {
        Action::Adopt => {
            let held = look.boot.options.get(&number).and_then(|option| option.decoded.as_ref().ok())?;
            let label = held.description.to_string();
            if label != planned.title {
                planned.detail = format!("starts the same; not ours, so its label stays \"{label}\"");
            }
            put_in_use(look, contents, number)
        }
        Action::Make | Action::Change => {
            let what = format!("{} entry {} \"{}\"", action.word(), OptionNumber(number), planned.title);
            Some(Write::to(contents, boot_option(number, wanted), what, Some(planned.id.clone())))
        }
        Action::Keep | Action::LeaveOut | Action::Show => None,
    }
}

/// The write that puts an option in use, where it is not.
fn put_in_use(look: &Look, contents: &Contents, number: u16) -> Option<Write> {
    let held = look.boot.options.get(&number)?.decoded.as_ref().ok()?;
    if held.is_active() {
        return None;
    }
    let mut active = held.clone();
    active.attributes |= LoadOptionAttributes::ACTIVE;
    let what = format!("put entry {} \"{}\" in use", OptionNumber(number), held.description);
    // Not named as ours: it stays somebody else's.
    Some(Write::to(contents, boot_option(number, &active), what, None))
}

/// Why a host cannot start an entry whose files are there; nothing, where it can.
pub(crate) fn host_cannot(look: &Look, host: Host, resolved: &ResolvedEntry<'_>) -> Option<String> {
    match (host, resolved.target.as_ref().ok()?) {
        (Host::Firmware, StartTarget::FirmwareEntry { .. } | StartTarget::Group) => None,
        (Host::Firmware, target) => wanted(look, resolved, target).err(),
        (Host::Signpost, StartTarget::Linux { volume, kernel, .. }) => need_stub(look, *volume, kernel).err(),
        (Host::Signpost, _) => None,
    }
}

/// The load option that an entry wants; or why the firmware's list cannot hold it, and what would help.
fn wanted(
    look: &Look,
    resolved: &ResolvedEntry<'_>,
    target: &StartTarget,
) -> Result<(LoadOption, String), String> {
    let title = &resolved.entry.title;
    match target {
        StartTarget::Program { volume, path, args } => {
            let device_path = device_path(look, *volume, path)?;
            let detail = format!("{}, {path}", look.survey.volumes[*volume].where_it_is());
            Ok((LoadOption::new(title, device_path, text_data(args)), detail))
        }
        StartTarget::Linux { volume, kernel, initrds, args, .. } => {
            let device_path = device_path(look, *volume, kernel)?;
            need_stub(look, *volume, kernel)?;
            let mut data = args.clone();
            for initrd in initrds {
                data = format!("{data} initrd={}", backslashes(initrd));
            }
            let mut detail = format!("{}, {kernel}", look.survey.volumes[*volume].where_it_is());
            if let Starts::Linux(linux) = &resolved.entry.starts
                && matches!(linux.kernel, KernelChoice::Newest(_))
            {
                detail.push_str("; the newest for now: apply again after a kernel update");
            }
            Ok((LoadOption::new(title, device_path, text_data(data.trim())), detail))
        }
        StartTarget::Image { image, .. } => Err(format!(
            "its kernel lies in {image}, where the firmware does not look; host = \"signpost\" starts it"
        )),
        StartTarget::Group => {
            Err("a group: the firmware's list has none; its members stand one after another".into())
        }
        StartTarget::BuiltIn => Err(format!(
            "{} is no start from a disk: the firmware's list cannot hold it",
            resolved.entry.starts.word()
        )),
        StartTarget::FirmwareEntry { .. } => Err("an entry of the firmware's own".into()),
    }
}

pub(crate) fn device_path(look: &Look, volume: usize, path: &str) -> Result<DevicePath, String> {
    let facts = &look.survey.volumes[volume];
    if !facts.is_fat {
        return Err(format!(
            "{} is {}, which the firmware does not read; start the system's own loader instead, or keep the \
             kernel on the ESP",
            facts.where_it_is(),
            facts.kind
        ));
    }
    if !facts.firmware_reads {
        return Err(format!("{}: {}", facts.where_it_is(), look.unreadable(volume)));
    }
    let none = || format!("{} has no identity in its partition table", facts.where_it_is());
    let (disk, partition) = look.survey.partition_of(facts).ok_or_else(none)?;
    let sector = u64::from(disk.sector_size.max(1));
    let drive = HardDrive {
        number: partition.firmware_number,
        start: partition.start / sector,
        size: partition.size / sector,
        signature: disk.path_signature(partition).ok_or_else(none)?,
    };
    Ok(DevicePath::new(vec![Node::hard_drive(&drive), Node::file_path(&backslashes(path))]))
}

fn need_stub(look: &Look, volume: usize, kernel: &str) -> Result<(), String> {
    let reader = look.reader(volume).ok_or("its volume cannot be read")?;
    let head = reader.read_head(kernel, linux::HEAD_LEN).map_err(|error| error.to_string())?;
    let header = linux::decode(&head).ok_or_else(|| format!("{kernel} is no Linux kernel"))?;
    match header.efi_stub {
        Some(_) => Ok(()),
        None => {
            Err(format!("{kernel} has no EFI stub, so the firmware cannot start it; start a loader instead"))
        }
    }
}

fn backslashes(path: &str) -> String {
    path.replace('/', "\\")
}

/// Text as programs expect it in their optional data: UCS-2 with a NUL at its end; nothing for no text.
pub(crate) fn text_data(text: &str) -> Vec<u8> {
    if text.is_empty() { Vec::new() } else { Ucs2::from(text).to_bytes_terminated() }
}
