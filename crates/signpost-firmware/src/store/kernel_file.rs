//! A variable as the Linux kernel shows it in a file: named `NAME-GUID`, four bytes of attributes
//! (little-endian), then the data.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use uguid::Guid;

use crate::variable::{Attributes, Variable, VariableName};

const GUID_LEN: usize = 36; // characters

/// The file name of a variable.
pub fn file_name(name: &VariableName) -> String {
    format!("{}-{}", name.name, name.vendor)
}

/// The variable a file name stands for; `None` for a file that is not a variable.
pub fn parse_file_name(file: &str) -> Option<VariableName> {
    let split = file.len().checked_sub(GUID_LEN)?;
    let (name, vendor) = (file.get(..split)?.strip_suffix('-')?, file.get(split..)?);
    let vendor = Guid::try_parse(vendor).ok()?;
    (!name.is_empty()).then(|| VariableName { name: String::from(name), vendor })
}

/// The file's contents for a variable.
pub fn encode(variable: &Variable) -> Vec<u8> {
    let mut bytes = Vec::from(variable.attributes.bits().to_le_bytes());
    bytes.extend(&variable.data);
    bytes
}

/// The variable that a file of this name holds; `None` where it is shorter than its attributes.
pub fn decode(name: VariableName, bytes: &[u8]) -> Option<Variable> {
    let (attributes, data) = bytes.split_first_chunk::<4>()?;
    let attributes = Attributes::from_bits_retain(u32::from_le_bytes(*attributes));
    Some(Variable { name, attributes, data: Vec::from(data) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_file_name_needs_a_name_and_a_guid() {
        let name = VariableName::global("BootOrder");
        assert_eq!(file_name(&name), "BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c");
        assert_eq!(parse_file_name(&file_name(&name)), Some(name));
        for odd in ["README", "-8be4df61-93ca-11d2-aa0d-00e098032b8c", "Böotörder", ""] {
            assert_eq!(parse_file_name(odd), None, "{odd}");
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(name in "[A-Za-z0-9-]{1,20}", attributes: u32, data: Vec<u8>) {
            let variable = Variable {
                name: VariableName::global(name),
                attributes: Attributes::from_bits_retain(attributes),
                data,
            };
            let name = parse_file_name(&file_name(&variable.name)).unwrap();
            prop_assert_eq!(decode(name, &encode(&variable)), Some(variable));
        }

        #[test]
        fn any_bytes_and_names_are_taken(name: String, bytes: Vec<u8>) {
            if let Some(name) = parse_file_name(&name) {
                prop_assert_eq!(decode(name, &bytes).is_some(), bytes.len() >= 4);
            }
        }
    }
}
