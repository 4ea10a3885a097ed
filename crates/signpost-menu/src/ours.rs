//! Firmware variables of ours: what boot program and desk tell each other. Each holds UTF-8 text.

/// The vendor of all of them, as a GUID's bytes are stored: `6f1c2b8e-93d4-4e57-a0c1-7b25d8e6f342`.
pub const VENDOR: [u8; 16] =
    [0x8e, 0x2b, 0x1c, 0x6f, 0xd4, 0x93, 0x57, 0x4e, 0xa0, 0xc1, 0x7b, 0x25, 0xd8, 0xe6, 0xf3, 0x42];
/// The id of what was started last.
pub const LAST: &str = "SignpostLast";
/// The id that was kept as the default for good.
pub const KEPT: &str = "SignpostDefault";
/// The id of what the next start, and only that, goes to; or `menu`.
pub const ONCE: &str = "SignpostOnce";
/// How often entries were started since they came up last, as [`crate::tries::Unconfirmed`] writes it.
pub const TRIES: &str = "SignpostTries";
/// What was tried last, and why it failed.
pub const LOG: &str = "SignpostLog";
/// Bytes of that at most.
pub const MAX_LOG: usize = 1024;
