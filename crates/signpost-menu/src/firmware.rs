//! What a menu is shown by, as far as that decides what can be started.

/// What a machine's firmware is, and so what can be started there at all.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Firmware {
    /// UEFI.
    #[default]
    Uefi,
    /// BIOS.
    Bios,
}
