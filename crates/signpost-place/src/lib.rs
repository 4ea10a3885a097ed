//! A machine as disks and variables, written once for the desk and the boot programs: its volumes and what opens them, its systems, what
//! stands around a menu's entries, how the firmware's rules see it, which volume is home.
//!
//! In come the crates that read disks, know firmware and know menus. Nothing here knows a driver or a device, and nothing
//! is written.
#![no_std]
#![forbid(unsafe_code)]

extern crate alloc;

pub mod at_boot;
#[cfg(feature = "desk")]
pub mod boot_program;
mod disk_order;
pub mod finder;
#[cfg(feature = "desk")]
pub mod hardware;
#[cfg(feature = "desk")]
pub mod home;
pub mod homes;
mod load_options;
#[cfg(feature = "desk")]
pub mod look;
pub mod reader;
#[cfg(feature = "desk")]
pub mod secure_boot;
pub mod serve;
pub mod slots;
#[cfg(feature = "desk")]
pub mod started_from;
pub mod surroundings;
pub mod volumes;
#[cfg(feature = "desk")]
mod words;

#[cfg(feature = "desk")]
pub use look::Look;
pub use reader::VolumeReader;
