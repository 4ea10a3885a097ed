use std::path::PathBuf;

use clap::Args;
use rustyline::completion::Completer;
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::history::DefaultHistory;
use rustyline::validate::Validator;
use rustyline::{CompletionType, Config, Context, Editor, Helper};
use serde::Serialize;
use signpost_core::firmware::{Wish, change};
use signpost_core::history::Action;
use signpost_core::once::once;
use signpost_core::prompt;
use signpost_machine::{Machine, files};
use signpost_menu::MenuDocument;
use signpost_menu::prompt::{Prompt, Then, saved};
use signpost_menu::resolve::StartTarget;
use signpost_place::Look;
use signpost_upkeep::{Planned, Records, menu_file};

/// Bytes of a script.
const MAX_SCRIPT: u64 = 1 << 20;

use crate::app::{App, How, Outcome};
use crate::commands::draft;
use crate::failure::{Exit, Failure};
use crate::render::{self, out};

/// Boot by hand: look around, compose a start, save it to the menu
///
/// Its commands are those of the prompt at boot; `help` lists them. On a bench, `start` ends in an account of what would be handed over.
#[derive(Args)]
pub struct PromptArgs {
    /// Run this line, and no others (can be repeated)
    #[arg(long = "do", value_name = "LINE", conflicts_with = "script")]
    lines: Vec<String>,
    /// Run the lines of this file
    #[arg(long, value_name = "FILE")]
    script: Option<PathBuf>,
}

pub fn run(app: &App<'_>, args: &PromptArgs) -> Outcome {
    let machine = app.uefi_or_bios_machine()?;
    let look = app.look(&machine)?;
    let menu = menu_file::load_if_there(&app.menu_file(&machine))?.map(|file| file.document);
    let mut session = Session {
        app,
        look: &look,
        is_live: machine.host.is_some(),
        prompt: Prompt::new(menu.unwrap_or_default()),
        refusals: 0,
    };
    let script = match &args.script {
        Some(path) => Some(
            files::read_text(path, MAX_SCRIPT)
                .and_then(|text| text.ok_or_else(|| std::io::Error::other("there is no such file")))
                .map_err(|error| Failure::Other(format!("{}: {error}", path.display())))?,
        ),
        None => (!args.lines.is_empty()).then(|| args.lines.join("\n")),
    };
    match script {
        Some(script) => {
            session.script(&script)?;
            Ok(if session.refusals == 0 { Exit::Done } else { Exit::Problems })
        }
        // Whoever types sees each answer; a mistake on the way is not a failure of the session.
        None => session.by_hand().map(|()| Exit::Done),
    }
}

struct Session<'a> {
    app: &'a App<'a>,
    look: &'a Look,
    /// Whether this is the machine that we run on.
    is_live: bool,
    prompt: Prompt,
    refusals: usize,
}

impl Session<'_> {
    fn script(&mut self, script: &str) -> Result<(), Failure> {
        for line in script.lines().filter(|line| !line.trim().is_empty()) {
            out::text(&format!("> {line}\n"));
            if self.carry_out(line)? {
                break;
            }
        }
        Ok(())
    }

    fn by_hand(&mut self) -> Result<(), Failure> {
        let failed = |error: ReadlineError| Failure::Other(error.to_string());
        let config = Config::builder().completion_type(CompletionType::List).build();
        let mut editor: Editor<Words<'_>, DefaultHistory> = Editor::with_config(config).map_err(failed)?;
        out::text("`help` lists the commands, `leave` ends.\n");
        loop {
            editor.set_helper(Some(Words { prompt: self.prompt.clone(), look: self.look }));
            match editor.readline("> ") {
                Ok(line) => {
                    editor.add_history_entry(line.as_str()).map_err(failed)?;
                    if self.carry_out(&line)? {
                        return Ok(());
                    }
                }
                Err(ReadlineError::Eof) => return Ok(()),
                Err(ReadlineError::Interrupted) => {}
                Err(error) => return Err(failed(error)),
            }
        }
    }

    /// Carries out a line; whether it was the last.
    fn carry_out(&mut self, line: &str) -> Result<bool, Failure> {
        let reply = self.prompt.run(line, self.look);
        self.refusals += usize::from(reply.is_refusal);
        let mut text: String =
            reply.lines.iter().filter(|line| !line.is_empty()).map(|line| format!("{line}\n")).collect();
        let done = match reply.then {
            Then::Nothing | Then::Keyboard(_) => String::new(),
            Then::Leave | Then::Close => return Ok(true),
            Then::Start { target, .. } => self.start(&target)?,
            Then::Save { title, is_default, body } => self.save(&title, is_default, &body)?,
            Then::Once(id) => self.once(id.as_deref())?,
            Then::NextBoot(number) => self.firmware(&Wish::Next(Some(number)))?,
            Then::First(number) => self.firmware(&Wish::Order(vec![number]))?,
            Then::SetupScreen => "At boot this opens firmware setup; here nothing was done.\n".into(),
            Then::Restart | Then::PowerOff => {
                "At boot this works at once; here use the running system's own command.\n".into()
            }
        };
        text.push_str(&done);
        out::text(&text);
        Ok(false)
    }

    fn start(&self, target: &StartTarget) -> Result<String, Failure> {
        match target {
            StartTarget::FirmwareEntry { number, .. } if self.is_live => {
                self.firmware(&Wish::Next(Some(*number)))
            }
            _ if self.is_live => Ok(
                "A running machine starts nothing else: `save` puts this into the menu, `signpost apply` makes that active, `signpost once` sends \
                 the next start to it.\n".into(),
            ),
            _ => Ok("That is what would be handed over; a bench starts nothing.\n".into()),
        }
    }

    fn save(
        &mut self,
        title: &str,
        is_default: bool,
        body: &[(&'static str, String)],
    ) -> Result<String, Failure> {
        let (machine, _lock) = self.app.any_machine_to_change_unless(false)?;
        let path = self.app.menu_file(&machine);
        let (menu, made) = match menu_file::load_if_there(&path)? {
            Some(menu) => (menu, String::new()),
            None => {
                let made =
                    format!("There was no menu file; {} holds what is on the machine now.\n", path.display());
                (draft::first(&machine, self.look, &path)?, made)
            }
        };
        let (text, id) = prompt::save(&menu, title, is_default, body)?;
        menu_file::save(&path, &text)?;
        let document: MenuDocument = menu_file::load(&path)?.document;
        self.prompt.take_menu(document);
        Ok(format!("{made}{}\n`signpost apply` makes it active\n", saved(&id, is_default)))
    }

    fn once(&self, id: Option<&str>) -> Result<String, Failure> {
        let (mut machine, _lock) = self.app.any_machine_to_change_unless(false)?;
        let menu = menu_file::load_if_there(&self.app.menu_file(&machine))?.map(|menu| menu.document);
        let (mut records, plan) =
            self.app.plan(&machine, |look, history| Ok(once(look, history, menu.as_ref(), id)?))?;
        let text = || render::rehearse::outcome("Next start", &plan.outcome);
        self.carry_through((&mut machine, &mut records), (Action::Once, &plan), &text)
    }

    fn firmware(&self, wish: &Wish) -> Result<String, Failure> {
        let (mut machine, _lock) = self.app.any_machine_to_change_unless(false)?;
        let (mut records, plan) =
            self.app.plan(&machine, |look, history| Ok(change(look, history, wish)?))?;
        let text = || render::firmware::planned(&plan);
        self.carry_through((&mut machine, &mut records), (Action::Firmware, &plan), &text)
    }

    fn carry_through<P: Planned + Serialize>(
        &self,
        on: (&mut Machine, &mut Records),
        what: (Action, &P),
        text: &dyn Fn() -> String,
    ) -> Result<String, Failure> {
        let how = How { is_trial: false, text, question: Some("Do this?"), is_overridden: &|_| false };
        self.app.carry_through(on, what, &how)?;
        Ok(String::new())
    }
}

/// Completion for the line editor.
struct Words<'a> {
    prompt: Prompt,
    look: &'a Look,
}

impl Completer for Words<'_> {
    type Candidate = String;

    fn complete(&self, line: &str, at: usize, _: &Context<'_>) -> rustyline::Result<(usize, Vec<String>)> {
        let found = self.prompt.complete(line.get(..at).unwrap_or(line), self.look);
        Ok((found.start, found.words))
    }
}

impl Hinter for Words<'_> {
    type Hint = String;
}

impl Highlighter for Words<'_> {}
impl Validator for Words<'_> {}
impl Helper for Words<'_> {}
