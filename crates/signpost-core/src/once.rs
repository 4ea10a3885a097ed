//! What the next start, and only that, goes to: an entry of our menu where that is active, else the firmware's next boot.

use serde::Serialize;
use signpost_facts::change::{Change, SectorWrite, Write};
use signpost_facts::ours::OurVariables;
use signpost_facts::{Error, FirmwareKind, OptionNumber, Result};
use signpost_firmware::boot_variables::boot_next;
use signpost_firmware::variable::{Attributes, Contents, Variable, VariableName};
use signpost_menu::policy::MENU;
use signpost_menu::resolve::{StartTarget, resolve_entry};
use signpost_menu::{MenuDocument, ours};
use signpost_place::Look;

use crate::bios;
use crate::history::History;
use crate::named::find;
use crate::plan::state_after;
use crate::rehearse::{Outcome, active_document, rehearse_bios, rehearse_state};

/// What would send the next start somewhere.
#[derive(Clone, Debug, Serialize)]
pub struct Once {
    /// What would be written.
    pub writes: Vec<Change>,
    /// What else is worth saying.
    pub notes: Vec<String>,
    /// What starts then, rehearsed.
    pub outcome: Outcome,
}

/// Plans to send the next start to an entry, or to the menu whatever the policy; `None` undoes that. `file` is the menu
/// file's, where there is one: it counts where the firmware's own list is the menu.
///
/// # Errors
/// Where there is no such entry, it cannot start, or nothing that is active could obey.
pub fn once(
    look: &Look,
    history: &History,
    file: Option<&MenuDocument>,
    target: Option<&str>,
) -> Result<Once> {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return in_sectors(look, target);
    }
    let contents = look.contents()?;
    let active = active_document(look);
    let mut notes = Vec::new();
    let writes = match (target, &active, file) {
        (None, _, _) => taken_back(look, contents, active.is_some()),
        (Some(target), Some(document), _) => {
            if let Some(next) = look.boot.next {
                notes.push(format!(
                    "the next boot of the firmware, {}, comes before the menu",
                    OptionNumber(next)
                ));
            }
            vec![in_our_menu(look, contents, document, target)?]
        }
        (Some(target), None, Some(document)) => {
            vec![in_firmware(look, contents, history, document, target)?]
        }
        (Some(_), None, None) => {
            return Err(Error::WrongUse(
                "no menu is active, and there is no menu file; `signpost firmware next` takes an entry of the firmware's".into(),
            ));
        }
    };
    let writes: Vec<Write> = writes.into_iter().filter(|write| !write.is_done()).collect();
    let after = state_after(look, contents, &writes)?;
    let outcome = rehearse_state(look, after.state(&[]), None).outcome;
    let writes = writes.into_iter().map(Change::Variable).collect();
    Ok(Once { writes, notes, outcome })
}

/// The same where the menu lies among the sectors of a disk, and what is remembered beside it.
fn in_sectors(look: &Look, target: Option<&str>) -> Result<Once> {
    let Some(document) = active_document(look) else {
        return Err(Error::WrongUse(
            "no menu of ours is active, and BIOS firmware keeps nothing for one start; `signpost sector active PARTITION` \
             changes what starts until that is changed again, and `signpost undo` undoes it"
                .into(),
        ));
    };
    let id = match target {
        Some(MENU) | None => target,
        Some(name) => Some(startable(look, &document, name)?.0),
    };
    let what = match id {
        Some(id) => format!("the next start goes to {id}"),
        None => "clear what the menu would do once".into(),
    };
    let writes: Vec<SectorWrite> = bios::remember(look, ours::ONCE, id, what)?.into_iter().collect();
    let outcome = rehearse_bios(look, &writes, None).outcome;
    Ok(Once { writes: writes.into_iter().map(Change::Sectors).collect(), notes: Vec::new(), outcome })
}

fn taken_back(look: &Look, contents: &Contents, has_menu: bool) -> Vec<Write> {
    let own =
        Write::removal(contents, OurVariables::name(ours::ONCE), "clear what the menu would do once".into());
    let mut writes = vec![own];
    if !has_menu && look.boot.next.is_some() {
        let next = VariableName::global("BootNext");
        writes.push(Write::removal(contents, next, "clear the next boot".into()));
    }
    writes
}

fn in_our_menu(look: &Look, contents: &Contents, document: &MenuDocument, target: &str) -> Result<Write> {
    let id = if target == MENU { target } else { startable(look, document, target)?.0 };
    let name = OurVariables::name(ours::ONCE);
    let variable = Variable { name, attributes: Attributes::BOOT, data: id.as_bytes().to_vec() };
    Ok(Write::to(contents, variable, format!("the next start goes to {id}"), None))
}

/// The id of an entry that starts a system and can, and what it starts.
fn startable<'d>(look: &Look, document: &'d MenuDocument, name: &str) -> Result<(&'d str, StartTarget)> {
    let entry = &document.entries[find(document, name)?];
    if !entry.starts.is_system() {
        return Err(Error::WrongUse(format!(
            "{} starts no system; once takes an entry that does, or menu",
            entry.id
        )));
    }
    match resolve_entry(look, document, entry).target {
        Ok(target) => Ok((&entry.id, target)),
        Err(fault) => Err(Error::WrongUse(format!("{} cannot start: {fault}", entry.id))),
    }
}

/// The firmware's list is the menu: its next boot is what goes somewhere once.
fn in_firmware(
    look: &Look,
    contents: &Contents,
    history: &History,
    document: &MenuDocument,
    target: &str,
) -> Result<Write> {
    if target == MENU {
        return Err(Error::WrongUse(
            "the firmware's own list is the menu here, and it shows itself by its own key at power-on".into(),
        ));
    }
    let (id, target) = startable(look, document, target)?;
    let entries = &look.survey.firmware.entries;
    let owned = history.owned();
    let ours = owned.iter().find(|(_, (_, entry))| entry == id).map(|(number, _)| *number);
    let ours = ours.filter(|number| entries.iter().any(|entry| entry.number() == *number));
    let by_file = || {
        let (volume, path) = match &target {
            StartTarget::Program { volume, path, .. } => (*volume, path),
            StartTarget::Linux { volume, kernel, .. } => (*volume, kernel),
            _ => return None,
        };
        let leads_there = |entry: &&signpost_facts::FirmwareEntry| {
            entry
                .target
                .as_ref()
                .is_some_and(|found| found.volume.index() == volume && found.file.eq_ignore_ascii_case(path))
        };
        entries.iter().find(leads_there).map(signpost_facts::FirmwareEntry::number)
    };
    let number = match &target {
        StartTarget::FirmwareEntry { number, .. } => Some(*number),
        _ => ours.or_else(by_file),
    };
    let number = number.ok_or_else(|| {
        Error::WrongUse(format!("{id} has no entry in the firmware's list yet; `signpost apply` makes one"))
    })?;
    Ok(Write::to(contents, boot_next(number), format!("next boot {}, {id}", OptionNumber(number)), None))
}
