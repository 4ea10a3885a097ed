//! Each command to what does it.

use clap::CommandFactory;

use crate::app::{App, Outcome};
use crate::args::{Args, Command};
use crate::commands;

/// Does what was asked for.
pub fn run(app: &App<'_>, command: Option<Command>) -> Outcome {
    let short = || Command::Survey(commands::survey::SurveyArgs::short());
    match command.unwrap_or_else(short) {
        Command::Survey(args) => commands::survey::run(app, &args),
        Command::Check(args) => commands::check::run(app, &args),
        Command::Draft(args) => commands::draft::run(app, &args),
        Command::Menu(args) => commands::menu::run(app, &args),
        Command::Entry(args) => commands::entry::run(app, &args),
        Command::Tune(args) => commands::tune::run(app, &args),
        Command::Policy(args) => commands::policy::run(app, &args),
        Command::Plan(args) => commands::plan::run(app, &args),
        Command::Apply(args) => commands::apply::run(app, &args),
        Command::Undo(args) => commands::undo::run(app, &args),
        Command::Mend(args) => commands::mend::run(app, &args),
        Command::History(args) => commands::history::run(app, &args),
        Command::Rehearse(args) => commands::rehearse::run(app, &args),
        Command::Preview(args) => commands::preview::run(app, &args),
        Command::Once(args) => commands::once::run(app, &args),
        Command::Confirm(args) => commands::confirm::run(app, &args),
        Command::Firmware(args) => commands::firmware::run(app, &args),
        Command::Sector(args) => commands::sector::run(app, &args),
        Command::Hold(args) => commands::hold::run(app, &args),
        Command::Prompt(args) => commands::prompt::run(app, &args),
        Command::Explain(args) => commands::explain::run(app, &args),
        Command::Report(args) => commands::report::run(app, &args),
        Command::Completions(args) => commands::completions::run(app, &args),
        Command::Manual(args) => commands::manual::run(app, &args, Args::command()),
        Command::Help(args) => commands::help::run(&args, Args::command()),
        Command::Bench(args) => commands::bench::run(app, &args),
        Command::Demo(args) => commands::demo::run(app, &args),
    }
}
