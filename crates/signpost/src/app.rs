//! What every command needs: the machine, the menu file, the way to print and to ask.

use std::cell::RefCell;
use std::io::{BufRead, IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use anstream::ColorChoice;
use serde::Serialize;
use signpost_core::history::{Action, History};
use signpost_core::plan::pass;
use signpost_core::recipe::Recipes;
use signpost_facts::{Code, Error, FirmwareKind, Refusal};
use signpost_machine::live::packages;
use signpost_machine::{Lock, Machine, rows};
use signpost_place::Look;
use signpost_survey::catalogue::Catalogue;
use signpost_upkeep::{self as upkeep, Planned, Put, Records, Watch};

use crate::failure::{Exit, Failure};
use crate::global::{Color, Global};
use crate::render::out;
use crate::signals;

pub type Outcome = Result<Exit, Failure>;

/// What stands for the machine's own menu file where an option is given without one.
pub const OWN_MENU: &str = "the machine's own";

/// Signals stop a change between two writes; notes go to standard error.
struct AtTheTerminal;

impl Watch for AtTheTerminal {
    fn is_interrupted(&self) -> bool {
        signals::is_interrupted()
    }

    fn note(&self, what: &str) {
        out::note(&format!("{what}\n"));
    }
}

/// How a change is shown, asked about, and which guards do not count.
pub struct How<'h> {
    /// Whether it is shown alone, and nothing is written.
    pub is_trial: bool,
    /// The plan as text.
    pub text: &'h dyn Fn() -> String,
    /// What is asked before anything is written; nothing where no question is needed.
    pub question: Option<&'h str>,
    /// Whether a guard is overridden.
    pub is_overridden: &'h dyn Fn(&Refusal) -> bool,
}

/// The command line's state.
pub struct App<'a> {
    global: &'a Global,
    /// What is printed as JSON at the end, where that was asked for.
    result: RefCell<Option<serde_json::Value>>,
}

impl<'a> App<'a> {
    pub fn new(global: &'a Global) -> Self {
        match global.color {
            Color::Auto => ColorChoice::Auto,
            Color::Always => ColorChoice::Always,
            Color::Never => ColorChoice::Never,
        }
        .write_global();
        Self { global, result: RefCell::new(None) }
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
        self.to_change(self.uefi_machine()?, is_trial)
    }

    /// The same for what works with BIOS firmware too.
    pub fn any_machine_to_change_unless(&self, is_trial: bool) -> Result<(Machine, Option<Lock>), Failure> {
        self.to_change(self.uefi_or_bios_machine()?, is_trial)
    }

    /// The same for what has nothing to do with packages: it waits for no package manager.
    pub fn any_machine_to_note_on(&self, is_trial: bool) -> Result<(Machine, Option<Lock>), Failure> {
        let machine = self.uefi_or_bios_machine()?;
        if is_trial {
            return Ok((machine, None));
        }
        machine.need_root()?;
        let lock = machine.lock()?;
        Ok((machine, Some(lock)))
    }

    /// The machine that is named, for what works with either firmware.
    pub fn uefi_or_bios_machine(&self) -> Result<Machine, Failure> {
        let machine = self.machine()?;
        if machine.firmware != FirmwareKind::Bios {
            machine.need_uefi()?;
        }
        Ok(machine)
    }

    fn to_change(&self, machine: Machine, is_trial: bool) -> Result<(Machine, Option<Lock>), Failure> {
        if is_trial {
            return Ok((machine, None));
        }
        machine.need_root()?;
        if machine.host.is_some() {
            self.wait_for_packages()?;
        }
        let lock = machine.lock()?;
        Ok((machine, Some(lock)))
    }

    /// Waits until no package manager is at work: a kernel without its initrd is not a state to decide on.
    fn wait_for_packages(&self) -> Result<(), Failure> {
        /// Longer than an update of a kernel takes on a slow disk.
        const PATIENCE: Duration = Duration::from_secs(600);
        let started = Instant::now();
        let mut is_said = false;
        while let Some(at_work) = packages::at_work() {
            if started.elapsed() > PATIENCE {
                return Err(Failure::Problem(format!("{at_work} for ten minutes now; nothing was done")));
            }
            if !is_said {
                out::note(&format!("{at_work}; waiting until it is done\n"));
                is_said = true;
            }
            // Whoever asked for its lock to wait for it would keep the next package manager from getting it.
            std::thread::sleep(Duration::from_secs(1));
        }
        Ok(())
    }

    /// The loose disks that are named.
    pub fn disks(&self) -> &[PathBuf] {
        &self.global.disks
    }

    pub fn look(&self, machine: &Machine) -> Result<Look, Failure> {
        Ok(signpost_upkeep::look(machine, &catalogue(machine, &[])?))
    }

    /// A look with rows of further folders, which count before the machine's own and the built-in ones.
    pub fn look_with(&self, machine: &Machine, folders: &[PathBuf]) -> Result<Look, Failure> {
        Ok(signpost_upkeep::look(machine, &catalogue(machine, folders)?))
    }

    /// The machine's recipes, which count before the built-in ones.
    pub fn recipes(&self, machine: &Machine) -> Result<Recipes, Failure> {
        let mut recipes = Recipes::built_in();
        if let Some(folder) = machine.recipes_folder() {
            recipes.take(&rows::files(&folder)?)?;
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

    /// Plans a change of a machine as it is now; with what was done to it until now.
    pub fn plan<P>(
        &self,
        machine: &Machine,
        make: impl FnOnce(&Look, &History) -> Result<P, Failure>,
    ) -> Result<(Records, P), Failure> {
        let look = self.look(machine)?;
        let records = Records::of(machine, &look)?;
        let plan = make(&look, records.history())?;
        Ok((records, plan))
    }

    /// Shows a plan where that is all that is wanted; else asks, and carries it out. `None` where nothing was to be done.
    ///
    /// # Errors
    /// Where a guard stands against it, the answer is no, a write fails, or the machine is not as was planned.
    pub fn carry_through<P: Planned + Serialize>(
        &self,
        (machine, records): (&mut Machine, &mut Records),
        (action, plan): (Action, &P),
        how: &How<'_>,
    ) -> Result<Option<Put>, Failure> {
        if how.is_trial {
            self.show(plan, || (how.text)());
        }
        pass(plan.refusals(), how.is_overridden)?;
        if how.is_trial {
            return Ok(None);
        }
        if let Some(question) = how.question {
            self.confirm(|| (how.text)(), question)?;
        }
        signals::watch()?;
        let catalogue = catalogue(machine, &[])?;
        let put =
            upkeep::put((machine, &catalogue), records, (action, plan), how.is_overridden, &AtTheTerminal)?;
        Ok(Some(put))
    }

    /// The result for the JSON document at the end, where there is one.
    pub fn result(&self) -> Option<serde_json::Value> {
        self.result.take()
    }

    /// Prints a result as text, or keeps it for the JSON document at the end where that was asked for.
    pub fn show(&self, facts: &impl Serialize, text: impl FnOnce() -> String) {
        if self.global.json {
            self.result.replace(serde_json::to_value(facts).ok());
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

    /// Whether a document is printed.
    pub fn is_json(&self) -> bool {
        self.global.json
    }

    /// Whether only what was asked for is printed.
    pub fn is_quiet(&self) -> bool {
        self.global.quiet
    }

    /// Whether somebody sees a plan and is asked before it is carried out.
    pub fn asks(&self) -> bool {
        !self.global.yes
    }

    /// Asks before something is written. What is asked about goes to standard error, so that a JSON
    /// document on standard output stays one.
    pub fn confirm(&self, what: impl FnOnce() -> String, question: &str) -> Result<(), Failure> {
        if self.global.yes {
            return Ok(());
        }
        let refusal = |message: &str| {
            let way = "answer yes at a terminal, or add --yes".to_string();
            let refusal = Refusal { code: Code::Unconfirmed, message: message.into(), way };
            Failure::Core(Error::Refused(vec![refusal]))
        };
        if !is_anybody_there() {
            return Err(refusal("this is not a terminal, so nobody can be asked; nothing was written"));
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

/// The rows by which systems are recognised: those of further folders, the machine's own, and the built-in ones.
fn catalogue(machine: &Machine, folders: &[PathBuf]) -> Result<Catalogue, Failure> {
    let mut catalogue = Catalogue::built_in();
    for folder in machine.catalogue_folder().iter().chain(folders) {
        catalogue.take_folder(folder)?;
    }
    Ok(catalogue)
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
