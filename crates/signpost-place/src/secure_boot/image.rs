//! A program as Authenticode sees it: its digest, and the signatures that it carries.

use alloc::collections::BTreeMap;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;
use core::cell::RefCell;
use core::ops::Range;

use authenticode::{AttributeCertificateIterator, PeOffsetError, PeOffsets, PeTrait, authenticode_digest};
use signpost_firmware::image::pe::Pe;

use super::digest::hash;
use super::signature::{Signed, UNREADABLE};

/// A program, whole.
pub(super) struct Image<'a> {
    file: &'a [u8],
    pe: Pe,
    /// Digests by their length, once they were asked for: databases ask for each of their entries.
    digests: RefCell<BTreeMap<usize, Option<Vec<u8>>>>,
}

/// Bytes in the order in which they are hashed.
#[derive(Default)]
struct Collected(Vec<u8>);

impl digest::Update for Collected {
    fn update(&mut self, data: &[u8]) {
        self.0.extend_from_slice(data);
    }
}

impl<'a> Image<'a> {
    /// Reads the headers.
    ///
    /// # Errors
    /// Why it is not a program.
    pub(super) fn read(file: &'a [u8]) -> Result<Self, String> {
        let pe = Pe::decode(file).map_err(|fault| fault.to_string())?;
        Ok(Self { file, pe, digests: RefCell::default() })
    }

    /// Its digest by the algorithm whose digests have this many bytes.
    pub(super) fn digest(&self, length: usize) -> Option<Vec<u8>> {
        self.digests.borrow_mut().entry(length).or_insert_with(|| self.computed(length)).clone()
    }

    fn computed(&self, length: usize) -> Option<Vec<u8>> {
        let mut collected = Collected::default();
        authenticode_digest(self, &mut collected).ok()?;
        hash(length, &collected.0)
    }

    /// Every signature that it carries, or why it is none.
    pub(super) fn signatures(&self) -> Vec<Result<Signed, String>> {
        let broken = |_| "its certificate table is broken".to_string();
        match AttributeCertificateIterator::new(self) {
            Ok(None) => Vec::new(),
            Ok(Some(certificates)) => certificates
                .map(|certificate| {
                    let certificate = certificate.map_err(broken)?;
                    let signature =
                        certificate.get_authenticode_signature().map_err(|_| UNREADABLE.to_string())?;
                    Signed::read(signature, certificate.data)
                })
                .collect(),
            Err(error) => vec![Err(broken(error))],
        }
    }
}

fn range(offset: u32, length: u32) -> Result<Range<usize>, PeOffsetError> {
    let (offset, length) = (offset as usize, length as usize);
    Ok(offset..offset.checked_add(length).ok_or(PeOffsetError)?)
}

impl PeTrait for Image<'_> {
    fn data(&self) -> &[u8] {
        self.file
    }

    fn num_sections(&self) -> usize {
        self.pe.sections.len()
    }

    fn section_data_range(&self, index: usize) -> Result<Range<usize>, PeOffsetError> {
        let section =
            index.checked_sub(1).and_then(|index| self.pe.sections.get(index)).ok_or(PeOffsetError)?;
        // One without contents in the file adds nothing, wherever it says that it lies.
        if section.raw_size == 0 { Ok(0..0) } else { range(section.offset, section.raw_size) }
    }

    fn certificate_table_range(&self) -> Result<Option<Range<usize>>, PeOffsetError> {
        self.pe.signing.certificates.map(|(offset, length)| range(offset, length)).transpose()
    }

    fn offsets(&self) -> Result<PeOffsets, PeOffsetError> {
        let layout = &self.pe.signing;
        let check_sum = range(layout.check_sum, 4)?;
        let security = range(layout.security_directory, 8)?;
        Ok(PeOffsets {
            check_sum: check_sum.start,
            after_check_sum: check_sum.end,
            security_data_dir: security.start,
            after_security_data_dir: security.end,
            after_header: layout.header_size as usize,
        })
    }
}
