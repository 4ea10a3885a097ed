use clap::Args;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;

/// Show the machine: systems, disks, start-up files, firmware entries, what is odd
#[derive(Args)]
pub struct SurveyArgs {}

pub fn run(app: &App<'_>, _: &SurveyArgs) -> Outcome {
    let machine = app.machine()?;
    let look = app.look(&machine);
    app.show(&look.survey, || render::survey::text(&look.survey));
    Ok(Exit::Done)
}
