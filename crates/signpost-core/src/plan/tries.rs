//! What is to be said of entries whose starts are counted: each start of a system that never says that it came up brings its
//! fallback nearer.

use signpost_facts::System;
use signpost_menu::MenuDocument;
use signpost_menu::document::Host;
use signpost_menu::policy::Opening;
use signpost_place::Look;

use crate::resolve::resolve;
use crate::ways::started_by;

/// The unit that says it, and what wants it where it is turned on.
const UNIT: &str = "signpost-confirm.service";
const WANTED: &str = "/etc/systemd/system/multi-user.target.wants";

/// That a fallback starts, and why; where nothing starts by itself, the guards say so.
pub(super) fn instead(opening: &Opening, document: &MenuDocument) -> Option<String> {
    opening.note(document).filter(|_| opening.reason.is_none())
}

/// A note for each entry whose system has nothing turned on that says that it came up.
pub(super) fn notes(look: &Look, document: &MenuDocument) -> Vec<String> {
    let counted = |document: &MenuDocument| document.entries.iter().any(|entry| entry.tries.is_some());
    if !counted(document) {
        return Vec::new();
    }
    if document.settings.host == Host::Firmware {
        return vec!["tries: the firmware's own list counts no starts; host = \"signpost\" does".into()];
    }
    let resolved = resolve(look, document);
    let tried = resolved.iter().filter(|resolved| resolved.entry.tries.is_some());
    // What cannot start counts nothing.
    let silent = tried.filter(|resolved| {
        let target = resolved.target.as_ref();
        target.is_ok_and(|target| !started_by(look, target).iter().any(|system| says_so(look, system)))
    });
    let note = |resolved: &crate::resolve::ResolvedEntry<'_>| {
        format!(
            "{} counts its starts, and nothing in it says that it has come up, so its fallback starts after {}: `systemctl enable \
             {UNIT}` there says it at each start, `signpost confirm` once",
            resolved.entry.id,
            resolved.entry.tries.unwrap_or_default()
        )
    };
    silent.map(note).collect()
}

/// Whether a system has the unit turned on.
fn says_so(look: &Look, system: &System) -> bool {
    let Some(reader) = system.root.and_then(|root| look.reader(root.index())) else { return false };
    let folder = format!("{}{WANTED}", system.root_path.trim_end_matches('/'));
    reader.list(&folder).is_ok_and(|items| items.iter().any(|item| item.name == UNIT))
}
