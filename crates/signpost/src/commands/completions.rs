use clap::{Args, CommandFactory};
use clap_complete::Shell;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render::out;

/// Print what a shell needs to complete commands, options and values
#[derive(Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    shell: Shell,
}

pub fn run(_: &App<'_>, args: &CompletionsArgs) -> Outcome {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut crate::args::Args::command(), "signpost", &mut script);
    out::text(&String::from_utf8_lossy(&script));
    Ok(Exit::Done)
}
