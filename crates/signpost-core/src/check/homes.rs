//! The volumes where boot program and menu were put: out of reach, formatted again, or with another menu than the one that counts.

use signpost_facts::cause::{Act, Cause, Cure, Effect};
use signpost_facts::change::FileWrite;
use signpost_facts::{Code, OptionNumber, Subject, VolumeNumber};
use signpost_menu::place::VolumeRef;
use signpost_place::home;

use super::{Found, Seen, cause, hold_cure};
use crate::hold::Held;
use crate::ways::{self, Reach};

/// Homes that are not there as they were applied. Whether that explains all that is not as it was applied.
pub(super) fn missing(seen: &Seen<'_>, held: &Held, found: &mut Found) -> bool {
    let is_one_of_two = held.homes().count() > 1;
    let mut explains_all = false;
    for name in held.homes() {
        let out = ways::home_out_of_reach(seen.look, Some(name));
        if let Some(home) = &out {
            let is_all = held.out_of_reach(seen.look).is_some();
            let index = found.add(out_of_reach(seen, home, !is_all), &[]);
            for number in seen.case.history.owned().into_keys() {
                if ways::of_load_option(seen.look, number) == Reach::OutOfReach {
                    found.explain(index, Code::EntryStale, Some(Subject::Entry(OptionNumber(number))));
                }
            }
            if is_all {
                found.explain(index, Code::NotFirst, None);
                return true;
            }
        } else if let Some(cause) = formatted_again(seen, name, is_one_of_two) {
            found.add(cause, &[]);
            explains_all = true;
        }
    }
    explains_all
}

/// The disk of a home volume is not attached, or cannot be read: nothing of what was applied is lost.
fn out_of_reach(seen: &Seen<'_>, home: &VolumeRef, has_another: bool) -> Cause {
    if has_another {
        let message = format!(
            "one of the two homes is not attached, or cannot be read: {home}; the menu starts from the other one"
        );
        let mut missing = cause(Code::DiskMissing, Effect::WillBreak, None, message);
        missing.by_hand = Some(
            "attach it, and `signpost hold` brings it up to date; should it not come back, `signpost apply --second-home VOLUME` puts the \
             menu on another one"
                .into(),
        );
        return missing;
    }
    let effect = seen.effect(&[], true, Effect::StartsOther);
    let message =
        format!("the disk of the home volume is not attached, or cannot be read: the menu is on {home}");
    let mut missing = cause(Code::DiskMissing, effect, None, message);
    missing.by_hand = Some(
        "attach it, and all is as it was applied; should it not come back, `signpost apply --home VOLUME` puts the menu elsewhere"
            .into(),
    );
    missing
}

/// A home volume, which is not out of reach, has another identity, or none: it was formatted again.
fn formatted_again(seen: &Seen<'_>, home: &str, is_one_of_two: bool) -> Option<Cause> {
    let wanted = VolumeRef::parse(home).ok()?;
    let look = seen.look;
    if look.resolve(&wanted).is_ok() {
        return None;
    }
    let esp = look.fat_volumes().find(|volume| {
        look.survey.volumes[*volume].is_esp && look.survey.takes_part(VolumeNumber::of_index(*volume))
    })?;
    let facts = &look.survey.volumes[esp];
    let effect = if is_one_of_two && seen.menu.is_some() {
        Effect::WillBreak
    } else {
        seen.effect(&[], true, Effect::StartsOther)
    };
    let message = format!("the ESP that held the menu ({wanted}) is gone: it was formatted again, or wiped");
    let subject = (!is_one_of_two).then_some(Subject::Volume(facts.number));
    let mut made = cause(Code::EspNew, effect, subject, message);
    made.evidence.push(format!("the menu was applied to {wanted}"));
    let onto = if is_one_of_two { "two homes again".to_string() } else { facts.name.clone() };
    made.cures.push(Cure {
        name: "apply-anew",
        what: format!("apply the same menu to {onto}"),
        acts: vec![Act::Reapply],
    });
    Some(made)
}

/// Whether what hold would write there goes to a home beside the one whose menu counts.
pub(super) fn is_beside(seen: &Seen<'_>, write: &FileWrite) -> bool {
    if seen.case.held.is_none_or(|held| held.homes().count() < 2) {
        return false;
    }
    let counts = home::in_force(seen.look).map(|found| found.home);
    counts.is_some() && crate::home::volume_of(seen.look, write) != counts
}

/// What stands on the other home is not what was applied: it would not start the machine as it is meant to.
pub(super) fn out_of_step((name, subject): (String, Subject), lacks: Vec<String>, found: &mut Found) {
    let message =
        format!("the other home, {name}, is not up to date: what is there is damaged, older or gone");
    let mut other = cause(Code::HomesDisagree, Effect::WillBreak, Some(subject), message);
    other.evidence = lacks;
    other.cures.push(hold_cure("bring it up to date"));
    found.add(other, &[]);
}

/// Two volumes that hold menus of this machine which differ, and neither names the other as a home: which one starts hangs on the
/// firmware's order.
pub(super) fn disagree(seen: &Seen<'_>, found: &mut Found) {
    let look = seen.look;
    let machine = home::machine_id(look);
    let Some(own) = look.home.filter(|_| !machine.is_empty()) else { return };
    let Some((_, active)) = home::newest_slot(look, own) else { return };
    for other in look.fat_volumes().filter(|other| *other != own) {
        let number = VolumeNumber::of_index(other);
        let Some((_, slot)) = home::newest_slot(look, other) else { continue };
        let is_partner = slot.homes.iter().any(|name| name == home::identity(look, own))
            && active.homes.iter().any(|name| name == home::identity(look, other));
        if is_partner
            || slot.machine != machine
            || slot.text == active.text
            || !look.survey.takes_part(number)
        {
            continue;
        }
        let message = format!(
            "{} holds another menu of this machine than {}, which is active",
            look.survey.volumes[other].name, look.survey.volumes[own].name
        );
        let mut differ =
            cause(Code::HomesDisagree, Effect::WillBreak, Some(Subject::Volume(number)), message);
        differ.by_hand = Some("`signpost apply` removes what is left over on the other one".into());
        found.add(differ, &[]);
    }
}
