//! The menu: its document, the places it names, and the rules by which it chooses.
//!
//! What a rehearsal decides and what the boot program decides comes from here. No disk and no screen is
//! known to this crate.
#![no_std]
#![forbid(unsafe_code)]
#![cfg_attr(
    not(test),
    deny(
        clippy::arithmetic_side_effects,
        clippy::indexing_slicing,
        clippy::cast_possible_truncation,
        clippy::unwrap_used
    )
)]

extern crate alloc;

pub mod appearance;
pub mod counter;
pub mod disk_number;
pub mod document;
pub mod entry_kind;
pub mod entry_text;
pub mod firmware;
pub mod ids;
pub mod include;
pub mod kernel_args;
pub mod kernels;
pub mod keyboard;
pub mod keys;
pub mod layouts;
pub mod linux_files;
pub mod linux_system;
pub mod nearest;
pub mod os_release;
pub mod ours;
mod parse;
pub mod picture_place;
pub mod place;
pub mod policy;
pub mod prompt;
pub mod quote;
pub mod recipe;
pub mod resolve;
pub mod scene;
pub mod screen;
pub mod session;
pub mod slot;
pub mod sorted;
pub mod spoken;
pub mod standing;
pub mod state;
pub mod surroundings;
pub mod symbol;
pub mod terminal;
pub mod text;
pub mod tries;
pub mod version;
mod wrap;

pub use document::MenuDocument;
pub use parse::{MAX_LENGTH, Problem, parse, parse_leniently};
