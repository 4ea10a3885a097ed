//! One command, one file: what can be typed for it, and what it does.

pub mod apply;
pub mod bench;
pub mod check;
pub mod completions;
pub mod demo;
pub mod draft;
pub mod entry;
pub mod explain;
pub mod firmware;
pub mod help;
pub mod history;
pub mod hold;
pub mod manual;
pub mod mend;
pub mod menu;
pub mod once;
pub mod plan;
pub mod policy;
pub mod preview;
pub mod prompt;
pub mod rehearse;
pub mod report;
pub mod sector;
mod shared;
pub mod survey;
pub mod tune;
pub mod undo;
