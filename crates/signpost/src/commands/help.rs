use clap::{Args, Command};

use crate::app::Outcome;
use crate::failure::{Exit, Failure};
use crate::help;
use crate::render::out;

/// Show all commands, one of them, or the options of all
#[derive(Args)]
pub struct HelpArgs {
    /// A command, such as `entry add`; or `options`
    #[arg(value_name = "COMMAND")]
    words: Vec<String>,
}

pub fn run(args: &HelpArgs, line: Command) -> Outcome {
    out::text(&help::text(line, &args.words).map_err(Failure::Usage)?);
    Ok(Exit::Done)
}
