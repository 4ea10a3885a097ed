use std::path::{Path, PathBuf};

use clap::Args;
use serde::Serialize;
use signpost_core::check::{Case, Check, check};
use signpost_core::draft::Base;
use signpost_core::history::{History, Record};
use signpost_core::hold::{Held, Pictures};
use signpost_core::menu_file::MenuFile;
use signpost_facts::Error;
use signpost_machine::Machine;
use signpost_place::Look;
use signpost_place::boot_program::BootProgram;
use signpost_upkeep::{Records, kept, menu_file, rescue};

use super::picture;
use super::policy;
use super::shared::ProgramArgs;
use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render;
use crate::render::policy::Compared;

/// Say whether the machine starts, what is wrong, and what cures it
///
/// Nothing is changed. Ends with 1 where there is more than what is untidy. `signpost mend` cures what this names.
#[derive(Args)]
pub struct CheckArgs {
    #[command(flatten)]
    program: ProgramArgs,
}

pub fn run(app: &App<'_>, args: &CheckArgs) -> Outcome {
    let machine = app.machine()?;
    let mut look = app.look(&machine)?;
    let known = Known::of(app, &machine, &mut look)?;
    let mut found = check(&known.case(&look, args.program.program(&machine)?));
    found.unseen.extend(known.unseen);
    let policy = policy::of_machine(app, &machine, &look);
    let shown = Shown { check: &found, policy: policy.as_ref() };
    app.show(&shown, || {
        let policy = policy.as_ref().map(|policy| format!("\n{}", render::policy::line(policy)));
        render::check::text(&found) + &policy.unwrap_or_default()
    });
    Ok(exit(&found))
}

/// A check, and how the menu file stands to the machine's own policy.
#[derive(Serialize)]
struct Shown<'c> {
    #[serde(flatten)]
    check: &'c Check,
    #[serde(skip_serializing_if = "Option::is_none")]
    policy: Option<&'c Compared>,
}

pub fn exit(found: &Check) -> Exit {
    if found.finds_problems() { Exit::Problems } else { Exit::Done }
}

/// What is kept beside a machine, as far as it can be read; where a rescue system runs, what the machine's own system keeps.
pub struct Known {
    history: History,
    held: Option<Held>,
    menu_path: PathBuf,
    menu: Option<Result<MenuFile, Error>>,
    base: Base,
    copies: Vec<Vec<u8>>,
    /// The picture that the menu file names, as the boot program reads it.
    picture: Box<Pictures<'static>>,
    /// Whether the menu file can be written where it belongs.
    pub can_save: bool,
    /// What could not be read.
    pub unseen: Vec<String>,
}

fn pictures_beside(menu: &Path) -> Box<Pictures<'static>> {
    let menu = menu.to_path_buf();
    Box::new(move |name| picture::encoded(&menu, name))
}

impl Known {
    pub fn of(app: &App<'_>, machine: &Machine, look: &mut Look) -> Result<Self, Failure> {
        let mut unseen = Vec::new();
        let of_the_machine = rescue::adopt(look);
        let mut history = History::new(Vec::new(), Vec::new());
        match Records::of(machine, look) {
            Ok(records) => history = records.into_history(),
            Err(error) => unseen.push(format!("what was done before: {error}")),
        }
        unseen.extend(history.faults().map(|fault| format!("what was done before: {fault}")));
        let own_path = app.menu_file(machine);
        let copies = signpost_survey::copies(machine, &look.survey);
        if let Some(found) = of_the_machine {
            history.take_in(found.records);
            let menu_path = found.menu_path.clone().unwrap_or_else(|| own_path.clone());
            let held = found.kept.and_then(|kept| kept.active(&history).cloned());
            return Ok(Self {
                held,
                menu: found.menu.map(|text| MenuFile::new(&menu_path, text)),
                base: Base::default(),
                copies,
                can_save: found.menu_path.is_some(),
                picture: pictures_beside(&menu_path),
                menu_path,
                history,
                unseen,
            });
        }
        let held = kept::held(machine, &history).unwrap_or_else(|error| {
            unseen.push(format!("what was applied: {error}"));
            None
        });
        Ok(Self {
            held,
            menu: menu_file::load_if_there(&own_path).transpose(),
            base: kept::base(machine, &own_path),
            copies,
            can_save: true,
            picture: pictures_beside(&own_path),
            menu_path: own_path,
            history,
            unseen,
        })
    }

    /// The records of what was done.
    pub fn records(&self) -> Vec<Record> {
        self.history.records().to_vec()
    }

    pub fn case<'a>(&'a self, look: &'a Look, program: Option<BootProgram>) -> Case<'a> {
        Case {
            look,
            history: &self.history,
            held: self.held.as_ref(),
            menu_path: &self.menu_path,
            menu: self.menu.as_ref().map(Result::as_ref),
            base: self.base.clone(),
            program,
            copies: &self.copies,
            picture: &*self.picture,
        }
    }
}
