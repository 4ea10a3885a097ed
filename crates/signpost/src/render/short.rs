//! The first screen: what can be started, what starts next, what is wrong.

use serde::Serialize;
use signpost_core::check::Check;
use signpost_facts::Survey;
use signpost_facts::cause::{Cause, Effect};

use super::table::Table;
use super::{style, survey};

/// The same as one JSON document.
#[derive(Serialize)]
pub struct Short<'a> {
    pub machine: &'a signpost_facts::MachineFacts,
    pub systems: Vec<Reached<'a>>,
    pub current: Option<signpost_facts::OptionNumber>,
    pub starts: bool,
    pub starts_next: &'a str,
    pub problems: Vec<Problem<'a>>,
}

/// A system, and by which ways it can be started today.
#[derive(Serialize)]
pub struct Reached<'a> {
    pub id: &'a str,
    pub title: &'a str,
    pub is_running: bool,
    pub ways: &'a [signpost_facts::way::Through],
}

/// A problem, in short.
#[derive(Serialize)]
pub struct Problem<'a> {
    pub code: signpost_facts::Code,
    pub effect: Effect,
    pub message: &'a str,
}

impl<'a> Short<'a> {
    pub fn of(survey: &'a Survey, found: &'a Check) -> Self {
        let reached = |system: &'a signpost_facts::System| Reached {
            id: &system.id,
            title: &system.title,
            is_running: system.is_running,
            ways: &system.ways,
        };
        let problem =
            |cause: &'a Cause| Problem { code: cause.code, effect: cause.effect, message: &cause.message };
        Self {
            machine: &survey.machine,
            systems: survey.systems.iter().filter(|system| system.snapshot.is_none()).map(reached).collect(),
            current: survey.firmware.current,
            starts: found.starts,
            starts_next: &found.starts_next,
            problems: found.causes.iter().map(problem).collect(),
        }
    }
}

pub fn text(survey: &Survey, found: &Check) -> String {
    let mut text = survey::machine(survey);
    let mut table = Table::new(&["system", "id", "can be started by", ""]);
    let systems = survey.systems.iter().filter(|system| system.snapshot.is_none() || system.is_running);
    for system in systems.clone() {
        let running = if system.is_running { "running" } else { "" };
        let ways = survey::started_by(survey, system);
        table.row([system.title.clone(), system.id.clone(), ways, running.into()]);
    }
    match systems.count() {
        0 => text.push_str("No system was found.\n"),
        _ => text.push_str(&table.text()),
    }
    text.push('\n');
    text.push_str(&survey::start(survey));
    text.push_str(&problems(&found.causes));
    text + &style::faint(&more(survey)) + "\n"
}

/// The worst first; what is only untidy by its codes.
fn problems(causes: &[Cause]) -> String {
    if causes.is_empty() {
        return style::good("No problems.") + "\n";
    }
    let mut text = format!("{}\n", style::heading("Problems"));
    for (effect, paint) in [
        (Effect::CannotTell, style::bad as fn(&str) -> String),
        (Effect::NothingStarts, style::bad),
        (Effect::StartsOther, style::bad),
        (Effect::SystemLost, style::bad),
        (Effect::WillBreak, style::problem),
    ] {
        for cause in causes.iter().filter(|cause| cause.effect == effect) {
            let head = format!("{}: ", effect.words());
            let behind = super::width::wrapped(&format!("{head}{} ({})", cause.message, cause.code), 2);
            for (index, line) in behind.into_iter().enumerate() {
                let line = match line.strip_prefix(&head).filter(|_| index == 0) {
                    Some(rest) => format!("{}{rest}", paint(&head)),
                    None => line,
                };
                text.push_str(&format!("  {line}\n"));
            }
        }
    }
    let untidy: Vec<&str> =
        causes.iter().filter(|cause| cause.effect == Effect::Untidy).map(|cause| cause.code.word()).collect();
    if !untidy.is_empty() {
        let line = format!("{}: {}", Effect::Untidy.words(), untidy.join(", "));
        super::width::wrapped(&line, 2).iter().for_each(|line| text.push_str(&format!("  {line}\n")));
    }
    text
}

/// What is not on this screen, and which command shows it.
fn more(survey: &Survey) -> String {
    let counted = |count: usize, one: &str| {
        if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
    };
    format!(
        "{}, {}: `signpost survey`. Cures: `signpost check`.",
        counted(survey.disks.len(), "disk"),
        counted(survey.volumes.len(), "volume")
    )
}
