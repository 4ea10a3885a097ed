//! What is kept beside a machine, in files of ours.

use std::path::Path;

use signpost_core::draft::Base;
use signpost_core::history::History;
use signpost_core::hold::{Held, Kept, Log};
use signpost_core::news::taken_now;
use signpost_facts::Result;
use signpost_machine::{Machine, kept, now};
use signpost_place::Look;

/// Keeps what the disks hold, so that one that is missing later is known. A machine that cannot be written to is looked at all
/// the same.
pub fn keep_known(machine: &Machine, look: &Look) {
    if let Some(record) = machine.known_record() {
        let known = look.known.with(&look.survey, &look.identities);
        let day: String = now().chars().take(10).collect();
        let known = known.with_files(&look.survey, &look.identities, &day).with_sectors(&look.survey, &day);
        let _ = kept::write(&record, &known);
    }
}

/// What draft wrote last into a menu file; nothing, where no draft was made yet, or by another version.
pub fn base(machine: &Machine, menu_file: &Path) -> Base {
    let read = kept::read(&machine.draft_record(menu_file)).ok().flatten();
    read.filter(Base::is_current).unwrap_or_default()
}

/// Keeps that.
///
/// # Errors
/// Where it cannot be written.
pub fn keep_base(machine: &Machine, menu_file: &Path, base: &Base) -> Result<()> {
    kept::write(&machine.draft_record(menu_file), base)
}

/// Keeps that all that was decided at boot until now is taken in.
///
/// # Errors
/// Where it cannot be written.
pub fn keep_taken(machine: &Machine, look: &Look) -> Result<()> {
    machine.taken_record().map_or(Ok(()), |record| kept::write(&record, &taken_now(look)))
}

/// What is held of the menu that is active; nothing, where none is.
///
/// # Errors
/// Where the file cannot be read.
pub fn held(machine: &Machine, history: &History) -> Result<Option<Held>> {
    let kept: Option<Kept> = kept::read(&machine.held_record())?;
    Ok(kept.and_then(|kept| kept.active(history).cloned()))
}

/// Keeps what is to be held, beside what was applied before.
///
/// # Errors
/// Where it cannot be written.
pub fn keep_held(machine: &Machine, held: Held) -> Result<()> {
    let before = kept::read(&machine.held_record()).ok().flatten();
    kept::write(&machine.held_record(), &held.kept_with(before))
}

/// What hold corrected; an empty log where there is none.
///
/// # Errors
/// Where it cannot be read.
pub fn log(machine: &Machine) -> Result<Log> {
    Ok(kept::read(&machine.hold_log())?.unwrap_or_default())
}

/// Keeps that.
///
/// # Errors
/// Where it cannot be written.
pub fn keep_log(machine: &Machine, log: &Log) -> Result<()> {
    kept::write(&machine.hold_log(), log)
}
