//! What the next start, and only that, goes to.

use signpost_firmware::variable::{Attributes, Variable};
use signpost_menu::{MenuDocument, ours};

use crate::edit::find;
use crate::error::{Error, Result};
use crate::machine::Machine;
use crate::survey::OurVariables;

/// The word that stands for the menu itself.
const MENU: &str = "menu";

/// Sends the next start to an entry, or to the menu whatever the policy; `None` takes that back.
///
/// # Errors
/// Where there is no such entry, or the variable cannot be written.
pub fn set(machine: &mut Machine, document: &MenuDocument, target: Option<&str>) -> Result<()> {
    let name = OurVariables::name(ours::ONCE);
    let Some(id) = target else {
        return Ok(machine.variables.remove(&name)?);
    };
    let id = if id == MENU { id } else { document.entries[find(document, id)?].id.as_str() };
    if id != MENU && !document.entry(id).is_some_and(|entry| entry.starts.is_system()) {
        return Err(Error::WrongUse(format!(
            "{id} starts no system; once takes an entry that does, or menu"
        )));
    }
    let variable = Variable { name, attributes: Attributes::BOOT, data: id.as_bytes().to_vec() };
    Ok(machine.variables.write(&variable)?)
}
