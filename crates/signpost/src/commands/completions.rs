use clap::Args;
use clap_complete::Shell;
use clap_complete::env::Shells;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render::out;

/// Print what a shell needs to complete commands, ids and keys
///
/// The shell asks this program at each completion, so ids and keys are those of the menu file as it is.
#[derive(Args)]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    shell: Shell,
}

pub fn run(_: &App<'_>, args: &CompletionsArgs) -> Outcome {
    let name = args.shell.to_string();
    let shells = Shells::builtins();
    let shell = shells.completer(&name).ok_or_else(|| Failure::Usage(format!("{name} cannot be helped")))?;
    let mut script = Vec::new();
    shell.write_registration("COMPLETE", "signpost", "signpost", "signpost", &mut script)?;
    out::text(&String::from_utf8_lossy(&script));
    Ok(Exit::Done)
}
