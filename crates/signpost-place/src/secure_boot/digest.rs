//! Digests, by their length.

use alloc::vec::Vec;

use sha2::Digest;

/// The digest of bytes by the algorithm whose digests have this length.
pub(super) fn hash(length: usize, bytes: &[u8]) -> Option<Vec<u8>> {
    Some(match length {
        20 => sha1::Sha1::digest(bytes).to_vec(),
        32 => sha2::Sha256::digest(bytes).to_vec(),
        48 => sha2::Sha384::digest(bytes).to_vec(),
        64 => sha2::Sha512::digest(bytes).to_vec(),
        _ => return None,
    })
}
