//! Variables: the firmware's, and ours under our own vendor. A firmware that refuses a write still starts
//! systems: every write here may fail without harm.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::variable::{Attributes, Contents, Variable, VariableName};
use signpost_menu::ours;
use signpost_place::at_boot::Variables;
use uefi::runtime::{self, VariableAttributes, VariableVendor};
use uefi::{CStr16, CString16, Guid, guid};

const GLOBAL: VariableVendor = VariableVendor(guid!("8be4df61-93ca-11d2-aa0d-00e098032b8c"));
/// Ours: kept, seen before and while a system runs.
const KEPT: VariableAttributes = VariableAttributes::NON_VOLATILE
    .union(VariableAttributes::BOOTSERVICE_ACCESS)
    .union(VariableAttributes::RUNTIME_ACCESS);

fn our_vendor() -> VariableVendor {
    VariableVendor(Guid::from_bytes(ours::VENDOR))
}

/// The firmware's variables.
pub struct FirmwareVariables;

impl Variables for FirmwareVariables {
    fn boot_variables(&self) -> BootVariables {
        boot_variables()
    }
}

fn boot_variables() -> BootVariables {
    let mut contents = Contents::default();
    for key in runtime::variable_keys().flatten() {
        if key.vendor != GLOBAL {
            continue;
        }
        if let Ok((data, attributes)) = runtime::get_variable_boxed(&key.name, &key.vendor) {
            contents.variables.push(Variable {
                name: VariableName::global(key.name.to_string()),
                attributes: Attributes::from_bits_retain(attributes.bits()),
                data: data.into_vec(),
            });
        }
    }
    BootVariables::read(&contents)
}

fn name(name: &str) -> Option<CString16> {
    CString16::try_from(name).ok()
}

/// The text of one of our variables.
pub fn text(variable: &str) -> Option<String> {
    let name = name(variable)?;
    let (data, _) = runtime::get_variable_boxed(&name, &our_vendor()).ok()?;
    let text = String::from_utf8(data.into_vec()).ok()?;
    (!text.is_empty()).then_some(text)
}

/// Sets one of our variables, unless it has this text already.
pub fn set_text(variable: &str, value: &str) -> bool {
    if text(variable).as_deref() == Some(value) {
        return true;
    }
    name(variable)
        .is_some_and(|name| runtime::set_variable(&name, &our_vendor(), KEPT, value.as_bytes()).is_ok())
}

/// Removes one of our variables.
pub fn remove(variable: &str) {
    if let Some(name) = name(variable) {
        let _ = runtime::delete_variable(&name, &our_vendor());
    }
}

/// Sets a variable of the standard's vendor.
pub fn set_global(variable: &CStr16, data: &[u8]) -> bool {
    runtime::set_variable(variable, &GLOBAL, KEPT, data).is_ok()
}

/// Reads a variable of the standard's vendor.
pub fn global(variable: &CStr16) -> Option<Vec<u8>> {
    runtime::get_variable_boxed(variable, &GLOBAL).ok().map(|(data, _)| data.into_vec())
}
