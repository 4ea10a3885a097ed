//! The one way in which a machine is changed: guards, a record, the writes one by one, each read back, the machine looked at
//! anew, rehearsed, and compared with what was planned. And what is kept beside a machine: records, the menu file, notes.
//!
//! In comes what core planned. Nothing here decides what is written, and nothing else writes.

mod carry_out;
pub mod kept;
pub mod menu_file;
mod records;
pub mod rescue;

pub use carry_out::carry_out;
pub use records::Records;
use signpost_core::history::Action;
use signpost_core::rehearse::{Kind, Outcome, rehearse};
use signpost_facts::change::Change;
use signpost_facts::{Error, FirmwareKind, Refusal, Result};
use signpost_machine::Machine;
pub use signpost_machine::now;
use signpost_place::Look;
use signpost_survey::catalogue::Catalogue;

/// What is to be done to a machine, as it was planned.
pub trait Planned {
    /// What would be written, in this order.
    fn writes(&self) -> &[Change];
    /// What stands against it.
    fn refusals(&self) -> &[Refusal];
    /// What starts then, rehearsed.
    fn outcome(&self) -> &Outcome;
}

macro_rules! planned {
    ($($plan:path),*) => {$(
        impl Planned for $plan {
            fn writes(&self) -> &[Change] {
                &self.writes
            }

            fn refusals(&self) -> &[Refusal] {
                &self.refusals
            }

            fn outcome(&self) -> &Outcome {
                &self.outcome
            }
        }
    )*};
}

planned!(
    signpost_core::plan::Plan,
    signpost_core::undo::Undo,
    signpost_core::hold::HoldPlan,
    signpost_core::firmware::FirmwareChange,
    signpost_core::bios::SectorPlan,
    signpost_core::mend::Mend
);

/// Nothing stands against a start that comes once.
impl Planned for signpost_core::once::Once {
    fn writes(&self) -> &[Change] {
        &self.writes
    }

    fn refusals(&self) -> &[Refusal] {
        &[]
    }

    fn outcome(&self) -> &Outcome {
        &self.outcome
    }
}

/// Looks at a machine, and decides what a survey leaves open.
pub fn look(machine: &Machine, catalogue: &Catalogue) -> Look {
    signpost_core::decide(signpost_survey::survey(machine, catalogue))
}

/// Who watches while a machine is changed.
pub trait Watch {
    /// Whether somebody wants it to stop between two writes.
    fn is_interrupted(&self) -> bool;
    /// Takes notice of what went wrong, and does not matter to what was asked for.
    fn note(&self, what: &str);
}

/// Whether a machine starts as was planned. A system that shows by its loaders alone may be called otherwise once one more of them
/// is there; then the way counts by which it starts. So it does where a disk's table was written: what lies behind it is seen anew.
fn is_as_planned(look: &Look, planned: &Outcome, outcome: &Outcome, writes: &[Change]) -> bool {
    // A boot sector that is back may be what a volume, and the system on it, is known by.
    if planned.system.is_none() && look.survey.machine.firmware == FirmwareKind::Bios {
        return planned.kind == outcome.kind || planned.kind == Kind::MayStart;
    }
    let is_renamed = planned.system.as_ref().is_some_and(|id| look.survey.system(id).is_none());
    if is_renamed || writes.iter().any(|change| change.sectors().is_some()) {
        return (planned.kind, planned.entry) == (outcome.kind, outcome.entry);
    }
    planned.is_like(outcome)
}

/// What came of a change.
pub struct Put {
    /// Its number among the records; none where nothing was to be written.
    pub record: Option<u32>,
    /// The machine as it is now.
    pub look: Look,
}

/// The writes, with what stands now where sectors are written that no survey reads; those that change nothing are left out.
fn filled(machine: &Machine, writes: &[Change]) -> Result<Vec<Change>> {
    let mut all = Vec::with_capacity(writes.len());
    for change in writes {
        let Change::Sectors(write) = change else {
            all.push(change.clone());
            continue;
        };
        let mut write = write.clone();
        if let (None, Some(after)) = (&write.before, &write.after) {
            write.before = Some(machine.read_sectors(&write.disk, write.offset, after.len())?);
        }
        if write.before != write.after {
            all.push(Change::Sectors(write));
        }
    }
    Ok(all)
}

/// Writes what is no step of its own, with no record and nothing to undo: what the boot program itself writes at each start.
///
/// # Errors
/// Where it cannot be written, or does not read back.
pub fn note_down(machine: &mut Machine, writes: &[Change]) -> Result<()> {
    let writes = filled(machine, writes)?;
    carry_out::carry_out_unrecorded(machine, &writes)
}

/// Carries out what was planned, looks at the machine anew and holds it against what the plan said.
///
/// # Errors
/// Where a guard stands against it that `is_overridden` does not name, a write fails, or the machine is not as was planned.
pub fn put(
    (machine, catalogue): (&mut Machine, &Catalogue),
    records: &mut Records,
    (action, plan): (Action, &impl Planned),
    is_overridden: &dyn Fn(&Refusal) -> bool,
    watch: &dyn Watch,
) -> Result<Put> {
    signpost_core::plan::pass(plan.refusals(), is_overridden)?;
    let writes = filled(machine, plan.writes())?;
    let record = carry_out(machine, records, action, &writes, &|| watch.is_interrupted());
    let look = look(machine, catalogue);
    kept::keep_known(machine, &look);
    // Also where it failed: then above all somebody may come with a rescue medium.
    if let Err(error) = records.copy_to_homes(machine, &look) {
        watch.note(&format!("no copy of what was done is on the home volume: {error}"));
    }
    let record = record?;
    let (planned, outcome) = (plan.outcome(), rehearse(&look).outcome);
    if !is_as_planned(&look, planned, &outcome, plan.writes()) {
        let is_same_text = planned.text == outcome.text;
        let in_words = |outcome: &Outcome| match &outcome.system {
            _ if !is_same_text => outcome.text.clone(),
            Some(id) => format!("{}, of the system {id}", outcome.text),
            None => format!("{}, of no known system", outcome.text),
        };
        let what = format!("planned: {}; rehearsed: {}", in_words(planned), in_words(&outcome));
        return Err(Error::NotReadBack { what, way: "`signpost undo` undoes what was written".into() });
    }
    Ok(Put { record, look })
}
