//! One signature of a program: PKCS #7 signed data over its digest, and the certificates that vouch for the signer.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use authenticode::AuthenticodeSignature;
use cms::cert::CertificateChoices;
use cms::cert::x509::Certificate;
use cms::content_info::ContentInfo;
use cms::signed_data::{SignedData, SignerIdentifier};
use der::asn1::{ObjectIdentifier, OctetString};
use der::{Decode, Encode, SliceReader};
use rsa::pkcs1::DecodeRsaPublicKey;
use rsa::{Pkcs1v15Sign, PublicKey};

use super::Verdict;
use super::digest::hash;

/// `id-messageDigest` (RFC 5652, 11.2).
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");
/// `rsaEncryption` (RFC 8017).
const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
/// Algorithms of digests and of signatures over certificates, with the length of their digests in bytes.
const ALGORITHMS: [(&str, usize); 8] = [
    ("1.3.14.3.2.26", 20),
    ("2.16.840.1.101.3.4.2.1", 32),
    ("2.16.840.1.101.3.4.2.2", 48),
    ("2.16.840.1.101.3.4.2.3", 64),
    ("1.2.840.113549.1.1.5", 20),
    ("1.2.840.113549.1.1.11", 32),
    ("1.2.840.113549.1.1.12", 48),
    ("1.2.840.113549.1.1.13", 64),
];
/// Certificates from the signer to one that is trusted.
const MAX_CHAIN: usize = 10;

/// The words for a signature that a parser gives up on; where in its bytes, helps nobody who reads it.
pub(super) const UNREADABLE: &str =
    "its signature cannot be read: it is not a PKCS #7 signature as programs carry them";

/// A signature, read.
pub(super) struct Signed {
    signature: AuthenticodeSignature,
    signer: Certificate,
    others: Vec<Certificate>,
}

/// Length of an algorithm's digests.
fn digest_length(algorithm: &ObjectIdentifier) -> Option<usize> {
    let word = algorithm.to_string();
    ALGORITHMS.iter().find(|(oid, _)| *oid == word).map(|(_, length)| *length)
}

fn name_of(certificate: &Certificate) -> String {
    certificate.tbs_certificate.subject.to_string()
}

impl Signed {
    /// Takes a signature and the certificates beside it, which must have the signer's.
    ///
    /// # Errors
    /// What is wrong with it.
    pub(super) fn read(signature: AuthenticodeSignature, bytes: &[u8]) -> Result<Self, String> {
        let unreadable = |_: der::Error| UNREADABLE.to_string();
        let mut reader = SliceReader::new(bytes).map_err(unreadable)?;
        let info = ContentInfo::decode(&mut reader).map_err(unreadable)?;
        let data: SignedData = info.content.decode_as().map_err(unreadable)?;
        let certificates = data.certificates.map(|set| set.0.into_vec()).unwrap_or_default();
        let mut others: Vec<Certificate> = certificates
            .into_iter()
            .filter_map(|choice| match choice {
                CertificateChoices::Certificate(certificate) => Some(certificate),
                CertificateChoices::Other(_) => None,
            })
            .collect();
        let SignerIdentifier::IssuerAndSerialNumber(wanted) = &signature.signer_info().sid else {
            return Err("its signature names the signer in a way that is not known".into());
        };
        let is_signer = |certificate: &Certificate| {
            certificate.tbs_certificate.issuer == wanted.issuer
                && certificate.tbs_certificate.serial_number == wanted.serial_number
        };
        let at = others
            .iter()
            .position(is_signer)
            .ok_or("its signature comes without the signer's certificate")?;
        let signer = others.swap_remove(at);
        Ok(Self { signature, signer, others })
    }

    /// Who signed.
    pub(super) fn name(&self) -> String {
        name_of(&self.signer)
    }

    /// Whether the signature is over this image and made with the signer's key; `digest` gives the image's digest by its
    /// length.
    pub(super) fn holds(&self, digest: impl Fn(usize) -> Option<Vec<u8>>) -> Verdict {
        let algorithm = self.signature.digest_algorithm().oid;
        let Some(length) = digest_length(&algorithm) else {
            let why = format!("its digest is of the unknown algorithm {algorithm}");
            return Verdict::CannotTell { why, is_unsigned: false };
        };
        if digest(length).as_deref() != Some(self.signature.digest()) {
            return Verdict::Refused(
                "it was changed after it was signed: the digest in its signature is another".into(),
            );
        }
        match self.is_made_by_signer() {
            Ok(true) => Verdict::Accepted(String::new()),
            Ok(false) => Verdict::Refused("its signature does not fit the signer's key".into()),
            Err(why) => Verdict::CannotTell { why, is_unsigned: false },
        }
    }

    /// The signature over the signed attributes, which hold the digest of the content (RFC 5652, 5.4).
    fn is_made_by_signer(&self) -> Result<bool, String> {
        let info = self.signature.signer_info();
        let length = digest_length(&info.digest_alg.oid).ok_or_else(|| {
            format!("its signature's digest is of the unknown algorithm {}", info.digest_alg.oid)
        })?;
        let content = self.signature.encapsulated_content().unwrap_or_default();
        let digest = hash(length, content).unwrap_or_default();
        let message = match &info.signed_attrs {
            None => digest,
            Some(attributes) => {
                let said = attributes.iter().find(|attribute| attribute.oid == MESSAGE_DIGEST);
                let said =
                    said.and_then(|attribute| attribute.values.get(0)?.decode_as::<OctetString>().ok());
                if said.is_none_or(|said| said.as_bytes() != digest) {
                    return Ok(false);
                }
                let bytes = attributes.to_der().map_err(|_| UNREADABLE.to_string())?;
                hash(length, &bytes).unwrap_or_default()
            }
        };
        let fits = is_signed_by(&self.signer, length, &message, self.signature.signature());
        fits.ok_or_else(|| "the signer's key is not of a kind that is known here (RSA)".to_string())
    }

    /// The certificate of this signature whose signed part has a digest; its name.
    pub(super) fn chain_has_digest(&self, digest: &[u8]) -> Option<String> {
        let all = core::iter::once(&self.signer).chain(&self.others);
        let has = |certificate: &&Certificate| {
            let signed = certificate.tbs_certificate.to_der().unwrap_or_default();
            hash(digest.len(), &signed).as_deref() == Some(digest)
        };
        all.into_iter().find(has).map(name_of)
    }
}

/// Whether a digest is signed with a certificate's key; `None` where its key is of another kind than RSA.
fn is_signed_by(certificate: &Certificate, length: usize, digest: &[u8], signature: &[u8]) -> Option<bool> {
    let key = &certificate.tbs_certificate.subject_public_key_info;
    if key.algorithm.oid != RSA {
        return None;
    }
    let key = PublicKey::from_pkcs1_der(key.subject_public_key.raw_bytes()).ok()?;
    let scheme = match length {
        20 => Pkcs1v15Sign::new::<sha1::Sha1>(),
        32 => Pkcs1v15Sign::new::<sha2::Sha256>(),
        48 => Pkcs1v15Sign::new::<sha2::Sha384>(),
        64 => Pkcs1v15Sign::new::<sha2::Sha512>(),
        _ => return None,
    };
    Some(key.verify(scheme, digest, signature).is_ok())
}

/// Whether a certificate was issued by another.
fn is_issued_by(certificate: &Certificate, issuer: &Certificate) -> bool {
    let names_it = certificate.tbs_certificate.issuer == issuer.tbs_certificate.subject;
    let check = || {
        let length = digest_length(&certificate.signature_algorithm.oid)?;
        let digest = hash(length, &certificate.tbs_certificate.to_der().ok()?)?;
        is_signed_by(issuer, length, &digest, certificate.signature.raw_bytes())
    };
    names_it && check() == Some(true)
}

/// The name of the certificate, among these in DER, that vouches for a signer: his own, or that of an issuer above him.
/// As firmware does, no dates are looked at, and a certificate in the middle of a chain may be the one.
pub(super) fn anchor_of(signed: &Signed, anchors: &[Vec<u8>]) -> Option<String> {
    let anchors: Vec<Certificate> =
        anchors.iter().filter_map(|der| Certificate::from_der(der).ok()).collect();
    let mut current = &signed.signer;
    for _ in 0..MAX_CHAIN {
        let is_anchor = |anchor: &&Certificate| *anchor == current || is_issued_by(current, anchor);
        if let Some(anchor) = anchors.iter().find(is_anchor) {
            return Some(name_of(anchor));
        }
        current = signed.others.iter().find(|other| *other != current && is_issued_by(current, other))?;
    }
    None
}
