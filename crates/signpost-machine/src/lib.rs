//! The machine that is worked on: the one that we run on, or a bench. Its disks, what the running system knows of them, its
//! variables, the lock on it, and files that are written so that a cut leaves the old one or the new one.
//!
//! Facts come in and go out. Nothing here knows what a menu is, looks for systems, or decides what is written.

mod bench;
mod clock;
pub mod durable;
pub mod files;
mod image;
pub mod kept;
pub mod live;
mod lock;
mod machine;
mod numbered;
mod open;
pub mod os_words;
mod ours;
pub mod rows;
mod variables;

pub use clock::{clock, now};
pub use live::host::{Host, HostKind};
pub use lock::Lock;
pub use machine::{Machine, MachineDisk, Running, sha256};
