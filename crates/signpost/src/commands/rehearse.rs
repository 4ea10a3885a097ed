use clap::Args;
use signpost_core::rehearse::rehearse;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Follow a start from power-on to the system that starts, without a reboot
///
/// Ends with 1 where nothing starts.
#[derive(Args)]
pub struct RehearseArgs {}

pub fn run(app: &App<'_>, _: &RehearseArgs) -> Outcome {
    let machine = app.machine()?;
    let look = app.look(&machine);
    let rehearsal = rehearse(&look, &look.boot);
    app.show(&rehearsal, || render::rehearse::text(&rehearsal));
    Ok(if rehearsal.outcome.is_start() { Exit::Done } else { Exit::Problems })
}
