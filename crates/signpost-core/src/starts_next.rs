//! The one line that says what the next start leads to.

use signpost_facts::FirmwareKind;
use signpost_place::Look;

use crate::rehearse::Rehearsal;

/// What starts next, in words.
pub(crate) fn starts_next(look: &Look, rehearsal: &Rehearsal) -> String {
    match look.survey.machine.firmware {
        FirmwareKind::Uefi | FirmwareKind::Bios => rehearsal.outcome.text.clone(),
        FirmwareKind::Unknown => "unknown: disk images have no firmware".into(),
    }
}
