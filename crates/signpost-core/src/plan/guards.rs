//! Guards: what a plan must not do.

use signpost_facts::change::Change;
use signpost_facts::secure_boot::Verdict;
use signpost_facts::{Code, OptionNumber, Refusal};
use signpost_menu::policy::Opening;
use signpost_place::Look;

use super::planned::{Action, EntryPlan, Plan};
use crate::rehearse::Outcome;
use crate::resolve::{ResolvedEntry, StartTarget};

/// What stands against a start where nobody chooses, where this much is said of its outcome. Where nothing but the default stands
/// against it, that is the reason given.
pub(super) fn by_itself(
    nothing: Option<Refusal>,
    opening: &Opening,
    resolved: &[ResolvedEntry<'_>],
) -> impl Iterator<Item = Refusal> {
    let can_choose = resolved.iter().any(|entry| entry.entry.starts.is_system() && entry.target.is_ok());
    let gone = default_gone(opening).filter(|_| can_choose);
    nothing.filter(|_| gone.is_none()).into_iter().chain(gone)
}

/// What starts by itself cannot: the default is gone, or does not start.
pub(super) fn default_gone(opening: &Opening) -> Option<Refusal> {
    let reason = opening.reason.as_ref()?;
    Some(Refusal {
        code: Code::DefaultGone,
        message: format!("nothing would start by itself: {reason}"),
        way: "`signpost tune default=ENTRY` names another default; `signpost menu` shows what each entry starts".into(),
    })
}

/// The default cannot be in the firmware's list.
pub(super) fn default_left_out(entries: &[EntryPlan], default: Option<&str>) -> Option<Refusal> {
    let left_out =
        |entry: &&EntryPlan| Some(entry.id.as_str()) == default && entry.action == Action::LeaveOut;
    let entry = entries.iter().find(left_out)?;
    Some(Refusal {
        code: Code::DefaultGone,
        message: format!("the default, {}, would not be in the firmware's list: {}", entry.id, entry.detail),
        way: "choose another default in the menu file".into(),
    })
}

/// Secure Boot will refuse a program that is to be applied.
pub(crate) fn secure_boot(what: &str, verdict: Option<&Verdict>) -> Option<Refusal> {
    let why = match verdict? {
        Verdict::Accepted(_) => return None,
        Verdict::Refused(why) => format!("Secure Boot refuses it: {why}"),
        // What carries no signature is taken by its digest alone, which nobody can look up.
        Verdict::CannotTell { why, is_unsigned: true } => {
            format!(
                "Secure Boot is on and it carries no signature; whether its digest is allowed cannot be told: {why}"
            )
        }
        Verdict::CannotTell { .. } => return None,
    };
    Some(Refusal {
        code: Code::SecureBootRefuses,
        message: format!("{what}: {why}"),
        way: "start what is signed, such as the system's own loader; or enrol a key, or turn Secure Boot off, in the \
              firmware setup"
            .into(),
    })
}

/// What Secure Boot says of the file that an entry starts.
pub(super) fn entry_verdict(look: &Look, resolved: &ResolvedEntry<'_>) -> Option<Refusal> {
    let (volume, path) = match resolved.target.as_ref().ok()? {
        StartTarget::Program { volume, path, .. } => (*volume, path),
        StartTarget::Linux { volume, kernel, .. } => (*volume, kernel),
        _ => return None,
    };
    let verdict = look.secure_boot_verdict(volume, path)?.ok()?;
    secure_boot(&format!("the default, {}", resolved.entry.id), Some(&verdict))
}

/// No entry of the order would start. A menu that waits for a key since its default does not start, is a case of its own;
/// one in which nothing starts whatever is chosen, is this one.
pub(crate) fn nothing_starts(outcome: &Outcome) -> Option<Refusal> {
    (!outcome.is_sound() || outcome.entry.is_none()).then(|| Refusal {
        code: Code::NothingStarts,
        message: format!("no entry of the boot order would start a system; then {}", outcome.text),
        way: "see what `signpost menu` and `signpost rehearse` say of each entry, and put one that starts into the menu".into(),
    })
}

/// Nothing would start, on a machine whose firmware has no entries.
pub(crate) fn no_system_starts(outcome: &Outcome) -> Option<Refusal> {
    (!outcome.is_sound()).then(|| Refusal {
        code: Code::NothingStarts,
        message: format!("no system would start; then {}", outcome.text),
        way: "see what `signpost menu` and `signpost rehearse` say of each entry, and put one that starts into the menu".into(),
    })
}

/// What the machine was started from would be removed: the firmware or the system would make it again.
pub(crate) fn started_from(look: &Look, removed: &[u16]) -> Option<Refusal> {
    let current = look.boot.current.filter(|current| removed.contains(current))?;
    Some(Refusal {
        code: Code::StartedFrom,
        message: format!(
            "entry {} would be removed, and the machine was started from it",
            OptionNumber(current)
        ),
        way: "start from another entry first, then do this again".into(),
    })
}

/// An option that is not ours must be changed: it is to be in use and is not.
pub(super) fn foreign_changes(look: &Look, plan: &Plan) -> Vec<Refusal> {
    let adopted = plan.entries.iter().filter(|entry| entry.action == Action::Adopt);
    let changed = adopted.filter(|entry| {
        let name = entry.number.as_ref().map(|number| format!("Boot{number}"));
        plan.writes.iter().filter_map(Change::variable).any(|write| Some(&write.name) == name.as_ref())
    });
    changed
        .map(|entry| {
            let number = entry.number.unwrap_or_default();
            let label = look.survey.firmware.entries.iter().find(|held| held.number == number);
            let label = label.map(|held| held.label.clone()).unwrap_or_default();
            Refusal {
                code: Code::ForeignEntry,
                message: format!(
                    "entry {number} \"{label}\" is disabled and not ours; {} would enable it",
                    entry.id
                ),
                way: "enable it in firmware setup, or name its file in an entry of its own".into(),
            }
        })
        .collect()
}
