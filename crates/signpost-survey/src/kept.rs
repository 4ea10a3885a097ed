//! What this system kept of earlier looks, and noted of what it did.

use signpost_facts::known::Known;
use signpost_facts::noted::Noted;
use signpost_machine::{Machine, kept};

/// What the disks held when they were last seen; nothing, where nothing was kept, or by another version.
pub(crate) fn known(machine: &Machine) -> Known {
    let read = machine.known_record().and_then(|record| kept::read(&record).ok().flatten());
    read.filter(Known::is_current).unwrap_or_default()
}

/// What it noted for itself.
pub(crate) fn noted(machine: &Machine) -> Noted {
    let taken = machine.taken_record().and_then(|record| kept::read(&record).ok().flatten());
    Noted { applied: kept::read(&machine.held_record()).ok().flatten(), taken: taken.unwrap_or_default() }
}
