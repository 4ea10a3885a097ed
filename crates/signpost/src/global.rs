//! Options of every command.

use std::path::PathBuf;

use clap::{Args as ClapArgs, ValueEnum};

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
