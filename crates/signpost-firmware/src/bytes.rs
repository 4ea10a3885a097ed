//! Little-endian fields at byte offsets; `None` where the bytes end before.

/// The `N` bytes at an offset.
pub(crate) fn array_at<const N: usize>(bytes: &[u8], offset: usize) -> Option<[u8; N]> {
    bytes.get(offset..)?.first_chunk().copied()
}

/// The 16-bit number at an offset.
pub(crate) fn u16_at(bytes: &[u8], offset: usize) -> Option<u16> {
    array_at(bytes, offset).map(u16::from_le_bytes)
}

/// The 32-bit number at an offset.
pub(crate) fn u32_at(bytes: &[u8], offset: usize) -> Option<u32> {
    array_at(bytes, offset).map(u32::from_le_bytes)
}

/// The 64-bit number at an offset.
pub(crate) fn u64_at(bytes: &[u8], offset: usize) -> Option<u64> {
    array_at(bytes, offset).map(u64::from_le_bytes)
}
