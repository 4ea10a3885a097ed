//! That a system came up, for a menu that counts starts: what the boot program counted is cleared.

use serde::Serialize;
use signpost_facts::change::{Change, Write};
use signpost_facts::ours::OurVariables;
use signpost_facts::{Error, FirmwareKind, Result};
use signpost_firmware::variable::{Attributes, Variable};
use signpost_menu::ours;
use signpost_menu::resolve::{StartTarget, resolve_entry};
use signpost_menu::tries::Unconfirmed;
use signpost_place::Look;

use crate::bios;
use crate::named::find;
use crate::rehearse::active_document;

/// What confirming a start would do.
#[derive(Clone, Debug, Serialize)]
pub struct Confirmation {
    /// The entry whose starts are cleared.
    pub entry: Option<String>,
    /// How often it was started since it came up last.
    pub starts: u8,
    /// Why there is nothing to do, where there is not.
    pub why_not: Option<String>,
    /// What would be written.
    pub writes: Vec<Change>,
}

impl Confirmation {
    fn nothing(why: impl Into<String>) -> Self {
        Self { entry: None, starts: 0, why_not: Some(why.into()), writes: Vec::new() }
    }
}

/// Plans to clear what was counted of an entry; where none is named, of the one that the running system was started by.
///
/// # Errors
/// Where the active menu has no entry of this name, or the machine's variables cannot be read.
pub fn confirm(look: &Look, name: Option<&str>) -> Result<Confirmation> {
    let counted = &look.ours.unconfirmed;
    let id = match name {
        Some(name) => named(look, name)?,
        None if counted.all().next().is_none() => {
            return Ok(Confirmation::nothing("no entry of the menu has starts to confirm"));
        }
        None => match &look.ours.last {
            Some(last) if is_from_the_menu(look, last) => last.clone(),
            Some(_) => {
                return Ok(Confirmation::nothing("the running system was not started by the menu"));
            }
            None => return Ok(Confirmation::nothing("the menu does not say what it started last")),
        },
    };
    let starts = counted.of(&id);
    if starts == 0 {
        return Ok(Confirmation::nothing(format!("{id} has no starts to confirm")));
    }
    let writes = writes(look, &counted.without(&id), &id)?;
    Ok(Confirmation { entry: Some(id), starts, why_not: None, writes })
}

/// An entry's id, by any name of it; also that of one that is counted and stands in the menu no more.
fn named(look: &Look, name: &str) -> Result<String> {
    if look.ours.unconfirmed.of(name) > 0 {
        return Ok(name.into());
    }
    let document =
        active_document(look).ok_or_else(|| Error::WrongUse("no menu of ours is active".into()))?;
    let index = find(&document, name)?;
    Ok(document.entries.get(index).map(|entry| entry.id.to_string()).unwrap_or_default())
}

/// Whether the menu started what runs, as far as the firmware says by what it started: our boot program, or the entry that the
/// menu had it start next. Without its word, or where that entry is gone by now, what was started last is what runs.
fn is_from_the_menu(look: &Look, last: &str) -> bool {
    let Some(current) = look.boot.current else { return true };
    let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == current);
    let Some(entry) = entry else { return true };
    let file =
        entry.target.as_ref().and_then(|target| look.survey.boot_file(target.volume.index(), &target.file));
    if file.is_some_and(|file| look.survey.boot_files[file].is_ours()) {
        return true;
    }
    let active = active_document(look);
    let started = active.as_ref().and_then(|document| Some((document, document.entry(last)?)));
    started.is_some_and(|(document, entry)| {
        matches!(resolve_entry(look, document, entry).target, Ok(StartTarget::FirmwareEntry { number, .. }) if number == current)
    })
}

fn writes(look: &Look, left: &Unconfirmed, id: &str) -> Result<Vec<Change>> {
    let text = Some(left.text()).filter(|text| !text.is_empty());
    let what = format!("{id} has come up");
    if look.survey.machine.firmware == FirmwareKind::Bios {
        let write = bios::remember(look, ours::TRIES, text.as_deref(), what)?;
        return Ok(write.map(Change::Sectors).into_iter().collect());
    }
    let (contents, name) = (look.contents()?, OurVariables::name(ours::TRIES));
    let write = match text {
        Some(text) => {
            let variable = Variable { name, attributes: Attributes::BOOT, data: text.into_bytes() };
            Write::to(contents, variable, what, None)
        }
        None => Write::removal(contents, name, what),
    };
    Ok(vec![Change::Variable(write)])
}
