//! What firmware holds and does: UEFI variables and the stores that keep them, load options, device
//! paths, the images that firmware can start, and the rules by which it chooses what to start.
//!
//! Nothing here touches a disk or a screen: callers bring bytes, and get facts back.
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

pub mod bios;
pub mod boot_variables;
mod bytes;
pub mod device_path;
pub mod edid;
pub mod image;
pub mod load_option;
pub mod signature_list;
pub mod start;
pub mod store;
pub mod ucs2;
pub mod variable;

pub use uguid::{Guid, guid};
