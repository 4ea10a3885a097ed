//! The active menu: entries that start nothing, a default that does not start, arguments that name what is not there, a menu that
//! nobody sees; and the menu file's own errors.

use std::cell::OnceCell;

use signpost_facts::cause::{Act, Cause, Cure, Effect};
use signpost_facts::{Code, Error, Subject, System, VolumeNumber};
use signpost_menu::document::{Host, Show, Starts};
use signpost_menu::kernel_args::{Missing, missing_volumes};
use signpost_menu::policy::{ChosenBy, Opening, Reason};
use signpost_menu::resolve::{Fault, ResolvedEntry, StartTarget};
use signpost_menu::{MenuDocument, ours};

use super::twins::{loader_lost, systems_of_lost};
use super::{Found, Seen, cause, ids};
use crate::draft::{self, Wishes};
use crate::menu_file::MenuFile;
use crate::rehearse::active_document;
use crate::resolve::{opening, resolve};
use crate::ways::{self, Reach};

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    menu_file(seen, found);
    let Some((_, document)) = &seen.menu else { return };
    let resolved = resolve(seen.look, document);
    let opening = opening(seen.look, document, &resolved);
    let menu = Menu { resolved: &resolved, opening: &opening, redrafted: OnceCell::new() };
    for (index, entry) in resolved.iter().enumerate() {
        match &entry.target {
            Err(fault) => broken(seen, &menu, (index, entry, fault), found),
            Ok(StartTarget::Linux { args, .. } | StartTarget::Image { args, .. }) => {
                arguments(seen, &menu, index, args, found);
            }
            Ok(_) => {}
        }
    }
    default_gone(seen, &menu, found);
    tries_used_up(&menu, found);
    never_shown(document, found);
}

/// With BIOS firmware: what of the menu among the sectors of a disk its own checks leave to this one.
pub(super) fn find_in_sectors(seen: &Seen<'_>, found: &mut Found) {
    let Some(document) = active_document(seen.look) else { return };
    let resolved = resolve(seen.look, &document);
    let opening = opening(seen.look, &document, &resolved);
    tries_used_up(&Menu { resolved: &resolved, opening: &opening, redrafted: OnceCell::new() }, found);
}

/// The active menu, settled on the machine.
struct Menu<'m> {
    resolved: &'m [ResolvedEntry<'m>],
    opening: &'m Opening,
    /// The menu file as a draft would make it now; `None` where it cannot.
    redrafted: OnceCell<Option<MenuFile>>,
}

impl Menu<'_> {
    /// Whether a draft mends an entry.
    fn is_mended_by_draft(&self, seen: &Seen<'_>, id: &str) -> bool {
        let Some(menu) = self.redrafted.get_or_init(|| redrafted(seen)) else { return false };
        resolve(seen.look, &menu.document).iter().any(|entry| entry.entry.id == id && entry.target.is_ok())
    }

    fn is_default(&self, index: usize) -> bool {
        self.opening.named == Some(index)
    }

    /// The first entry that starts a system, but for this one.
    fn other_start(&self, index: Option<usize>) -> Option<&ResolvedEntry<'_>> {
        let mut others = self.resolved.iter().enumerate().filter(|(at, _)| Some(*at) != index);
        others
            .find(|(_, entry)| entry.entry.starts.is_system() && entry.target.is_ok())
            .map(|(_, entry)| entry)
    }

    fn other_default(&self, index: Option<usize>) -> Option<Cure> {
        let other = self.other_start(index)?;
        Some(Cure {
            name: "other-default",
            what: format!("make {} the default", other.entry.title),
            acts: vec![Act::Default(other.entry.id.clone())],
        })
    }
}

/// The menu file as a draft would make it.
fn redrafted(seen: &Seen<'_>) -> Option<MenuFile> {
    let case = seen.case;
    let existing = match case.menu {
        Some(Ok(menu)) => Some(menu),
        Some(Err(_)) => return None,
        None => None,
    };
    let wishes = Wishes { new_host: Host::Signpost, takes_saved: false, hides_snapshots: false };
    let draft = draft::draft(seen.look, case.menu_path, existing, wishes, case.base.clone()).ok()?;
    MenuFile::new(case.menu_path, draft.text).ok()
}

fn menu_file(seen: &Seen<'_>, found: &mut Found) {
    let Some(Err(error)) = &seen.case.menu else { return };
    let message = match error {
        Error::MenuFile { file, problems } => format!("{file} has {} errors", problems.len()),
        other => other.to_string(),
    };
    let mut broken = cause(Code::MenuFileBroken, Effect::WillBreak, None, message);
    if let Error::MenuFile { problems, .. } = error {
        broken.evidence = problems.iter().map(ToString::to_string).collect();
    }
    broken.by_hand = Some(
        "the active menu still works; correct the lines, or `signpost undo --menu` brings back the file as it was before \
         the last command"
            .into(),
    );
    found.add(broken, &[]);
}

/// An entry that starts nothing.
fn broken(
    seen: &Seen<'_>,
    menu: &Menu<'_>,
    (index, resolved, fault): (usize, &ResolvedEntry<'_>, &Fault),
    found: &mut Found,
) {
    let look = seen.look;
    let systems = ways::meant_by(look, resolved);
    let entry = resolved.entry;
    let subject = Subject::InMenu(entry.id.clone());
    let is_default = menu.is_default(index);
    let effect = match seen.effect(&systems, is_default, Effect::WillBreak) {
        // What it is for cannot be told, so nobody knows of another way either.
        Effect::WillBreak if systems.is_empty() => Effect::SystemLost,
        effect => effect,
    };
    let reach = ways::of_entry(look, resolved);
    if let Fault::DeadLoadOption { number, .. } = fault {
        let of_entry = Subject::Entry(signpost_facts::OptionNumber(*number));
        if let Some(known) = found.causes.iter_mut().find(|cause| cause.subject.as_ref() == Some(&of_entry)) {
            known.effect = known.effect.min(effect);
            return;
        }
    }
    let program = match &entry.starts {
        Starts::Efi { program, .. } => Some(program),
        _ => None,
    };
    let mut made = match (fault, reach, program) {
        (Fault::NoFile { volume, .. }, Reach::Gone, Some(program)) => {
            let at = (VolumeNumber::of_index(*volume), program.path.as_str());
            if let Some(known) = lost_already(found, at) {
                known.effect = known.effect.min(effect);
                return;
            }
            let systems = systems_of_lost(seen, at, systems.clone());
            loader_lost(seen, at, &systems, (subject, effect), false)
        }
        _ => {
            let (code, what) = told(&entry.starts, fault, reach);
            let message = format!("the menu's entry {} cannot start: {what}{fault}", entry.title);
            let mut made = cause(code, effect, Some(subject), message);
            made.systems = ids(&systems);
            made
        }
    };
    if reach == Reach::OutOfReach {
        made.by_hand.get_or_insert_with(|| "attach or unlock what it lies on; the entry stays".into());
    } else {
        made.cures.extend(redraft_cure(seen, menu, &entry.id).filter(|_| made.cures.is_empty()));
        made.cures.extend(entry_again(seen, &entry.starts, fault));
    }
    if is_default {
        made.cures.extend(menu.other_default(Some(index)));
    }
    if made.cures.is_empty() && made.by_hand.is_none() {
        made.by_hand = Some(restore_words(&systems));
    }
    let is_copied = made.code == Code::Clone;
    let index = found.add(made, &[]);
    if is_copied {
        found.explain(index, Code::Clone, None);
    }
    // What is asleep behind it is named there.
    for system in systems {
        found.explain(index, Code::InitrdMissing, Some(Subject::System(system.id.clone())));
    }
}

fn restore_words(systems: &[&System]) -> String {
    match systems.first() {
        Some(system) => {
            format!(
                "let {}'s own tools put back what is missing, or `signpost entry remove` it",
                system.title
            )
        }
        None => "`signpost entry edit` names what it should start, `signpost entry remove` removes it".into(),
    }
}

/// The cause that this file is gone, where there is one already.
fn lost_already<'f>(found: &'f mut Found, (volume, path): (VolumeNumber, &str)) -> Option<&'f mut Cause> {
    let is_it = |cause: &&mut Cause| {
        cause.code == Code::LoaderGone
            && cause.cures.iter().flat_map(|cure| &cure.acts).any(|act| match act {
                Act::Copy { to, .. } => to.0 == volume && to.1.to_lowercase() == path.to_lowercase(),
                _ => false,
            })
    };
    found.causes.iter_mut().find(is_it)
}

/// The code of what an entry lacks, and what comes before the reason.
fn told(starts: &Starts, fault: &Fault, reach: Reach) -> (Code, &'static str) {
    match (starts, fault) {
        (_, Fault::Ambiguous(_)) => (Code::Clone, ""),
        (_, Fault::NoVolume { .. }) if reach == Reach::OutOfReach => {
            (Code::DiskMissing, "it is not attached: ")
        }
        (_, Fault::NoVolume { .. }) => (Code::VolumeGone, ""),
        (_, Fault::Unread { .. }) => (Code::VolumeUnread, ""),
        (_, Fault::NoLoadOption(_) | Fault::DeadLoadOption { .. }) => (Code::EntryLost, ""),
        (Starts::Linux(_) | Starts::Image { .. }, _) => (Code::KernelGone, ""),
        _ => (Code::LoaderGone, ""),
    }
}

fn redraft_cure(seen: &Seen<'_>, menu: &Menu<'_>, id: &str) -> Option<Cure> {
    menu.is_mended_by_draft(seen, id).then(|| Cure {
        name: "refresh-menu",
        what: "refresh the menu from what is there, and apply it".into(),
        acts: vec![Act::Redraft],
    })
}

/// An entry of the firmware's that the menu goes by, made again for the program that it should start.
fn entry_again(seen: &Seen<'_>, starts: &Starts, fault: &Fault) -> Option<Cure> {
    let (Starts::FirmwareEntry { label, target: Some(program), .. }, Fault::NoLoadOption(_)) =
        (starts, fault)
    else {
        return None;
    };
    let volume = seen.look.resolve(&program.volume).ok()?;
    seen.look.survey.boot_file(volume, &program.path)?;
    let volume = VolumeNumber::of_index(volume);
    Some(Cure {
        name: "make-entry",
        what: format!(
            "make the firmware's entry \"{label}\" for {} again",
            seen.look.survey.at(volume, &program.path)
        ),
        acts: vec![Act::Make { label: label.clone(), volume, path: program.path.clone(), is_first: false }],
    })
}

/// Arguments that name volumes which are not there.
fn arguments(seen: &Seen<'_>, menu: &Menu<'_>, index: usize, args: &str, found: &mut Found) {
    let Some(resolved) = menu.resolved.get(index) else { return };
    for missing in missing_volumes(seen.look, args) {
        let Missing::Gone { word, words } = missing else { continue };
        let is_root = word.starts_with("root=");
        let effect = match (is_root, menu.is_default(index)) {
            (true, true) => Effect::NothingStarts,
            (true, false) => Effect::SystemLost,
            (false, _) => Effect::WillBreak,
        };
        let message = format!("the arguments of {} are wrong: {words}", resolved.entry.title);
        let subject = Some(Subject::InMenu(resolved.entry.id.clone()));
        let mut wrong = cause(Code::ArgumentWrong, effect, subject, message);
        wrong.systems = ids(&ways::meant_by(seen.look, resolved));
        let keeps = |menu: &MenuFile| {
            let again = resolve(seen.look, &menu.document);
            let own = again.into_iter().find(|entry| entry.entry.id == resolved.entry.id);
            own.is_some_and(|own| match own.target {
                Ok(StartTarget::Linux { args, .. }) => missing_volumes(seen.look, &args).is_empty(),
                _ => false,
            })
        };
        if menu.redrafted.get_or_init(|| redrafted(seen)).as_ref().is_some_and(keeps) {
            wrong.cures.push(Cure {
                name: "refresh-menu",
                what: "refresh the menu from what is there, and apply it".into(),
                acts: vec![Act::Redraft],
            });
        }
        if is_root && menu.is_default(index) {
            wrong.cures.extend(menu.other_default(Some(index)));
        }
        wrong.by_hand = Some(format!(
            "`signpost entry edit {} args=-{word}` drops the word; where the system keeps it itself, correct it there",
            resolved.entry.id
        ));
        found.add(wrong, &[]);
    }
}

/// The default names nothing that starts a system, whatever its own entry is like.
fn default_gone(seen: &Seen<'_>, menu: &Menu<'_>, found: &mut Found) {
    let Some(reason) = &menu.opening.reason else { return };
    let effect = if seen.outcome().is_sound() { Effect::WillBreak } else { Effect::NothingStarts };
    if matches!(reason, Reason::CannotStart { .. }) {
        return;
    }
    let mut gone = cause(Code::DefaultGone, effect, None, format!("nothing starts by itself: {reason}"));
    let by = match reason {
        Reason::NoEntry { by, .. } | Reason::StartsNoSystem { by, .. } => Some(*by),
        Reason::Failed(_) | Reason::NoSystem | Reason::CannotStart { .. } | Reason::TriesUsedUp { .. } => {
            None
        }
    };
    // What was said at boot is forgotten first: the menu's own default counts then.
    match by {
        Some(ChosenBy::Kept) => {
            gone.cures.push(forget(ours::KEPT, "forget what was kept as the default at boot"));
        }
        Some(ChosenBy::Once) => {
            gone.cures.push(forget(ours::ONCE, "forget what the next start was to go to"));
        }
        _ => gone.cures.extend(menu.other_default(None)),
    }
    if gone.cures.is_empty() {
        gone.by_hand = Some("`signpost draft` offers what is there".into());
    }
    found.add(gone, &[]);
}

/// What was to start was started as often as it may be, and its system never said that it came up.
fn tries_used_up(menu: &Menu<'_>, found: &mut Found) {
    let said = menu.opening.skipped.iter().chain(&menu.opening.reason);
    let used_up: Vec<&Reason> = said.filter(|why| matches!(why, Reason::TriesUsedUp { .. })).collect();
    let Some(first) = used_up.first() else { return };
    let named = menu.opening.named.and_then(|index| menu.resolved.get(index));
    let Some(entry) = named.map(|resolved| resolved.entry) else { return };
    let instead = menu.opening.default().and_then(|index| menu.resolved.get(index));
    let (effect, then) = match instead {
        Some(instead) => (Effect::StartsOther, format!("{} starts instead", instead.entry.title)),
        None => (Effect::NothingStarts, "nothing starts by itself".into()),
    };
    let subject = Some(Subject::InMenu(entry.id.clone()));
    let mut cause = cause(Code::TriesUsedUp, effect, subject, format!("{first}, so {then}"));
    cause.evidence = used_up.iter().skip(1).map(ToString::to_string).collect();
    cause.by_hand = Some(format!(
        "find out why it does not come up; `signpost confirm {}` has it tried again. Where it did come up, it has to say so: \
         `systemctl enable signpost-confirm.service` in it",
        entry.id
    ));
    found.add(cause, &[]);
}

fn forget(variable: &'static str, what: &str) -> Cure {
    Cure { name: "forget", what: what.into(), acts: vec![Act::Forget(variable)] }
}

fn never_shown(document: &MenuDocument, found: &mut Found) {
    if document.settings.show != Show::Never || document.entries.len() < 2 {
        return;
    }
    let message =
        "the menu is never shown: its other entries can be reached by `signpost once` alone".to_string();
    let mut unseen = cause(Code::MenuUnseen, Effect::Untidy, None, message);
    unseen.cures.push(Cure { name: "show", what: "show it at every start".into(), acts: vec![Act::Show] });
    found.add(unseen, &[]);
}
