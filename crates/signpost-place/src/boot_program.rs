//! How our boot program is known from every other file, and what it is called.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use sha2::{Digest, Sha256};
use signpost_firmware::image::pe::Pe;
use signpost_menu::slot::HOME_FOLDER;

/// The boot program, as it is put on the home volume.
#[derive(Clone, Debug)]
pub struct BootProgram {
    bytes: Vec<u8>,
    path: String,
}

impl BootProgram {
    /// The program in these bytes.
    pub fn new(bytes: Vec<u8>) -> Self {
        let path = format!("{HOME_FOLDER}/{}", file_name(&sha256(&bytes)));
        Self { bytes, path }
    }

    /// Its bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Its path on the home volume: named by its own contents, so that one that was altered is not taken for it.
    pub fn path(&self) -> &str {
        &self.path
    }
}

/// The file name of a boot program with this SHA-256.
fn file_name(sha256: &str) -> String {
    format!("{}.EFI", sha256.get(..8).unwrap_or_default().to_uppercase())
}

/// Whether a boot file is a boot program of ours: in our folder, and named by its own contents.
pub fn is_boot_program(path: &str, sha256: Option<&str>) -> bool {
    let (folder, name) = path.rsplit_once('/').unwrap_or_default();
    folder.eq_ignore_ascii_case(HOME_FOLDER)
        && sha256.is_some_and(|sha256| file_name(sha256).eq_ignore_ascii_case(name))
}

/// The section by which a program says that it is our boot program.
const MARK_SECTION: &str = ".sgnpost";

/// Whether a file says that it is our boot program.
pub fn says_so(bytes: &[u8]) -> bool {
    Pe::decode(bytes).is_ok_and(|pe| has_mark(&pe))
}

/// Whether a program says that it is our boot program.
pub fn has_mark(pe: &Pe) -> bool {
    pe.section(MARK_SECTION).is_some()
}

/// SHA-256 in hexadecimal.
pub fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}
