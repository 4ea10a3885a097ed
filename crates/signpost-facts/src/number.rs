//! Numbers that people read, as types.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::{String, ToString};
use core::fmt;

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
pub use signpost_menu::disk_number::{DiskNumber, DiskNumbers};

/// A load option's number (UEFI 2.10, 3.1.1), written as four hexadecimal digits as in `Boot####`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct OptionNumber(pub u16);

impl fmt::Display for OptionNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{:04X}", self.0))
    }
}

impl Serialize for OptionNumber {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.to_string())
    }
}

impl<'de> Deserialize<'de> for OptionNumber {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        let number = u16::from_str_radix(&text, 16).ok().filter(|_| text.len() == 4);
        number.map(Self).ok_or_else(|| D::Error::custom("expected four hexadecimal digits"))
    }
}

/// A disk's signature in its master boot record (UEFI 2.10, 5.2.1), written as eight hexadecimal digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MbrSignature(pub u32);

impl fmt::Display for MbrSignature {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:08x}", self.0)
    }
}

impl Serialize for MbrSignature {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.to_string())
    }
}

impl<'de> Deserialize<'de> for MbrSignature {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        let signature = u32::from_str_radix(&text, 16).ok().filter(|_| text.len() == 8);
        signature.map(Self).ok_or_else(|| D::Error::custom("expected eight hexadecimal digits"))
    }
}

impl From<OptionNumber> for String {
    fn from(number: OptionNumber) -> Self {
        number.to_string()
    }
}

/// Numbers one behind the other, with something between them.
pub fn joined(numbers: &[OptionNumber], between: &str) -> String {
    let words: alloc::vec::Vec<String> = numbers.iter().map(ToString::to_string).collect();
    words.join(between)
}

/// A partition's number as tables and the running system count it. Firmware's device paths may know the same partition by
/// another one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PartitionNumber(pub u32);

impl fmt::Display for PartitionNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.0, f)
    }
}

/// A volume's number in a survey, from 1. People read a volume's name; calls that take an index count from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct VolumeNumber(usize);

impl VolumeNumber {
    /// That of the volume at this place in the list.
    pub fn of_index(index: usize) -> Self {
        Self(index.saturating_add(1))
    }

    /// Its place in the list. A number that was made up elsewhere and is 0 has none that is there.
    pub fn index(self) -> usize {
        self.0.wrapping_sub(1)
    }
}
