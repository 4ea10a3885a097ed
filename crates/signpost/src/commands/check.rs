use clap::Args;
use signpost_core::check::{Case, Check, check};
use signpost_core::history::History;
use signpost_core::hold::Held;
use signpost_machine::Machine;
use signpost_place::Look;
use signpost_place::boot_program::BootProgram;
use signpost_upkeep::{Records, kept, menu_file};

use super::shared::ProgramArgs;
use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;

/// Name what is wrong: whether the machine starts, and each cause with what cures it
///
/// Nothing is changed. Ends with 1 where there is more than what is untidy. `signpost mend` cures what this names.
#[derive(Args)]
pub struct CheckArgs {
    #[command(flatten)]
    program: ProgramArgs,
}

pub fn run(app: &App<'_>, args: &CheckArgs) -> Outcome {
    let machine = app.machine()?;
    let look = app.look(&machine)?;
    let known = Known::of(&machine, &look)?;
    let mut found = check(&known.case(app, &machine, &look, args.program.program()?));
    found.unseen.extend(known.unseen);
    app.show(&found, || render::check::text(&found));
    Ok(exit(&found))
}

pub fn exit(found: &Check) -> Exit {
    if found.finds_problems() { Exit::Problems } else { Exit::Done }
}

/// What is kept beside a machine, as far as it can be read.
pub struct Known {
    pub history: History,
    held: Option<Held>,
    /// What could not be read.
    pub unseen: Vec<String>,
}

impl Known {
    pub fn of(machine: &Machine, look: &Look) -> Result<Self, Failure> {
        let mut unseen = Vec::new();
        let history = match Records::of(machine, look) {
            Ok(records) => records.into_history(),
            Err(error) => {
                unseen.push(format!("what was done before: {error}"));
                History::new(Vec::new(), Vec::new())
            }
        };
        unseen.extend(history.faults().map(|fault| format!("what was done before: {fault}")));
        let held = kept::held(machine, &history).unwrap_or_else(|error| {
            unseen.push(format!("what was applied: {error}"));
            None
        });
        Ok(Self { history, held, unseen })
    }

    pub fn case<'a>(
        &'a self,
        app: &App<'_>,
        machine: &Machine,
        look: &'a Look,
        program: Option<BootProgram>,
    ) -> Case<'a> {
        let menu_path = app.menu_file(machine);
        Case {
            look,
            history: &self.history,
            held: self.held.as_ref(),
            menu: menu_file::load_if_there(&menu_path).transpose(),
            base: kept::base(machine, &menu_path),
            menu_path,
            program,
        }
    }
}
