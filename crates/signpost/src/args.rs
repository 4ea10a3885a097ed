//! What can be typed.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};

use crate::commands::{
    apply, completions, demo, draft, entry, explain, firmware, history, hold, manual, menu, once, plan,
    preview, prompt, rehearse, survey, tune, undo,
};

/// Boot menus for machines with several systems: look, plan, put in force, rehearse, take back.
#[derive(Parser)]
#[command(name = "signpost", version, max_term_width = 100)]
pub struct Args {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of every command.
#[derive(ClapArgs)]
#[command(next_help_heading = "On every command")]
pub struct Global {
    /// The machine to work on: "live", or the folder of a bench
    #[arg(long, global = true, value_name = "live|BENCH", default_value = "live")]
    pub machine: PathBuf,
    /// A disk image by itself, without a bench (can be repeated)
    #[arg(long = "disk", global = true, value_name = "IMAGE", conflicts_with = "machine")]
    pub disks: Vec<PathBuf>,
    /// The menu file, instead of the machine's own
    #[arg(long, global = true, value_name = "FILE")]
    pub menu: Option<PathBuf>,
    /// Print one JSON document
    #[arg(long, global = true)]
    pub json: bool,
    /// When to use colour
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto)]
    pub color: Color,
    /// Print nothing but what was asked for and errors
    #[arg(long, global = true)]
    pub quiet: bool,
    /// Answer every question with yes
    #[arg(long, global = true)]
    pub yes: bool,
}

/// When to use colour.
#[derive(Clone, Copy, ValueEnum)]
pub enum Color {
    /// Use colour on a terminal
    Auto,
    /// Use it in pipes too
    Always,
    /// Use none
    Never,
}

#[derive(Subcommand)]
pub enum Command {
    Survey(survey::SurveyArgs),
    Draft(draft::DraftArgs),
    Menu(menu::MenuArgs),
    Entry(entry::EntryArgs),
    Tune(tune::TuneArgs),
    Plan(plan::PlanArgs),
    Apply(apply::ApplyArgs),
    Undo(undo::UndoArgs),
    History(history::HistoryArgs),
    Rehearse(rehearse::RehearseArgs),
    Preview(preview::PreviewArgs),
    Once(once::OnceArgs),
    Prompt(prompt::PromptArgs),
    Firmware(firmware::FirmwareArgs),
    Hold(hold::HoldArgs),
    Explain(explain::ExplainArgs),
    Demo(demo::DemoArgs),
    Completions(completions::CompletionsArgs),
    Manual(manual::ManualArgs),
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
