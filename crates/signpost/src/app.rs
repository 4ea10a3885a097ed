//! What every command needs: the machine, the menu file, the way to print and to ask.

use std::io::{BufRead, IsTerminal, Write};
use std::path::{Path, PathBuf};

use anstream::ColorChoice;
use serde::Serialize;
use signpost_core::apply::carry_out;
use signpost_core::catalogue::Catalogue;
use signpost_core::error::Refusal;
use signpost_core::history::{Action, Change, History};
use signpost_core::machine::Lock;
use signpost_core::recipe::Recipes;
use signpost_core::rehearse::{Outcome as StartOutcome, rehearse};
use signpost_core::survey::Look;
use signpost_core::{Code, Error, Machine};

use crate::args::{Color, Command, Global};
use crate::commands;
use crate::failure::{Exit, Failure};
use crate::render::out;
use crate::signals;

pub type Outcome = Result<Exit, Failure>;

/// What stands for the machine's own menu file where an option is given without one.
pub const OWN_MENU: &str = "the machine's own";

/// The command line's state.
pub struct App<'a> {
    global: &'a Global,
}

impl<'a> App<'a> {
    pub fn new(global: &'a Global) -> Self {
        match global.color {
            Color::Auto => ColorChoice::Auto,
            Color::Always => ColorChoice::Always,
            Color::Never => ColorChoice::Never,
        }
        .write_global();
        Self { global }
    }

    pub fn run(&self, command: Command) -> Outcome {
        match command {
            Command::Survey(args) => commands::survey::run(self, &args),
            Command::Draft(args) => commands::draft::run(self, &args),
            Command::Menu(args) => commands::menu::run(self, &args),
            Command::Entry(args) => commands::entry::run(self, &args),
            Command::Tune(args) => commands::tune::run(self, &args),
            Command::Plan(args) => commands::plan::run(self, &args),
            Command::Apply(args) => commands::apply::run(self, &args),
            Command::Undo(args) => commands::undo::run(self, &args),
            Command::History(args) => commands::history::run(self, &args),
            Command::Rehearse(args) => commands::rehearse::run(self, &args),
            Command::Preview(args) => commands::preview::run(self, &args),
            Command::Once(args) => commands::once::run(self, &args),
            Command::Firmware(args) => commands::firmware::run(self, &args),
            Command::Hold(args) => commands::hold::run(self, &args),
            Command::Prompt(args) => commands::prompt::run(self, &args),
            Command::Explain(args) => commands::explain::run(self, &args),
            Command::Completions(args) => commands::completions::run(self, &args),
            Command::Manual(args) => commands::manual::run(self, &args),
            Command::Demo(args) => commands::demo::run(self, &args),
        }
    }

    /// The machine that is named.
    pub fn machine(&self) -> Result<Machine, Failure> {
        if !self.global.disks.is_empty() {
            return Ok(Machine::of_images(&self.global.disks));
        }
        if self.global.machine.as_os_str() == "live" {
            return Ok(Machine::live());
        }
        Ok(Machine::open_bench(&self.global.machine)?)
    }

    /// The machine that is named, for what takes UEFI variables.
    pub fn uefi_machine(&self) -> Result<Machine, Failure> {
        let machine = self.machine()?;
        machine.need_uefi()?;
        Ok(machine)
    }

    /// The same, to be changed unless this is a trial: nobody else changes it while the lock is held.
    pub fn machine_to_change_unless(&self, is_trial: bool) -> Result<(Machine, Option<Lock>), Failure> {
        let machine = self.uefi_machine()?;
        if is_trial {
            return Ok((machine, None));
        }
        machine.need_root()?;
        let lock = machine.lock()?;
        Ok((machine, Some(lock)))
    }

    /// What stands for the machine on the command line.
    pub fn machine_name(&self) -> &Path {
        &self.global.machine
    }

    pub fn look<'m>(&self, machine: &'m Machine) -> Result<Look<'m>, Failure> {
        self.look_with(machine, &[])
    }

    /// A look with rows of further folders, which count before the machine's own and the built-in ones.
    pub fn look_with<'m>(&self, machine: &'m Machine, folders: &[PathBuf]) -> Result<Look<'m>, Failure> {
        let mut catalogue = Catalogue::built_in();
        for folder in machine.catalogue_folder().iter().chain(folders) {
            catalogue.take_folder(folder)?;
        }
        Ok(Look::at(machine, &catalogue))
    }

    /// The machine's recipes, which count before the built-in ones.
    pub fn recipes(&self, machine: &Machine) -> Result<Recipes, Failure> {
        let mut recipes = Recipes::built_in();
        if let Some(folder) = machine.recipes_folder() {
            recipes.take_folder(&folder)?;
        }
        Ok(recipes)
    }

    /// The menu file, where one was named.
    pub fn named_menu(&self) -> Option<&Path> {
        self.global.menu.as_deref().filter(|menu| menu.as_os_str() != OWN_MENU)
    }

    pub fn menu_file(&self, machine: &Machine) -> PathBuf {
        self.named_menu().map_or_else(|| machine.menu_file(), Path::to_path_buf)
    }

    /// What was done to a machine, by this system and by others of it.
    pub fn history(&self, look: &Look<'_>) -> Result<History, Failure> {
        Ok(History::of(look)?)
    }

    /// Carries out what was planned, looks at the machine anew and holds it against what the plan said: the record's number,
    /// and what starts.
    ///
    /// # Errors
    /// Where a write fails, or the machine is not as was planned.
    pub fn put(
        &self,
        machine: &mut Machine,
        history: &mut History,
        action: Action,
        (writes, planned): (&[Change], &StartOutcome),
    ) -> Result<(Option<u32>, StartOutcome), Failure> {
        signals::watch()?;
        let record = carry_out(machine, history, action, writes, &signals::is_interrupted);
        let look = self.look(machine)?;
        self.keep_known(&look);
        // Also where it failed: then above all somebody may come with a rescue medium.
        if let Err(error) = history.copy_to_home(&look) {
            out::note(&format!("no copy of what was done is on the home volume: {error}"));
        }
        let record = record?;
        let outcome = rehearse(&look).outcome;
        if outcome != *planned {
            let what = format!("planned: {}; rehearsed: {}", planned.text, outcome.text);
            let way = "`signpost undo` takes back what was written".into();
            return Err(Error::NotReadBack { what, way }.into());
        }
        Ok((record, outcome))
    }

    /// Keeps what the disks hold, so that one that is missing later is known. A machine that cannot be written to is looked
    /// at all the same.
    pub fn keep_known(&self, look: &Look<'_>) {
        if let Some(record) = look.machine.known_record() {
            let _ = look.known_now().keep(&record);
        }
    }

    /// Prints a result: as JSON where that was asked for, else as text.
    pub fn show(&self, facts: &impl Serialize, text: impl FnOnce() -> String) {
        if self.global.json {
            out::json(facts);
        } else {
            out::text(&text());
        }
    }

    /// Prints what was done, unless only errors are wanted.
    pub fn report(&self, facts: &impl Serialize, text: impl FnOnce() -> String) {
        if !self.global.quiet {
            self.show(facts, text);
        }
    }

    /// Asks before something is written. What is asked about goes to standard error, so that a JSON
    /// document on standard output stays one.
    pub fn confirm(&self, what: impl FnOnce() -> String, question: &str) -> Result<(), Failure> {
        if self.global.yes {
            return Ok(());
        }
        let refusal = |message: &str| {
            let way = "answer yes at a terminal, or say --yes".to_string();
            let refusal = Refusal { code: Code::Unconfirmed, message: message.into(), way };
            Failure::Core(Error::Refused(vec![refusal]))
        };
        if !is_anybody_there() {
            return Err(refusal("nobody can be asked here, so nothing was written"));
        }
        match ask(&what(), question)? {
            true => Ok(()),
            false => Err(refusal("the answer was not yes, so nothing was written")),
        }
    }

    /// Asks about something that --yes does not answer. Where nobody can be asked, the answer is no.
    pub fn is_agreed(&self, what: impl FnOnce() -> String, question: &str) -> Result<bool, Failure> {
        if self.global.yes || self.global.json || !is_anybody_there() {
            return Ok(false);
        }
        ask(&what(), question)
    }
}

fn is_anybody_there() -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal()
}

/// Shows something and asks about it; whether the answer is yes.
fn ask(what: &str, question: &str) -> Result<bool, Failure> {
    out::note(what);
    anstream::eprint!("{question} (yes/no) ");
    std::io::stderr().flush()?;
    let mut answer = String::new();
    std::io::stdin().lock().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}
