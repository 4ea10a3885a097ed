//! The command line: arguments in, the core's facts out.
#![forbid(unsafe_code)]

mod app;
mod args;
mod commands;
mod complete;
mod dispatch;
mod failure;
mod global;
mod render;
mod signals;

use std::process::ExitCode;

use clap::{CommandFactory, Parser};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // Where a shell asks for completions, they are all that is printed.
    clap_complete::CompleteEnv::with_factory(args::Args::command).complete();
    let args = args::Args::parse_from(args::typed(std::env::args_os()));
    match dispatch::run(&app::App::new(&args.global), args.command) {
        Ok(code) => code.into(),
        Err(failure) => {
            failure.print(&args.global);
            failure.exit().into()
        }
    }
}
