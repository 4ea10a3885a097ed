//! Work on the project itself: `cargo xtask --help`.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a tool for the terminal")]

mod demo_assets;
mod run;

use std::process::ExitCode;

use clap::Parser;

/// Work on the project itself.
#[derive(Parser)]
enum Task {
    /// Make the packed volumes of the demo anew (needs mke2fs and zstd).
    DemoAssets,
}

fn main() -> ExitCode {
    let result = match Task::parse() {
        Task::DemoAssets => demo_assets::make(),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("xtask: {message}");
            ExitCode::FAILURE
        }
    }
}
