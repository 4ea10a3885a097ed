//! Restart, power off, firmware setup, its next boot.

use alloc::string::String;

use uefi::runtime::{self, ResetType};
use uefi::{Status, cstr16};

use crate::variables;

/// `EFI_OS_INDICATIONS_BOOT_TO_FW_UI` (UEFI 2.10, 8.5.4).
const BOOT_TO_FW_UI: u64 = 1;

/// Turns the machine off.
pub fn off() -> ! {
    runtime::reset(ResetType::SHUTDOWN, Status::SUCCESS, None)
}

/// Starts it again.
pub fn restart() -> ! {
    runtime::reset(ResetType::COLD, Status::SUCCESS, None)
}

/// Restarts into firmware setup; comes back where the firmware does not offer that.
pub fn setup_screen() -> String {
    let number = |name| {
        let data = variables::global(name)?;
        Some(u64::from_le_bytes(*data.first_chunk()?))
    };
    if number(cstr16!("OsIndicationsSupported")).unwrap_or(0) & BOOT_TO_FW_UI == 0 {
        return "this firmware does not open its setup on request; press its own key at power-on".into();
    }
    let indications = number(cstr16!("OsIndications")).unwrap_or(0) | BOOT_TO_FW_UI;
    if !variables::set_global(cstr16!("OsIndications"), &indications.to_le_bytes()) {
        return "the firmware refused to store that its setup is wanted".into();
    }
    restart()
}

/// Restarts into a load option; comes back where the firmware refuses to note it.
pub fn into_option(number: u16) -> String {
    if !variables::set_global(cstr16!("BootNext"), &number.to_le_bytes()) {
        return "the firmware refused to store the next boot".into();
    }
    restart()
}
