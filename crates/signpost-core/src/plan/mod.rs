//! The plan: what would make a menu active, with nothing written yet.

mod bios;
pub(crate) mod bios_homes;
pub(crate) mod bios_menu;
mod bios_picture;
mod boot_program;
pub(crate) mod guards;
mod homes;
mod leftovers;
mod options;
mod planned;
mod remove;
pub mod safe;
mod slots;
mod tries;
mod wanted;

pub use bios_picture::without_place;
pub(crate) use options::MENU_ID;
use options::Numbers;
pub use planned::{Action, EntryPlan, Plan, Wishes};
pub(crate) use planned::{After, state_after, words};
use planned::{ToKeep, ours_first};
pub use remove::remove;
use signpost_facts::change::{Change, Write};
use signpost_facts::{Error, FirmwareKind, OptionNumber, Refusal, Result, System};
use signpost_firmware::boot_variables::{self, TIMEOUT_FOREVER};
use signpost_firmware::variable::{Contents, VariableName};
use signpost_menu::MenuDocument;
use signpost_menu::document::{DefaultEntry, Host, Show, Timeout};
use signpost_menu::policy::{Opening, Situation, open};
use signpost_place::Look;
pub(crate) use wanted::{device_path, host_cannot, text_data};

use crate::history::History;
use crate::menu_file::MenuFile;
use crate::rehearse::{State, rehearse_state};
use crate::resolve::{ResolvedEntry, faults, opening, resolve};
use crate::{draft, home, ways};

/// Plans how to make a menu active.
///
/// # Errors
/// Where the menu's host is not to be had, or the variables cannot be read.
pub fn plan(look: &Look, menu: &MenuFile, history: &History, wishes: &Wishes) -> Result<Plan> {
    let mut plan = of_host(look, menu, history, wishes)?;
    plan.notes.extend(tries::notes(look, &menu.document));
    Ok(plan)
}

/// The plan by who shows the menu, and with what firmware.
fn of_host(look: &Look, menu: &MenuFile, history: &History, wishes: &Wishes) -> Result<Plan> {
    let document = &menu.document;
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return match document.settings.host {
            Host::Firmware => bios::plan(look, menu),
            Host::Signpost => bios_menu::plan(look, menu, history, wishes),
        };
    }
    let contents = whole_contents(look)?;
    if document.settings.host == Host::Signpost {
        return boot_program::plan(look, menu, history, wishes, contents);
    }
    of_firmware(look, document, history, contents)
}

/// Host "firmware": the menu's entries in the firmware's own list.
fn of_firmware(look: &Look, document: &MenuDocument, history: &History, contents: &Contents) -> Result<Plan> {
    let mut numbers = Numbers::new(&look.boot, history.owned());
    let mut entries = Vec::new();
    let mut writes = Vec::new();
    let mut notes = Vec::new();
    let resolved = resolve(look, document);
    let opening = opening(look, document, &resolved);
    for resolved in &resolved {
        notes.extend(resolved.notes.iter().map(|note| format!("{}: {note}", resolved.entry.id)));
        let (planned, write) = options::entry(look, contents, resolved, &mut numbers);
        entries.push(planned);
        writes.extend(write);
    }
    let default = opening.chosen.and_then(|index| document.entries.get(index)).map(|entry| entry.id.clone());
    let removed = numbers.leftovers(document);
    let order = firmware_order(look, &entries, default.as_deref(), &removed);
    let what = format!("boot order {}", words(&order));
    writes.push(Write::to(contents, boot_variables::boot_order(&order), what, None));
    let (timeout, what) = match document.settings.timeout {
        Timeout::Seconds(TIMEOUT_FOREVER) | Timeout::Never => {
            (TIMEOUT_FOREVER, "timeout: wait for a key".to_string())
        }
        Timeout::Seconds(seconds) => (seconds, format!("timeout {seconds} s")),
    };
    writes.push(Write::to(contents, boot_variables::timeout(timeout), what, None));
    for number in &removed {
        let what = format!("remove entry {}, whose menu entry is gone", OptionNumber(*number));
        writes.push(Write::removal(contents, VariableName::boot_option(*number), what));
    }
    writes.retain(|write| !write.is_done());
    notes.extend(policy_notes(document, look.boot.next));
    let after = state_after(look, contents, &writes)?;
    let outcome = rehearse_state(look, after.state(&[]), None).outcome;
    let mut plan = Plan {
        order_before: look.boot.order.iter().map(|number| OptionNumber(*number)).collect(),
        order_after: order.iter().map(|number| OptionNumber(*number)).collect(),
        timeout_before: look.boot.timeout,
        timeout_after: Some(timeout),
        entries,
        writes: writes.into_iter().map(Change::Variable).collect(),
        home: None,
        second_home: None,
        left_out: draft::left_out(look, document, &resolved),
        notes,
        refusals: Vec::new(),
        outcome,
        kept: ToKeep::default(),
    };
    plan.refusals = guards::nothing_starts(&plan.outcome).into_iter().collect();
    plan.refusals.extend(guards::default_gone(&opening));
    plan.refusals.extend(guards::default_left_out(&plan.entries, default.as_deref()));
    plan.refusals.extend(guards::foreign_changes(look, &plan));
    plan.refusals.extend(home::other_system(look, history, look.home));
    plan.refusals.extend(guards::started_from(look, &removed));
    plan.refusals.extend(last_way(look, document, after.state(&[])));
    plan.refusals.extend(default_refused(look, &resolved, &opening));
    Ok(plan)
}

/// The variables, all of which could be read.
fn whole_contents(look: &Look) -> Result<&Contents> {
    let contents = look.contents()?;
    match contents.faults.first() {
        None => Ok(contents),
        Some(fault) => Err(Error::Unusable {
            place: "firmware variables".into(),
            why: format!("{fault}; nothing is planned on variables that cannot all be read"),
        }),
    }
}

/// The guard against losing the last way to a system, but for those that the menu file hides.
fn last_way(look: &Look, document: &MenuDocument, after: State<'_>) -> Option<Refusal> {
    const WAY: &str = "add an entry for it to the menu: `signpost draft --offer-removed` offers it; `signpost entry hide` says that \
                       it is not wanted";
    let is_hidden = |system: &System| draft::is_hidden(look, document, system);
    ways::last_way_but_for(look, State::of(look), after, WAY, &is_hidden)
}

/// The default, where Secure Boot will refuse it.
fn default_refused(look: &Look, resolved: &[ResolvedEntry<'_>], opening: &Opening) -> Option<Refusal> {
    guards::entry_verdict(look, resolved.get(opening.chosen?)?)
}

/// How the menu opens on the machine once a plan is carried out.
fn opening_after(document: &MenuDocument, resolved: &[ResolvedEntry<'_>], after: &After) -> Opening {
    open(&Situation {
        document,
        faults: &faults(resolved),
        once: None,
        kept: after.ours.kept.as_deref(),
        last_started: after.ours.last.as_deref(),
        unconfirmed: &after.ours.unconfirmed,
        failed: None,
    })
}

/// Ours first, the default first of all, all others behind in their order.
fn firmware_order(look: &Look, entries: &[EntryPlan], default: Option<&str>, removed: &[u16]) -> Vec<u16> {
    let number = |entry: &EntryPlan| entry.number.map(|number| number.0);
    let is_default = |entry: &&EntryPlan| Some(entry.id.as_str()) == default;
    let first = entries.iter().filter(is_default).filter_map(number);
    let rest = entries.iter().filter(|entry| !is_default(entry)).filter_map(number);
    let mut order: Vec<u16> = Vec::new();
    for number in first.chain(rest) {
        if !order.contains(&number) {
            order.push(number);
        }
    }
    ours_first(look, order, removed)
}

/// What of the policy the firmware's own list cannot do.
fn policy_notes(document: &MenuDocument, next: Option<u16>) -> Vec<String> {
    let mut notes = Vec::new();
    if document.settings.default == DefaultEntry::LastStarted {
        notes.push(
            "default = \"last-started\": the firmware does not remember; the first entry is the default"
                .into(),
        );
    }
    if document.settings.show != Show::Always {
        notes.push("show: the firmware decides when it shows its own list".into());
    }
    if document.settings.homes > 1 {
        notes.push("homes: the firmware keeps its own list itself, and nothing of it is on a disk".into());
    }
    if let Some(next) = next {
        notes.push(format!("the next start goes to {} once, before this order counts", OptionNumber(next)));
    }
    notes
}

/// Passes guards, but for those that are overridden.
///
/// # Errors
/// [`Error::Refused`] with all guards that stand against it.
pub fn pass(refusals: &[Refusal], is_overridden: impl Fn(&Refusal) -> bool) -> Result<()> {
    let standing: Vec<Refusal> = refusals.iter().filter(|refusal| !is_overridden(refusal)).cloned().collect();
    if standing.is_empty() { Ok(()) } else { Err(Error::Refused(standing)) }
}
