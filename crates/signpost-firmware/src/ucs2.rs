//! UCS-2 text as UEFI stores it (UEFI 2.10, 2.3.1: `CHAR16`, little-endian).

use alloc::string::String;
use alloc::vec::Vec;
use core::fmt;

/// Text in 16-bit units, kept as it was found even where it is not valid UTF-16.
#[derive(Clone, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ucs2(Vec<u16>);

impl Ucs2 {
    /// The units before the first NUL of `bytes`, and how many bytes they take with it;
    /// `None` where no NUL comes.
    pub fn decode_terminated(bytes: &[u8]) -> Option<(Self, usize)> {
        let units = units(bytes);
        let length = units.iter().position(|unit| *unit == 0)?;
        let used = length.checked_add(1)?.checked_mul(2)?;
        Some((Self(units.into_iter().take(length).collect()), used))
    }

    /// All units of `bytes` up to the first NUL or the end.
    pub fn decode_lenient(bytes: &[u8]) -> Self {
        Self(units(bytes).into_iter().take_while(|unit| *unit != 0).collect())
    }

    /// Little-endian bytes, without a NUL.
    pub fn to_bytes(&self) -> Vec<u8> {
        self.0.iter().flat_map(|unit| unit.to_le_bytes()).collect()
    }

    /// Little-endian bytes with the closing NUL.
    pub fn to_bytes_terminated(&self) -> Vec<u8> {
        let mut bytes = self.to_bytes();
        bytes.extend([0, 0]);
        bytes
    }
}

fn units(bytes: &[u8]) -> Vec<u16> {
    bytes.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair)).collect()
}

impl From<&str> for Ucs2 {
    fn from(text: &str) -> Self {
        Self(text.encode_utf16().collect())
    }
}

impl fmt::Display for Ucs2 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&String::from_utf16_lossy(&self.0))
    }
}

impl fmt::Debug for Ucs2 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}", String::from_utf16_lossy(&self.0))
    }
}
