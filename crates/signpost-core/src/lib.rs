//! What Early Signpost does: look at a machine, draft its menu, plan what puts it in force, apply that,
//! take it back, and rehearse a start.
//!
//! Facts come back as values that can be shown or written as JSON; nothing here prints.

mod applied;
pub mod apply;
pub mod catalogue;
pub mod code;
pub mod draft;
pub mod durable;
pub mod edit;
pub mod error;
pub mod files;
pub mod firmware;
pub mod hardware;
pub mod history;
pub mod hold;
pub mod home;
mod kept;
pub mod machine;
pub mod menu_file;
pub mod news;
pub mod once;
pub mod plan;
pub mod preview;
pub mod prompt;
pub mod recipe;
pub mod rehearse;
pub mod resolve;
mod rows;
pub mod secure_boot;
pub mod survey;
pub mod undo;
pub mod ways;
mod words;

pub use code::Code;
pub use error::{Error, Refusal, Result};
pub use machine::Machine;
pub use signpost_firmware::boot_variables as firmware_variables;
pub use signpost_menu as menu;

/// Version of the JSON documents.
pub const SCHEMA: u32 = 1;
