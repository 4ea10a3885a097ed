//! What this system kept of earlier looks, and noted of what it did.

use signpost_facts::noted::Noted;
use signpost_machine::{Machine, kept};

/// What it noted for itself.
pub(crate) fn noted(machine: &Machine) -> Noted {
    let taken = machine.taken_record().and_then(|record| kept::read(&record).ok().flatten());
    Noted { applied: kept::read(&machine.held_record()).ok().flatten(), taken: taken.unwrap_or_default() }
}
