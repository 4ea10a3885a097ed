//! Numbers in fields of on-disk structures; `None` where the field lies past the end.

use alloc::string::String;

use crate::error::VolumeError;

macro_rules! fields {
    ($($name:ident: $type:ty, $from:ident, $words:literal;)*) => {$(
        #[doc = $words]
        pub(crate) fn $name(bytes: &[u8], offset: usize) -> Option<$type> {
            bytes.get(offset..)?.first_chunk().copied().map(<$type>::$from)
        }
    )*};
}

fields! {
    le16: u16, from_le_bytes, "A little-endian number of 16 bits.";
    le32: u32, from_le_bytes, "A little-endian number of 32 bits.";
    le64: u64, from_le_bytes, "A little-endian number of 64 bits.";
    be16: u16, from_be_bytes, "A big-endian number of 16 bits.";
    be32: u32, from_be_bytes, "A big-endian number of 32 bits.";
    be64: u64, from_be_bytes, "A big-endian number of 64 bits.";
}

/// A length or an index that fits this machine's memory; the largest there is where it does not.
pub(crate) fn len(value: impl TryInto<usize>) -> usize {
    value.try_into().unwrap_or(usize::MAX)
}

/// A structure that ends before one of its fields does.
pub(crate) fn short(what: &str) -> VolumeError {
    VolumeError::Corrupt(alloc::format!("{what}: it ends before its own fields do"))
}

/// Bytes as a UUID whose text is in their own order (RFC 9562); `None` where all are zero or some are missing.
pub(crate) fn uuid_at(bytes: &[u8], offset: usize) -> Option<String> {
    let uuid: &[u8; 16] = bytes.get(offset..)?.first_chunk()?;
    (*uuid != [0; 16]).then(|| uuid_text(uuid))
}

/// The text of a UUID whose bytes are all in reading order (RFC 9562), unlike a GUID's.
pub fn uuid_text(uuid: &[u8; 16]) -> String {
    let mut text = String::new();
    for (index, byte) in uuid.iter().enumerate() {
        if matches!(index, 4 | 6 | 8 | 10) {
            text.push('-');
        }
        text.push_str(&alloc::format!("{byte:02x}"));
    }
    text
}
