//! The command line: arguments in, the core's facts out.
#![forbid(unsafe_code)]

mod app;
mod args;
mod commands;
mod failure;
mod render;
mod signals;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let args = args::Args::parse();
    match app::App::new(&args.global).run(args.command) {
        Ok(code) => code.into(),
        Err(failure) => {
            failure.print(&args.global);
            failure.exit().into()
        }
    }
}
