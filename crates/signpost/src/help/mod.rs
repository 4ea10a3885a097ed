//! Help: commands in groups, examples and exit codes of each; the options of every command once, by `help options`.

pub mod manual;
mod pages;

use clap::{Args as _, Command};

use crate::global::Global;
use pages::{GROUPS, PAGES, Page};

/// Where the options of every command are shown.
pub const OPTIONS: &str = "options";

/// The command line with its help.
pub fn command(plain: Command) -> Command {
    let (short, long) = (short(), long(&plain));
    let hidden = plain.mut_args(|arg| arg.hide(true));
    let mut command = hidden
        .disable_help_subcommand(true)
        .help_template("{about}\n\n{usage-heading} {usage}{after-help}")
        .override_usage("signpost [COMMAND] [OPTIONS]")
        .after_help(short)
        .after_long_help(long);
    for page in PAGES {
        command = command.mut_subcommand(page.command, |command| {
            let tail = format!("Options of every command: `signpost help {OPTIONS}`.");
            let short = match command.has_subcommands() {
                true => tail.clone(),
                false => format!("More: `--help`. {tail}"),
            };
            command.disable_help_subcommand(true).after_help(short).after_long_help(page.text(&tail))
        });
    }
    command
}

/// What `help WORDS…` shows: a command, the options of every command, or all commands.
///
/// # Errors
/// The words, where no command is called so.
pub fn text(plain: Command, words: &[String]) -> Result<String, String> {
    if matches!(words, [word] if word == OPTIONS) {
        return Ok(options());
    }
    let mut found = command(plain);
    found.build();
    for word in words {
        let inner = found.find_subcommand(word).cloned();
        found = inner.ok_or_else(|| format!("there is no command {}", words.join(" ")))?;
    }
    Ok(found.render_long_help().to_string() + "\n")
}

fn options() -> String {
    let command = Global::augment_args(Command::new("signpost"))
        .about("Options of every command")
        .disable_help_flag(true)
        .max_term_width(100)
        .help_template("{about}\n\n{options}");
    let mut command = command.mut_args(|arg| arg.help_heading(None::<&str>));
    command.render_help().to_string() + "\n"
}

fn short() -> String {
    let width = GROUPS.iter().map(|(name, _)| name.len()).max().unwrap_or_default();
    let rows = GROUPS.iter().map(|(name, commands)| format!("  {name:width$}  {}\n", commands.join(", ")));
    let rows: String = rows.collect();
    format!(
        "{rows}\n\
         Begin with\n\
         {}\n\
         `signpost --help` says what each command does, `signpost help COMMAND` how to use it,\n\
         `signpost help {OPTIONS}` which options all of them take.",
        lines(&pages::FIRST)
    )
}

fn long(command: &Command) -> String {
    let about = |name: &str| {
        let found = command.find_subcommand(name).and_then(Command::get_about);
        found.map(ToString::to_string).unwrap_or_default()
    };
    let width = PAGES.iter().map(|page| page.command.len()).max().unwrap_or_default();
    let mut text = String::new();
    for (name, commands) in GROUPS {
        text.push_str(&format!("{name}\n"));
        for command in commands {
            text.push_str(&format!("  {command:width$}  {}\n", about(command)));
        }
        text.push('\n');
    }
    let codes = pages::codes(Some("problems were found, or nothing starts by itself"), true);
    format!(
        "{text}Begin with\n{}\n{codes}\n\
         `signpost help COMMAND` shows how to use one, `signpost help {OPTIONS}` which options all of them take.",
        lines(&pages::FIRST)
    )
}

/// What can be typed, each with what it does, in two columns.
fn lines(examples: &[(&str, &str)]) -> String {
    let width = examples.iter().map(|(typed, _)| typed.len()).max().unwrap_or_default();
    examples.iter().map(|(typed, does)| format!("  {typed:width$}  {does}\n")).collect()
}

impl Page {
    fn text(&self, tail: &str) -> String {
        format!(
            "Examples:\n{}\n{}\n{tail}",
            lines(&self.examples),
            pages::codes(self.problems, self.is_guarded)
        )
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::args::Args;

    #[test]
    fn every_command_stands_in_one_group_and_has_a_page() {
        let command = Args::command();
        let mut names: Vec<&str> = command.get_subcommands().map(Command::get_name).collect();
        let mut grouped: Vec<&str> = GROUPS.iter().flat_map(|(_, commands)| *commands).copied().collect();
        let mut pages: Vec<&str> = PAGES.iter().map(|page| page.command).collect();
        for list in [&mut names, &mut grouped, &mut pages] {
            list.sort_unstable();
        }
        assert_eq!(grouped, names);
        assert_eq!(pages, names);
    }

    #[test]
    fn short_help_fits_a_terminal() {
        let fits = |name: &str, command: &Command| {
            let help = command.clone().term_width(80).max_term_width(80).render_help().to_string();
            assert!(help.lines().count() <= 24, "{name}: {} lines\n{help}", help.lines().count());
        };
        let mut command = command(Args::command());
        command.build();
        fits("signpost", &command);
        for command in command.get_subcommands() {
            fits(command.get_name(), command);
            for inner in command.get_subcommands() {
                fits(inner.get_name(), inner);
            }
        }
    }

    #[test]
    fn every_example_can_be_typed() {
        for (typed, _) in PAGES.iter().flat_map(|page| page.examples).chain(pages::FIRST) {
            // What a shell takes away: the file that the output goes into, and quotes (two words in
            // quotes are one, which the command line takes as well).
            let (given, _) = typed.split_once(" > ").unwrap_or((typed, ""));
            let words = given.split(' ').map(|word| word.trim_matches('"'));
            let parsed = Args::command().try_get_matches_from(words);
            assert!(parsed.is_ok(), "{typed}: {}", parsed.unwrap_err());
        }
    }
}
