//! What can be typed.

use std::ffi::OsString;

use clap::{Parser, Subcommand};

use crate::commands::{
    apply, bench, check, completions, confirm, demo, draft, entry, explain, firmware, help, history, hold,
    manual, mend, menu, once, plan, policy, preview, prompt, rehearse, report, sector, survey, tune, undo,
};
use crate::global::Global;

/// Boot menus for PCs with several operating systems: look, plan, rehearse, apply, undo.
///
/// Without a command, the systems, what starts next and the problems are shown.
#[derive(Parser)]
#[command(name = "signpost", version, max_term_width = 100, disable_help_subcommand = true)]
pub struct Args {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Option<Command>,
}

#[derive(Subcommand)]
pub enum Command {
    Survey(survey::SurveyArgs),
    Check(check::CheckArgs),
    Draft(draft::DraftArgs),
    Menu(menu::MenuArgs),
    Entry(entry::EntryArgs),
    Tune(tune::TuneArgs),
    Policy(policy::PolicyArgs),
    Plan(plan::PlanArgs),
    Apply(apply::ApplyArgs),
    Undo(undo::UndoArgs),
    Mend(mend::MendArgs),
    History(history::HistoryArgs),
    Rehearse(rehearse::RehearseArgs),
    Preview(preview::PreviewArgs),
    Once(once::OnceArgs),
    Confirm(confirm::ConfirmArgs),
    Prompt(prompt::PromptArgs),
    Firmware(firmware::FirmwareArgs),
    Sector(sector::SectorArgs),
    Hold(hold::HoldArgs),
    Explain(explain::ExplainArgs),
    Report(report::ReportArgs),
    Bench(bench::BenchArgs),
    Demo(demo::DemoArgs),
    Completions(completions::CompletionsArgs),
    Manual(manual::ManualArgs),
    Help(help::HelpArgs),
}

/// The words as they were typed, but for those that drop words of kernel arguments: `args=+single -quiet` is one value, and
/// `-quiet` no option.
pub fn typed(words: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut typed: Vec<OsString> = Vec::new();
    for word in words {
        let text = word.to_str().unwrap_or_default();
        let is_option = text.starts_with("--") || matches!(text, "-h" | "-V");
        let is_change = text.starts_with(['+', '-']) && text.len() > 1 && !is_option;
        match typed.last_mut() {
            Some(before) if is_change && changes_arguments(before) => {
                before.push(" ");
                before.push(&word);
            }
            _ => typed.push(word),
        }
    }
    typed
}

fn changes_arguments(word: &OsString) -> bool {
    let value = word.to_str().and_then(|word| word.strip_prefix("args="));
    value.is_some_and(|value| value.starts_with(['+', '-']))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_that_are_dropped_from_arguments_are_no_options() {
        let typed = |words: &[&str]| typed(words.iter().map(OsString::from));
        assert_eq!(
            typed(&["edit", "a", "args=+b", "-c", "+d", "--yes"]),
            ["edit", "a", "args=+b -c +d", "--yes"]
        );
        assert_eq!(typed(&["edit", "a", "args=x", "-h"]), ["edit", "a", "args=x", "-h"]);
    }
}
