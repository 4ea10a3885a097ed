//! The command line: arguments in, the core's facts out.
#![forbid(unsafe_code)]

mod app;
mod args;
mod commands;
mod complete;
mod dispatch;
mod envelope;
mod failure;
mod global;
mod help;
mod render;
mod signals;
mod wrong_use;

use std::process::ExitCode;

use clap::{CommandFactory, FromArgMatches};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // Where a shell asks for completions, they are all that is printed.
    clap_complete::CompleteEnv::with_factory(args::Args::command).complete();
    let words = args::typed(std::env::args_os());
    let parsed = help::command(args::Args::command()).try_get_matches_from(&words).and_then(|matches| {
        let args = args::Args::from_arg_matches(&matches)?;
        Ok((args, envelope::command(&matches)))
    });
    let (args, command) = match parsed {
        Ok(parsed) => parsed,
        Err(error) => return wrong_use::tell(&error, &words).into(),
    };
    let app = app::App::new(&args.global);
    let outcome = dispatch::run(&app, args.command);
    if args.global.json {
        envelope::print(&command, app.result(), outcome.as_ref().err());
    }
    match outcome {
        Ok(code) => code.into(),
        Err(failure) => {
            failure.print();
            failure.exit().into()
        }
    }
}
