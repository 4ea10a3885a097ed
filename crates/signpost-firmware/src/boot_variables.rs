//! The variables that decide what starts (UEFI 2.10, 3.3): order, next, current, time-out and the options.

use alloc::collections::BTreeMap;
use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use crate::load_option::{LoadOption, LoadOptionFault};
use crate::variable::{Attributes, Contents, Variable, VariableName};

/// `Timeout` of this value waits for a key (UEFI 2.10, 3.1.4).
pub const TIMEOUT_FOREVER: u16 = 0xffff;

/// What the boot variables say.
#[derive(Clone, Debug, Default)]
pub struct BootVariables {
    /// `BootCurrent`: the option that the machine was started from.
    pub current: Option<u16>,
    /// `BootNext`: the option for the next start alone.
    pub next: Option<u16>,
    /// `BootOrder`, as found.
    pub order: Vec<u16>,
    /// `Timeout` in seconds.
    pub timeout: Option<u16>,
    /// Every `Boot####`.
    pub options: BTreeMap<u16, BootOption>,
    /// `SecureBoot`, where the store has it.
    pub secure_boot: Option<bool>,
    /// Variables whose length cannot be right.
    pub faults: Vec<String>,
}

/// One `Boot####` variable.
#[derive(Clone, Debug)]
pub struct BootOption {
    /// The variable's data, as found.
    pub raw: Vec<u8>,
    /// The variable's attributes.
    pub attributes: Attributes,
    /// The same, decoded.
    pub decoded: Result<LoadOption, LoadOptionFault>,
}

impl BootVariables {
    /// Reads them from a store's contents.
    pub fn read(contents: &Contents) -> Self {
        let mut faults = Vec::new();
        let mut number = |name: &str| {
            let variable = contents.get(&VariableName::global(name))?;
            let exact = <[u8; 2]>::try_from(variable.data.as_slice()).ok().map(u16::from_le_bytes);
            if exact.is_none() {
                faults.push(format!("{name} is {} bytes long, expected 2", variable.data.len()));
            }
            exact
        };
        let (current, next, timeout) = (number("BootCurrent"), number("BootNext"), number("Timeout"));
        let order = match contents.get(&VariableName::global("BootOrder")) {
            Some(variable) => {
                let (pairs, odd) = variable.data.as_chunks::<2>();
                if !odd.is_empty() {
                    faults.push(format!(
                        "BootOrder is {} bytes long, expected an even number",
                        variable.data.len()
                    ));
                }
                pairs.iter().map(|pair| u16::from_le_bytes(*pair)).collect()
            }
            None => Vec::new(),
        };
        let secure_boot = contents
            .get(&VariableName::global("SecureBoot"))
            .and_then(|variable| variable.data.first())
            .map(|value| *value == 1);
        let mut options = BTreeMap::new();
        for variable in &contents.variables {
            if let Some(number) = variable.name.boot_option_number() {
                options.insert(number, BootOption::read(variable));
            }
        }
        Self { current, next, order, timeout, options, secure_boot, faults }
    }

    /// Whether no variable, order, next or current names this number.
    pub fn is_free(&self, number: u16) -> bool {
        !self.options.contains_key(&number)
            && !self.order.contains(&number)
            && self.next != Some(number)
            && self.current != Some(number)
    }
}

impl BootOption {
    fn read(variable: &Variable) -> Self {
        Self {
            raw: variable.data.clone(),
            attributes: variable.attributes,
            decoded: LoadOption::decode(&variable.data),
        }
    }
}

/// The `BootOrder` variable for this order.
pub fn boot_order(order: &[u16]) -> Variable {
    global("BootOrder", order.iter().flat_map(|number| number.to_le_bytes()).collect())
}

/// The `Timeout` variable for this many seconds.
pub fn timeout(seconds: u16) -> Variable {
    global("Timeout", Vec::from(seconds.to_le_bytes()))
}

/// The `BootNext` variable for this number.
pub fn boot_next(number: u16) -> Variable {
    global("BootNext", Vec::from(number.to_le_bytes()))
}

/// The `Boot####` variable that holds this option.
pub fn boot_option(number: u16, option: &LoadOption) -> Variable {
    Variable { name: VariableName::boot_option(number), attributes: Attributes::BOOT, data: option.encode() }
}

fn global(name: &str, data: Vec<u8>) -> Variable {
    Variable { name: VariableName::global(name), attributes: Attributes::BOOT, data }
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;

    #[test]
    fn numbers_named_anywhere_are_not_free() {
        let mut contents =
            Contents::from(vec![boot_order(&[1, 4]), boot_next(7), global("BootCurrent", vec![9, 0])]);
        contents.variables.push(Variable { name: VariableName::boot_option(2), ..boot_order(&[]) });
        let boot = BootVariables::read(&contents);
        let taken: Vec<u16> = (0..12).filter(|number| !boot.is_free(*number)).collect();
        assert_eq!(taken, [1, 2, 4, 7, 9]);
        assert_eq!(boot.options[&2].decoded, Err(LoadOptionFault::Short(0)));
    }

    #[test]
    fn odd_lengths_are_named_and_the_rest_is_read() {
        let contents = Contents::from(vec![global("BootOrder", vec![1, 0, 9]), global("Timeout", vec![5])]);
        let boot = BootVariables::read(&contents);
        assert_eq!(boot.order, [1]);
        assert_eq!(boot.timeout, None);
        assert_eq!(
            boot.faults,
            ["Timeout is 1 bytes long, expected 2", "BootOrder is 3 bytes long, expected an even number"]
        );
    }

    #[test]
    fn lower_case_and_foreign_names_are_no_options() {
        assert_eq!(VariableName::global("Boot000a").boot_option_number(), None);
        assert_eq!(VariableName::global("Boot000A").boot_option_number(), Some(10));
        let foreign = VariableName { name: "Boot0001".into(), vendor: uguid::Guid::ZERO };
        assert_eq!(foreign.boot_option_number(), None);
    }
}
