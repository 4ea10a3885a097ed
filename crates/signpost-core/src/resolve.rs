//! What the entries of a menu would start on a surveyed machine, and whether it is there.

use signpost_facts::FirmwareKind;
use signpost_menu::MenuDocument;
use signpost_menu::document::Host;
use signpost_menu::policy::{Opening, Situation, open};
pub use signpost_menu::resolve::{ResolvedEntry, StartTarget, describe, resolve, resolve_entry};
use signpost_place::Look;

/// How a menu opens on this machine, but for what is asked for the next start alone. The firmware's own list knows nothing
/// of what was kept or started last.
pub fn opening(look: &Look, document: &MenuDocument, resolved: &[ResolvedEntry<'_>]) -> Opening {
    let faults = faults(resolved);
    let ours = Some(&look.ours).filter(|_| document.settings.host == Host::Signpost);
    let unconfirmed = ours.map(|ours| ours.unconfirmed.clone()).unwrap_or_default();
    open(&Situation {
        document,
        faults: &faults,
        once: None,
        kept: ours.and_then(|ours| ours.kept.as_deref()),
        last_started: ours.and_then(|ours| ours.last.as_deref()),
        unconfirmed: &unconfirmed,
        failed: None,
    })
}

/// For each entry, why it cannot start, in words.
pub fn faults(resolved: &[ResolvedEntry<'_>]) -> Vec<Option<String>> {
    resolved.iter().map(|entry| entry.target.as_ref().err().map(ToString::to_string)).collect()
}

/// The home volume, or the one that would be it; none with BIOS firmware, where home is not a volume.
pub(crate) fn home_or_chosen(look: &Look) -> Option<usize> {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return None;
    }
    look.home.or_else(|| signpost_place::home::choose(look, None).ok().map(|home| home.volume))
}
