use clap::Args;
use signpost_core::plan::{pass, plan};
use signpost_facts::Code;
use signpost_upkeep::menu_file;

use super::shared::{HomeArgs, guard_codes};
use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render;
use crate::render::plan::Aim;

/// Show what apply would write, and what would start then
#[derive(Args)]
pub struct PlanArgs {
    /// Override these guards, by their codes
    #[arg(long, value_name = "CODE", value_delimiter = ',', value_parser = guard_codes(), hide_possible_values = true)]
    despite: Vec<Code>,
    /// End with 1 where there is something to do
    #[arg(long)]
    check: bool,
    #[command(flatten)]
    home: HomeArgs,
}

pub fn run(app: &App<'_>, args: &PlanArgs) -> Outcome {
    let machine = app.uefi_or_bios_machine()?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    let wishes = args.home.wishes(&machine)?;
    let (_, plan) = app.plan(&machine, |look, history| Ok(plan(look, &menu, history, &wishes)?))?;
    app.show(&plan, || render::plan::text(&plan, Aim::Menu));
    pass(&plan.refusals, args.home.passes(&args.despite))?;
    Ok(if args.check && !plan.writes.is_empty() { Exit::Problems } else { Exit::Done })
}
