//! Carrying out a plan: snapshot, writes one by one, each read back.

use signpost_core::history::{Action, Progress};
use signpost_facts::change::{Change, FileWrite, SectorWrite, Write};
use signpost_facts::location::Location;
use signpost_facts::{Error, Result};
use signpost_firmware::variable::{Contents, StoreError};
use signpost_machine::Machine;

use crate::records::Records;

/// Writes what a plan or an undo says. The record with all variables as they were is on disk before the first write, and
/// says how far it came behind the last. Where there is nothing to write, a step that was not finished is noted as done.
///
/// # Errors
/// Where the machine has changed since, a variable cannot be written, or does not read back. What was
/// written until then stays, starts, and can be undone.
pub fn carry_out(
    machine: &mut Machine,
    records: &mut Records,
    action: Action,
    writes: &[Change],
    is_interrupted: &dyn Fn() -> bool,
) -> Result<Option<u32>> {
    if writes.is_empty() {
        if records.history().unfinished().is_some_and(|record| record.action == action) {
            records.end(Progress::Done)?;
        }
        return Ok(None);
    }
    let before = machine.contents()?;
    check_unchanged(machine, &before, writes)?;
    check_room(machine, writes)?;
    let serial = records.begin(action, writes, &before)?;
    for (done, change) in writes.iter().enumerate() {
        if let Err(error) = put(machine, change, (done, writes.len()), is_interrupted) {
            // Where not even that can be noted, the record says that it was begun.
            let _ = records.end(Progress::Failed { after: done });
            return Err(error);
        }
    }
    records.end(Progress::Done)?;
    Ok(Some(serial))
}

/// Writes what is not recorded.
///
/// # Errors
/// As of [`carry_out`].
pub(crate) fn carry_out_unrecorded(machine: &mut Machine, writes: &[Change]) -> Result<()> {
    let before = machine.contents()?;
    check_unchanged(machine, &before, writes)?;
    check_room(machine, writes)?;
    for (done, change) in writes.iter().enumerate() {
        put(machine, change, (done, writes.len()), &|| false)?;
    }
    Ok(())
}

/// Writes one thing and reads it back, unless somebody stops us.
fn put(
    machine: &mut Machine,
    change: &Change,
    (done, all): (usize, usize),
    is_interrupted: &dyn Fn() -> bool,
) -> Result<()> {
    if is_interrupted() {
        return Err(Error::Interrupted { done, all });
    }
    let is_done = match change {
        Change::Variable(write) => put_variable(machine, write)?,
        Change::File(write) => put_file(machine, write)?,
        Change::Sectors(write) => put_sectors(machine, write)?,
    };
    if is_done {
        return Ok(());
    }
    Err(Error::NotReadBack {
        what: change.what().to_string(),
        way: "the firmware or another program changed it; `signpost undo` undoes what was written".into(),
    })
}

/// Writes a variable; whether it reads back.
fn put_variable(machine: &mut Machine, write: &Write) -> Result<bool> {
    match write.variable() {
        Some(variable) => machine.variables.write(&variable)?,
        None => machine.variables.remove(&write.variable_name())?,
    }
    Ok(value(&machine.contents()?, write) == write.after.as_deref())
}

/// Writes a file; whether it reads back.
fn put_file(machine: &Machine, write: &FileWrite) -> Result<bool> {
    let location = location(write)?;
    machine.write_file(location, &write.path, write.after.as_deref())?;
    let most = write.after.as_ref().map_or(0, Vec::len);
    Ok(machine.read_file(location, &write.path, most)? == write.after)
}

/// Writes sectors; whether they read back.
fn put_sectors(machine: &Machine, write: &SectorWrite) -> Result<bool> {
    let after = write.after.as_deref().unwrap_or_default();
    machine.write_sectors(&write.disk, write.offset, after)?;
    Ok(machine.read_sectors(&write.disk, write.offset, after.len())? == after)
}

fn location(write: &FileWrite) -> Result<Location> {
    write.location.ok_or_else(|| Error::Unusable {
        place: format!("{}{}", write.volume, write.path),
        why: "its volume is not there".into(),
    })
}

/// Variables that take no writing, or have no room for the change and for undoing it, must show before the first file is
/// written.
fn check_room(machine: &Machine, writes: &[Change]) -> Result<()> {
    // What the firmware keeps beside name and contents (UEFI 2.10, 8.2, leaves it to it).
    const BESIDE: usize = 64;
    let variables: Vec<&Write> = writes.iter().filter_map(Change::variable).collect();
    if variables.is_empty() {
        return Ok(());
    }
    machine.variables.need_writable()?;
    let Some(room) = machine.variables.room() else { return Ok(()) };
    let size = |name: &str, data: &Option<Vec<u8>>| {
        data.as_ref().map_or(0, |data| BESIDE + 2 * name.len() + data.len())
    };
    let needed: usize = variables
        .iter()
        .map(|write| size(&write.name, &write.after) + size(&write.name, &write.before))
        .sum();
    if needed as u64 <= room {
        return Ok(());
    }
    Err(StoreError::OutOfReach {
        why: format!("{needed} bytes are to be written, and to undo it, and the firmware has room for {room}"),
        help: "restart once, so that it clears out what is deleted; else remove entries that the survey calls stale"
            .into(),
    }
    .into())
}

/// A plan is only good for the state it was made on.
fn check_unchanged(machine: &Machine, contents: &Contents, writes: &[Change]) -> Result<()> {
    for change in writes {
        let is_unchanged = match change {
            Change::Variable(write) => value(contents, write) == write.before.as_deref(),
            Change::File(write) => {
                let most = write.before.as_ref().map_or(0, Vec::len);
                // One that has grown is longer than what was there, and that is an error of reading.
                machine.read_file(location(write)?, &write.path, most).is_ok_and(|now| now == write.before)
            }
            Change::Sectors(write) => {
                let before = write.before.as_deref().unwrap_or_default();
                machine.read_sectors(&write.disk, write.offset, before.len())? == before
            }
        };
        if !is_unchanged {
            return Err(Error::Unusable {
                place: change.what().to_string(),
                why: "what it changes is not what it was when the plan was made; nothing was written, plan again".into(),
            });
        }
    }
    Ok(())
}

fn value<'c>(contents: &'c Contents, write: &Write) -> Option<&'c [u8]> {
    contents.get(&write.variable_name()).map(|variable| variable.data.as_slice())
}

#[cfg(test)]
mod tests {
    use signpost_firmware::boot_variables::boot_order;
    use signpost_firmware::store::MemoryStore;
    use signpost_firmware::variable::{Variable, VariableName, VariableStore};

    use super::*;

    /// A store that says how much it can take, as some do.
    struct Tight {
        store: MemoryStore,
        room: u64,
    }

    impl VariableStore for Tight {
        fn read_all(&self) -> std::result::Result<Contents, StoreError> {
            self.store.read_all()
        }

        fn write(&mut self, variable: &Variable) -> std::result::Result<(), StoreError> {
            self.store.write(variable)
        }

        fn remove(&mut self, name: &VariableName) -> std::result::Result<(), StoreError> {
            self.store.remove(name)
        }

        fn room(&self) -> Option<u64> {
            Some(self.room)
        }
    }

    /// Whether the order is written, and what was said, with this much room.
    fn with_room(room: u64, is_interrupted: bool) -> (bool, String) {
        let work = tempfile::tempdir().unwrap();
        let mut machine = Machine::of_images(&[]);
        machine.variables = Box::new(Tight { store: MemoryStore::default(), room });
        let mut records = Records::open(work.path()).unwrap();
        let contents = machine.contents().unwrap();
        let write = Write::to(&contents, boot_order(&[1, 2]), "boot order 0001 0002".into(), None);
        let done = carry_out(&mut machine, &mut records, Action::Apply, &[Change::Variable(write)], &|| {
            is_interrupted
        });
        let is_written = !machine.contents().unwrap().variables.is_empty();
        (is_written, done.map_or_else(|error| error.to_string(), |_| String::new()))
    }

    #[test]
    fn a_store_without_room_is_found_out_before_anything_is_written() {
        let (is_written, said) = with_room(80, false);
        assert!(!is_written && said.contains("room for 80") && said.contains("restart once"), "{said}");
        assert_eq!(with_room(1000, false), (true, String::new()));
    }

    #[test]
    fn who_is_stopped_before_the_first_write_has_written_nothing() {
        let (is_written, said) = with_room(1000, true);
        assert!(!is_written && said.contains("after 0 of 1 writes"), "{said}");
    }
}
