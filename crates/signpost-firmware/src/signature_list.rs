//! Signature databases: what `db` and `dbx` hold (UEFI 2.10, 32.4.1, `EFI_SIGNATURE_LIST`).

use alloc::vec::Vec;

use uguid::{Guid, guid};

use crate::bytes::{array_at, u32_at};

/// Vendor of `db` and `dbx`: `EFI_IMAGE_SECURITY_DATABASE_GUID`.
pub const DATABASE_VENDOR: Guid = guid!("d719b2cb-3d3a-4596-a3bc-dad00e67656f");

const SHA1: Guid = guid!("826ca512-cf10-4ac9-b187-be01496631bd");
const SHA256: Guid = guid!("c1c41626-504c-4092-aca9-41f936934328");
const SHA384: Guid = guid!("ff3e5307-9fd0-48c9-85f5-8ad56c701e01");
const SHA512: Guid = guid!("093e0fae-a6c4-4f50-9f1b-d41e2b89c19a");
const X509: Guid = guid!("a5c059a1-94e4-4aa7-87b5-ab155c2bf072");
const X509_SHA256: Guid = guid!("3bd2a492-96c0-4079-b420-fcf98ef103ed");
const X509_SHA384: Guid = guid!("7076876e-80c2-4ee6-aad2-28b349a6865b");
const X509_SHA512: Guid = guid!("446dbf63-2502-4cda-bcfa-2465d2b0fe9d");

/// Bytes of a list's header: type, list size, header size, signature size.
const HEADER: usize = 28;
/// Bytes before each signature: `SignatureOwner`.
const OWNER: usize = 16;

/// One entry of a database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Signature {
    /// The Authenticode digest of a program; its length tells the algorithm.
    Digest(Vec<u8>),
    /// A certificate, in DER.
    Certificate(Vec<u8>),
    /// The digest of a certificate's part that is signed, from a time on (all zero: from ever on).
    CertificateDigest {
        /// The digest.
        digest: Vec<u8>,
        /// `EFI_TIME`.
        since: [u8; 16],
    },
    /// Of a type that is not known.
    Other(Guid),
}

/// Why a database cannot be read to its end; offsets in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the signature list at offset {offset} claims impossible sizes")]
pub struct SignatureListFault {
    /// Where the list starts.
    pub offset: usize,
}

/// Reads a database.
///
/// # Errors
/// Where a list's sizes do not fit what is there.
pub fn decode(bytes: &[u8]) -> Result<Vec<Signature>, SignatureListFault> {
    let mut found = Vec::new();
    let mut rest = bytes;
    while !rest.is_empty() {
        let fault = SignatureListFault { offset: bytes.len().saturating_sub(rest.len()) };
        let (kind, size, header, signature) = sizes(rest).ok_or(fault)?;
        let (list, after) = rest.split_at_checked(size).ok_or(fault)?;
        let body = HEADER.checked_add(header).and_then(|at| list.get(at..)).ok_or(fault)?;
        if signature <= OWNER || body.len().checked_rem(signature) != Some(0) {
            return Err(fault);
        }
        let data = body.chunks_exact(signature).filter_map(|one| one.get(OWNER..));
        found.extend(data.map(|data| one(kind, data)));
        rest = after;
    }
    Ok(found)
}

/// Type, and the sizes of the list, of the header behind this one, and of each signature.
fn sizes(list: &[u8]) -> Option<(Guid, usize, usize, usize)> {
    let size = |at: usize| usize::try_from(u32_at(list, at)?).ok();
    let whole = size(16).filter(|whole| *whole >= HEADER)?;
    Some((Guid::from_bytes(array_at(list, 0)?), whole, size(20)?, size(24)?))
}

fn one(kind: Guid, data: &[u8]) -> Signature {
    let with_time = |length: usize| {
        let (digest, since) = data.split_at_checked(length)?;
        Some(Signature::CertificateDigest { digest: digest.into(), since: *since.first_chunk()? })
    };
    let digest = |length: usize| (data.len() == length).then(|| Signature::Digest(data.into()));
    let known = match kind {
        SHA1 => digest(20),
        SHA256 => digest(32),
        SHA384 => digest(48),
        SHA512 => digest(64),
        X509 => Some(Signature::Certificate(data.into())),
        X509_SHA256 => with_time(32),
        X509_SHA384 => with_time(48),
        X509_SHA512 => with_time(64),
        _ => None,
    };
    known.unwrap_or(Signature::Other(kind))
}

/// A list of one type, as a database holds it; for tests and tools that enrol keys of their own.
pub fn encode(owner: Guid, signatures: &[Signature]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for signature in signatures {
        let (kind, data) = match signature {
            Signature::Digest(digest) => match digest.len() {
                20 => (SHA1, digest.clone()),
                48 => (SHA384, digest.clone()),
                64 => (SHA512, digest.clone()),
                _ => (SHA256, digest.clone()),
            },
            Signature::Certificate(certificate) => (X509, certificate.clone()),
            Signature::CertificateDigest { digest, since } => {
                let kind = match digest.len() {
                    48 => X509_SHA384,
                    64 => X509_SHA512,
                    _ => X509_SHA256,
                };
                (kind, [digest.as_slice(), since].concat())
            }
            Signature::Other(kind) => (*kind, Vec::new()),
        };
        let size = data.len().saturating_add(OWNER);
        bytes.extend(kind.to_bytes());
        for number in [size.saturating_add(HEADER), 0, size] {
            bytes.extend(u32::try_from(number).unwrap_or(u32::MAX).to_le_bytes());
        }
        bytes.extend(owner.to_bytes());
        bytes.extend(data);
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;
    use proptest::prelude::*;

    #[test]
    fn lists_of_every_type_read_back() {
        let all = [
            Signature::Digest(vec![1; 32]),
            Signature::Digest(vec![2; 48]),
            Signature::Digest(vec![2; 20]),
            Signature::Certificate(vec![3; 700]),
            Signature::CertificateDigest { digest: vec![4; 32], since: [0; 16] },
            Signature::CertificateDigest { digest: vec![4; 64], since: [7; 16] },
        ];
        let bytes = encode(Guid::ZERO, &all);
        assert_eq!(decode(&bytes).unwrap(), all);
        assert_eq!(
            decode(&bytes[..bytes.len() - 1]),
            Err(SignatureListFault { offset: bytes.len() - 28 - 96 })
        );
        assert_eq!(decode(&[]), Ok(vec![]));
    }

    proptest! {
        #[test]
        fn random_bytes_never_panic(bytes: Vec<u8>) {
            let _ = decode(&bytes);
        }
    }
}
