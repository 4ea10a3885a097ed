use clap::Args;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use serde::Serialize;
use signpost_core::check::{Check, check};
use signpost_core::history::Action;
use signpost_core::hold::Held;
use signpost_core::mend::{Asked, Mend, mend};
use signpost_core::menu_file::MenuFile;
use signpost_core::plan::Wishes;
use signpost_facts::cause::Cause;
use signpost_facts::{Code, Refusal};
use signpost_machine::Machine;
use signpost_place::boot_program::BootProgram;
use signpost_upkeep::{Records, kept, menu_file};

use super::check::{Known, exit};
use super::shared::{Despite, ProgramArgs};
use crate::app::{App, How, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;
use crate::render::out;

/// Cure what `check` names, by the least that does it
///
/// Without a code, all that keeps the machine or one of its systems from starting. The plan is shown with its reasons, the next start
/// is rehearsed before anything is written, and `signpost undo` takes all of it back.
#[derive(Args)]
pub struct MendArgs {
    /// The causes, by their codes
    #[arg(value_name = "CODE", value_parser = codes(), hide_possible_values = true)]
    codes: Vec<Code>,
    /// Another cure than the best, by its name
    #[arg(long, value_name = "NAME")]
    by: Option<String>,
    /// Show the plan, and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    despite: Despite,
    #[command(flatten)]
    program: ProgramArgs,
}

#[derive(Serialize)]
struct Mended<'a> {
    /// Number in the history; none where nothing was to be written.
    record: Option<u32>,
    mend: &'a Mend,
    /// What is wrong with the machine now.
    now: &'a Check,
}

/// Reads a code of any kind.
fn codes() -> impl TypedValueParser<Value = Code> {
    PossibleValuesParser::new(Code::ALL.map(Code::word))
        .try_map(|word| Code::parse(&word).ok_or("no such code"))
}

pub fn run(app: &App<'_>, args: &MendArgs) -> Outcome {
    /// A table, then what lies behind it, then what that shows.
    const MOST_ROUNDS: usize = 3;
    let (mut machine, _lock) = app.any_machine_to_change_unless(args.dry_run)?;
    let program = args.program.program(&machine)?;
    for _ in 1..MOST_ROUNDS {
        let Round { exit, goes_on } = one_round(app, &mut machine, args, program.as_ref())?;
        if !goes_on {
            return Ok(exit);
        }
    }
    Ok(one_round(app, &mut machine, args, program.as_ref())?.exit)
}

/// What a menu that was applied without its file leaves to do.
const MENU_IS_ELSEWHERE: &str = "The menu file itself lies on a volume that is not mounted here, and is as it was: mount that and do this again, or \
     `signpost draft` on the system itself refreshes it.\n";

/// How a round ended.
struct Round {
    exit: Exit,
    /// Whether there is more that can be planned now.
    goes_on: bool,
}

fn one_round(
    app: &App<'_>,
    machine: &mut Machine,
    args: &MendArgs,
    program: Option<&BootProgram>,
) -> Result<Round, Failure> {
    let mut look = app.look(machine)?;
    let mut records = Records::of(machine, &look)?;
    let known = Known::of(app, machine, &mut look)?;
    records.take_in(known.records());
    let case = known.case(&look, program.cloned());
    let found = check(&case);
    let asked = Asked { codes: args.codes.clone(), by: args.by.clone() };
    let plan = mend(&case, &found, &asked)?;
    let is_overridden = |refusal: &Refusal| args.despite.has(refusal);
    let how = How {
        is_trial: args.dry_run,
        text: &|| render::mend::text(&plan),
        question: Some("Do this?").filter(|_| !plan.writes.is_empty()),
        is_overridden: &is_overridden,
    };
    // A menu that is applied by the way is the one that is held from now on.
    let action = if plan.plan.is_some() { Action::Apply } else { Action::Mend };
    let Some(put) = app.carry_through((machine, &mut records), (action, &plan), &how)? else {
        return Ok(Round { exit: Exit::Done, goes_on: false });
    };
    if let (Some(menu), Some(applied)) = (&plan.menu, &plan.plan) {
        // A file with errors is left to who wrote it.
        if known.can_save && matches!(case.menu, Some(Ok(_)) | None) {
            menu_file::save(&menu.path, &menu.text)?;
        }
        let wishes = Wishes { boot_program: program.cloned(), ..Wishes::default() };
        kept::keep_held(machine, Held::of(&put.look, menu, applied, &wishes, records.history()))?;
    }
    let mut after = put.look;
    let known_then = Known::of(app, machine, &mut after)?;
    let now = check(&known_then.case(&after, program.cloned()));
    let mended = Mended { record: put.record, mend: &plan, now: &now };
    app.report(&mended, || render::mend::done(&plan, put.record, &now));
    let is_same = |menu: &MenuFile| matches!(case.menu, Some(Ok(own)) if own.text == menu.text);
    if plan.menu.as_ref().is_some_and(|menu| !is_same(menu)) && !known.can_save {
        out::note(MENU_IS_ELSEWHERE);
    }
    // What shows only now, and is in the way of a start too, was asked for as well.
    let is_new = |cause: &&Cause| {
        let is_it = |other: &Cause| (other.code, &other.subject) == (cause.code, &cause.subject);
        cause.effect.is_felt() && !cause.cures.is_empty() && !found.causes.iter().any(is_it)
    };
    let shows_more = args.codes.is_empty() && now.causes.iter().any(|cause| is_new(&cause));
    Ok(Round { exit: exit(&now), goes_on: (plan.goes_on || shows_more) && put.record.is_some() })
}
