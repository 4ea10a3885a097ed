//! What firmware can start: PE/COFF programs, their version resource, and Linux kernels.

use alloc::format;
use alloc::string::String;

pub mod flat;
pub mod linux;
pub mod linux_protocol;
pub mod loading;
pub mod pe;
pub mod version_resource;

/// What a file is by its first bytes, in a few words; `None` where it is neither kernel nor program.
pub fn in_words(head: &[u8]) -> Option<String> {
    if let Some(kernel) = linux::decode(head) {
        return Some(format!(
            "Linux kernel {}",
            kernel.version.unwrap_or_else(|| "of unknown version".into())
        ));
    }
    let pe = pe::Pe::decode(head).ok()?;
    let signed = if pe.is_signed { ", signed" } else { "" };
    Some(format!("EFI program for {}{signed}", pe.machine))
}
