//! ISO 9660 (ECMA-119, 8.4) and UDF (ECMA-167, parts 2 and 3).

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::head::Head;
use crate::bytes::{le16, le32};
use crate::identity::{Identity, VolumeKind};
use crate::text::utf16_text;

/// Where descriptors start.
const START: u64 = 0x8000;
const SECTOR: u64 = 2048;
/// Descriptors that are looked at.
const MAX_DESCRIPTORS: u64 = 32;

/// Either; UDF where both are there, since ISO 9660 is its bridge then.
pub(super) fn iso_or_udf(head: &Head<'_>) -> Option<Identity> {
    let [_, mark @ ..] = head.array::<6>(START)?;
    match &mark {
        b"BEA01" => udf(head),
        b"CD001" => udf(head).or_else(|| iso(head)),
        _ => None,
    }
}

fn iso(head: &Head<'_>) -> Option<Identity> {
    let mut found = None;
    let mut wide = None;
    for index in 0..MAX_DESCRIPTORS {
        let descriptor = head.bytes(START.checked_add(index.checked_mul(SECTOR)?)?, 860)?;
        if descriptor.get(1..6) != Some(b"CD001") {
            break;
        }
        match descriptor.first()? {
            1 => found = found.or(Some(descriptor)),
            // A supplementary descriptor with 16-bit names says so in its escape sequences.
            2 if matches!(descriptor.get(88..91), Some(b"%/@" | b"%/C" | b"%/E")) => wide = Some(descriptor),
            255 => break,
            _ => {}
        }
    }
    let primary = found?;
    let narrow = String::from_utf8_lossy(primary.get(40..72)?).trim_end_matches([' ', '\0']).to_string();
    let wide = wide.and_then(|wide| utf16_text(wide.get(40..72)?, u16::from_be_bytes));
    let label = wide.map_or(narrow.clone(), |wide| merged(&narrow, &wide));
    let modified = iso_date(primary.get(830..847)?).or_else(|| iso_date(primary.get(813..830)?));
    Some(Identity::named(VolumeKind::Iso9660, Some(label).filter(|label| !label.is_empty()), modified))
}

/// The narrow label, with the wide one's letters where the narrow one could not write them.
fn merged(narrow: &str, wide: &str) -> String {
    let mut wide = wide.chars();
    let mut label = String::new();
    for c in narrow.chars() {
        let other = wide.next();
        label.push(if c == '_' { other.unwrap_or(c) } else { c });
    }
    label.extend(wide);
    label
}

/// A date as digits, in the form that `blkid` makes an identity of; `None` where it is not set.
fn iso_date(digits: &[u8]) -> Option<String> {
    let digits: String = digits.get(..16)?.iter().map(|byte| char::from(*byte)).collect();
    if !digits.bytes().all(|byte| byte.is_ascii_digit()) || digits.bytes().all(|byte| byte == b'0') {
        return None;
    }
    let part = |from: usize, to: usize| digits.get(from..to);
    let (year, month, day) = (part(0, 4)?, part(4, 6)?, part(6, 8)?);
    let (hour, minute, second, hundredth) = (part(8, 10)?, part(10, 12)?, part(12, 14)?, part(14, 16)?);
    Some(format!("{year}-{month}-{day}-{hour}-{minute}-{second}-{hundredth}"))
}

/// UDF: its descriptors say where the volume's own are.
fn udf(head: &Head<'_>) -> Option<Identity> {
    let is_nsr = |index: u64| {
        let at = START.saturating_add(index.saturating_mul(SECTOR));
        head.array::<6>(at).is_some_and(|bytes| matches!(&bytes[1..], b"NSR02" | b"NSR03"))
    };
    if !(0..8).any(is_nsr) {
        return None;
    }
    // `AnchorVolumeDescriptorPointer`, at sector 256 of a size that nothing says.
    let (block_size, anchor) = [2048u64, 512, 4096, 1024].into_iter().find_map(|size| {
        let anchor = head.bytes(size.checked_mul(256)?, 32)?;
        (le16(&anchor, 0)? == 2 && le32(&anchor, 12)? == 256).then_some((size, anchor))
    })?;
    let first = u64::from(le32(&anchor, 20)?);
    let (mut label, mut set) = (None, None);
    for index in 0..MAX_DESCRIPTORS {
        let descriptor = head.bytes(first.checked_add(index)?.checked_mul(block_size)?, 512)?;
        match le16(&descriptor, 0)? {
            1 => set = descriptor.get(72..200).and_then(dstring),
            6 => label = descriptor.get(84..212).and_then(dstring),
            8 => break,
            _ => {}
        }
    }
    let uuid = set.as_deref().and_then(udf_uuid);
    Some(Identity::named(VolumeKind::Udf, label, uuid))
}

/// `dstring` (ECMA-167, 1/7.2.12): the last byte is its length, the first says how wide its units are.
fn dstring(field: &[u8]) -> Option<String> {
    let used = usize::from(*field.last()?).min(field.len().checked_sub(1)?);
    let text = field.get(1..used)?;
    match field.first()? {
        8 => {
            let text: String = text.iter().map(|byte| char::from(*byte)).collect();
            Some(text.trim_end().to_string()).filter(|text| !text.is_empty())
        }
        16 => utf16_text(text, u16::from_be_bytes),
        _ => None,
    }
}

/// The identity that `blkid` makes of a volume set's identifier: its first 16 letters, where these are
/// hexadecimal digits; else the first 8 of them and the next 4 bytes in digits; else all in digits.
fn udf_uuid(set: &str) -> Option<String> {
    let bytes: Vec<u8> = set.bytes().collect();
    let is_hex = |range: core::ops::Range<usize>| {
        bytes.get(range).is_some_and(|part| part.iter().all(u8::is_ascii_hexdigit))
    };
    let digits = |range: core::ops::Range<usize>| -> Option<String> {
        Some(bytes.get(range)?.iter().map(|byte| format!("{byte:02x}")).collect())
    };
    let text = |range: core::ops::Range<usize>| -> Option<String> {
        Some(String::from_utf8_lossy(bytes.get(range)?).to_lowercase())
    };
    if bytes.len() < 8 {
        return None;
    }
    if is_hex(0..16) {
        text(0..16)
    } else if is_hex(0..8) {
        Some(format!("{}{}", text(0..8)?, digits(8..12)?))
    } else {
        digits(0..8)
    }
}
