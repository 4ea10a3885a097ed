//! Findings that no cause accounts for: each is a cause by itself.

use signpost_facts::cause::{Act, Cause, Cure, Effect};
use signpost_facts::{Code, Finding, Subject};

use super::{Found, Seen, cause};
use crate::firmware::tidy;

pub(super) fn find(seen: &Seen<'_>, findings: Vec<Finding>, found: &mut Found) {
    let goes: Vec<String> = tidy(seen.look, seen.case.history)
        .map(|tidy| tidy.goes.into_iter().map(|told| told.entry).collect())
        .unwrap_or_default();
    for finding in findings {
        // A copy shares many identities: disk, partitions, file systems.
        if finding.code == Code::Clone
            && let Some(known) = found.causes.iter_mut().find(|cause| cause.code == Code::Clone)
        {
            known.symptoms.push(finding);
            continue;
        }
        let Some(effect) = effect(seen, &finding) else { continue };
        let mut made = cause(finding.code, effect, finding.subject.clone(), finding.message);
        made.cures.extend(cure(seen, &made, &goes));
        if made.cures.is_empty() {
            made.by_hand = Some(finding.help);
        }
        found.add(made, &[]);
    }
}

/// What a finding does by itself; nothing for one that is not a problem.
fn effect(seen: &Seen<'_>, finding: &Finding) -> Option<Effect> {
    match finding.code {
        // What is beyond us, or confuses people alone, keeps nothing from starting.
        Code::VolumeUnread | Code::NoLabel => None,
        Code::NotFirst => Some(seen.effect(&[], true, Effect::StartsOther)),
        Code::DiskUnreadable
        | Code::TableBroken
        | Code::PartitionMisplaced
        | Code::VolumeBroken
        | Code::Clone
        | Code::Hibernated
        | Code::FstabWrong
        | Code::InitrdMissing
        | Code::VariablesBroken => Some(Effect::WillBreak),
        _ => Some(Effect::Untidy),
    }
}

fn cure(seen: &Seen<'_>, made: &Cause, goes: &[String]) -> Option<Cure> {
    let clean = || Cure {
        name: "clean-order",
        what: "write the order with each entry once, and none that does not exist".into(),
        acts: vec![Act::CleanOrder],
    };
    match (made.code, &made.subject) {
        (Code::OrderDangling | Code::OrderTwice | Code::EntryUnordered, _) => Some(clean()),
        (
            Code::EntryStale | Code::EntryFileGone | Code::EntryUnfit | Code::EntryDuplicate,
            Some(Subject::Entry(number)),
        ) => {
            let entry = seen.look.survey.firmware.entries.iter().find(|entry| entry.number == *number)?;
            let named = crate::firmware::named(entry);
            goes.contains(&named).then(|| Cure {
                name: "remove-entry",
                what: format!("remove entry {named}"),
                acts: vec![Act::Remove(*number)],
            })
        }
        (Code::NotFirst, _) => {
            let running = seen.look.survey.systems.iter().find(|system| system.is_running)?;
            let starts = |number: &&signpost_facts::OptionNumber| {
                let entries = &seen.look.survey.firmware.entries;
                let own = entries.iter().find(|entry| entry.number == **number);
                own.and_then(|own| own.judged.as_ref()).is_some_and(|verdict| !verdict.starts_nothing())
            };
            let first = running.entries.iter().find(starts)?;
            Some(Cure {
                name: "put-first",
                what: format!("put entry {first}, which starts {}, first", running.title),
                acts: vec![Act::First(*first)],
            })
        }
        _ => None,
    }
}
