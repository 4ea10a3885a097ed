//! Putting a plan in force: snapshot, writes one by one, each read back.

use signpost_firmware::variable::Contents;

use crate::error::{Error, Result};
use crate::history::{Action, History, Write};
use crate::machine::Machine;

/// Writes what a plan or an undo says. The record with all variables as they were is on disk before the
/// first write. Nothing is done where there is nothing to write.
///
/// # Errors
/// Where the machine has changed since, a variable cannot be written, or does not read back. What was
/// written until then stays, starts, and can be undone.
pub fn carry_out(
    machine: &mut Machine,
    history: &mut History,
    action: Action,
    writes: &[Write],
) -> Result<Option<u32>> {
    if writes.is_empty() {
        return Ok(None);
    }
    let before = machine.contents()?;
    check_unchanged(&before, writes)?;
    let serial = history.begin(action, writes, &before)?;
    for write in writes {
        match write.variable() {
            Some(variable) => machine.variables.write(&variable)?,
            None => machine.variables.remove(&write.variable_name())?,
        }
        let now = machine.contents()?;
        if value(&now, write) != write.after.as_deref() {
            return Err(Error::NotReadBack {
                what: write.what.clone(),
                way:
                    "the firmware or another program changed it; `signpost undo` takes back what was written"
                        .into(),
            });
        }
    }
    Ok(Some(serial))
}

/// A plan is only good for the state it was made on.
fn check_unchanged(contents: &Contents, writes: &[Write]) -> Result<()> {
    match writes.iter().find(|write| value(contents, write) != write.before.as_deref()) {
        None => Ok(()),
        Some(write) => Err(Error::Unusable {
            place: write.name.clone(),
            why: "it has changed since the plan was made; nothing was written, plan again".into(),
        }),
    }
}

fn value<'c>(contents: &'c Contents, write: &Write) -> Option<&'c [u8]> {
    contents.get(&write.variable_name()).map(|variable| variable.data.as_slice())
}
