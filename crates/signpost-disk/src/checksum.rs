//! CRC-32C, which XFS and btrfs keep with their metadata, and CRC-32, which GPT and LVM2 do.

use crc::{CRC_32_ISCSI, CRC_32_ISO_HDLC, Crc, Digest, Table};

/// Sixteen tables of 1 KiB, for as many bytes at a time; the boot program, which has little room, takes one.
#[cfg(feature = "wide-tables")]
type Tables = Table<16>;
#[cfg(not(feature = "wide-tables"))]
type Tables = Table<1>;

static CRC_32C: Crc<u32, Tables> = Crc::<u32, Tables>::new(&CRC_32_ISCSI);

static CRC_32: Crc<u32, Tables> = Crc::<u32, Tables>::new(&CRC_32_ISO_HDLC);

/// CRC-32 over pieces, one behind the other.
pub(crate) fn crc32<'p>(pieces: impl IntoIterator<Item = &'p [u8]>) -> u32 {
    let mut digest = CRC_32.digest();
    pieces.into_iter().for_each(|piece| digest.update(piece));
    digest.finalize()
}

/// CRC-32 from another start than the standard's, and without its last inversion: LVM2's.
pub(crate) fn crc32_seeded(seed: u32, bytes: &[u8]) -> u32 {
    let mut digest = CRC_32.digest_with_initial(seed.reverse_bits());
    digest.update(bytes);
    !digest.finalize()
}

/// Over one piece.
pub(crate) fn crc32c(bytes: &[u8]) -> u32 {
    CRC_32C.checksum(bytes)
}

/// Over a structure whose own checksum, of four bytes at `field`, counts as zero.
pub(crate) fn crc32c_without(bytes: &[u8], field: usize) -> u32 {
    let mut digest: Digest<'_, u32, Tables> = CRC_32C.digest();
    digest.update(bytes.get(..field).unwrap_or_default());
    digest.update(&[0; 4]);
    digest.update(field.checked_add(4).and_then(|rest| bytes.get(rest..)).unwrap_or_default());
    digest.finalize()
}

/// From another start than the standard's, and without its last inversion: what btrfs hashes names by.
pub(crate) fn crc32c_seeded(seed: u32, bytes: &[u8]) -> u32 {
    let mut digest = CRC_32C.digest_with_initial(seed.reverse_bits());
    digest.update(bytes);
    !digest.finalize()
}
