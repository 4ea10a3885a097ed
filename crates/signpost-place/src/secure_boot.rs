//! Secure Boot's verdict on a program (UEFI 2.10, 32.5.3.3, "Authorization Process"): what the firmware will say of a
//! file, told before the restart.

mod digest;
mod image;
mod signature;

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use image::Image;
use signature::{Signed, anchor_of};
use signpost_facts::secure_boot::Verdict;
use signpost_firmware::Guid;
use signpost_firmware::signature_list::{self, DATABASE_VENDOR, Signature};
use signpost_firmware::variable::{Contents, VariableName};

/// Vendor of the open-source firmware's own switch, `SecureBootEnable`, which its store keeps.
const SWITCH_VENDOR: Guid = signpost_firmware::guid!("f0a30bc7-af08-4556-99c4-001009c93a44");

/// What the firmware goes by.
#[derive(Clone, Debug, Default)]
pub struct SecureBoot {
    allowed: Vec<Signature>,
    forbidden: Vec<Signature>,
    /// Why a database cannot be read.
    fault: Option<String>,
    /// Whether the databases are there at all.
    is_known: bool,
    /// Whether a platform key is enrolled.
    has_platform_key: bool,
    /// The firmware's own switch, where its store has it.
    switch: Option<bool>,
}

impl SecureBoot {
    /// Reads keys and databases from the variables.
    pub fn read(contents: &Contents) -> Self {
        let mut read = Self::default();
        let mut database = |name: &str| {
            let name = VariableName { name: name.into(), vendor: DATABASE_VENDOR };
            let variable = contents.get(&name)?;
            read.is_known = true;
            match signature_list::decode(&variable.data) {
                Ok(signatures) => Some(signatures),
                Err(fault) => {
                    read.fault = Some(format!("{}: {fault}", name.name));
                    None
                }
            }
        };
        let (allowed, forbidden) = (database("db"), database("dbx"));
        read.allowed = allowed.unwrap_or_default();
        read.forbidden = forbidden.unwrap_or_default();
        let key = contents.get(&VariableName::global("PK"));
        read.has_platform_key = key.is_some_and(|key| !key.data.is_empty());
        let switch = VariableName { name: "SecureBootEnable".into(), vendor: SWITCH_VENDOR };
        read.switch = contents.get(&switch).and_then(|switch| switch.data.first()).map(|value| *value == 1);
        read
    }

    /// Whether Secure Boot is on at the next start, as far as keys and switch tell it.
    pub fn is_on(&self) -> Option<bool> {
        self.switch.map(|switch| switch && self.has_platform_key)
    }

    /// Judges a program by all of its bytes.
    pub fn judge(&self, file: &[u8]) -> Verdict {
        let image = match Image::read(file) {
            Ok(image) => image,
            Err(why) => return Verdict::Refused(why),
        };
        let is_unsigned = image.signatures().is_empty();
        if let Some(why) = self.fault.clone() {
            return Verdict::CannotTell { why, is_unsigned };
        }
        if !self.is_known {
            let why = "the databases db and dbx are not among the variables".into();
            return Verdict::CannotTell { why, is_unsigned };
        }
        self.verdict(&image)
    }

    fn verdict(&self, image: &Image<'_>) -> Verdict {
        if let Some(digest) = self.digest_in(&self.forbidden, image) {
            return Verdict::Refused(format!("its digest {} is in dbx", short(&digest)));
        }
        let mut unsure = None;
        let mut invalid = None;
        let mut accepted = None;
        for signed in image.signatures() {
            let signed = match signed {
                Ok(signed) => signed,
                Err(why) => {
                    // The firmware may read what we cannot.
                    unsure = Some(why);
                    continue;
                }
            };
            if let Some(why) = self.forbids(&signed) {
                return Verdict::Refused(why);
            }
            match self.allows(image, &signed) {
                Verdict::Accepted(why) => accepted = accepted.or(Some(why)),
                Verdict::Refused(why) => invalid = Some(why),
                Verdict::CannotTell { why, .. } => unsure = Some(why),
            }
        }
        if let Some(why) = accepted {
            return Verdict::Accepted(why);
        }
        if let Some(digest) = self.digest_in(&self.allowed, image) {
            return Verdict::Accepted(format!("its digest {} is in db", short(&digest)));
        }
        match (unsure, invalid) {
            (Some(why), _) => Verdict::CannotTell { why, is_unsigned: false },
            (None, Some(why)) => Verdict::Refused(why),
            (None, None) => Verdict::Refused("it carries no signature, and its digest is not in db".into()),
        }
    }

    /// The image's digest that a database holds.
    fn digest_in(&self, database: &[Signature], image: &Image<'_>) -> Option<Vec<u8>> {
        database.iter().find_map(|signature| match signature {
            Signature::Digest(digest) if image.digest(digest.len()).as_ref() == Some(digest) => {
                Some(digest.clone())
            }
            _ => None,
        })
    }

    /// Why a signature is forbidden, where it is.
    fn forbids(&self, signed: &Signed) -> Option<String> {
        self.forbidden.iter().find_map(|entry| match entry {
            Signature::Certificate(certificate) => {
                let anchor = anchor_of(signed, core::slice::from_ref(certificate))?;
                Some(format!("it is signed by {anchor}, which is in dbx"))
            }
            Signature::CertificateDigest { digest, .. } => {
                let revoked = signed.chain_has_digest(digest)?;
                Some(format!("it is signed by {revoked}, whose digest is in dbx"))
            }
            Signature::Digest(_) | Signature::Other(_) => None,
        })
    }

    fn allows(&self, image: &Image<'_>, signed: &Signed) -> Verdict {
        match signed.holds(|length| image.digest(length)) {
            Verdict::Accepted(_) => {}
            other => return other,
        }
        let certificates = self.allowed.iter().filter_map(|entry| match entry {
            Signature::Certificate(certificate) => Some(certificate.clone()),
            _ => None,
        });
        let certificates: Vec<Vec<u8>> = certificates.collect();
        match anchor_of(signed, &certificates) {
            Some(anchor) => {
                Verdict::Accepted(format!("it is signed by {}, and {anchor} is in db", signed.name()))
            }
            None => Verdict::Refused(format!(
                "it is signed by {}, whom no certificate in db vouches for",
                signed.name()
            )),
        }
    }
}

/// A digest's first letters.
fn short(digest: &[u8]) -> String {
    let letters: String = digest.iter().take(6).map(|byte| format!("{byte:02x}")).collect();
    format!("{letters}…")
}

#[cfg(test)]
mod tests;
