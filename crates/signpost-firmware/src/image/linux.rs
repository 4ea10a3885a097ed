//! Linux kernels for x86 (the kernel's own document "The Linux/x86 Boot Protocol", sections "The
//! Real-Mode Kernel Header" and "Details of Header Fields").

use alloc::string::String;

use super::pe::Pe;
use crate::bytes::u16_at;

/// Bytes of a kernel's start that hold all that [`decode`] reads; the version text may lie in the
/// set-up sectors, of which there are at most 64.
pub const HEAD_LEN: usize = 0x8000 + 0x200;

/// What a kernel's header says.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinuxKernel {
    /// The release, first word of the version text: `6.9.4-2-larkspur`.
    pub version: Option<String>,
    /// Boot protocol, major and minor.
    pub protocol: (u8, u8),
    /// Whether it is a 64-bit kernel (`XLF_KERNEL_64`).
    pub is_64_bit: bool,
    /// The EFI stub, where there is one.
    pub efi_stub: Option<EfiStub>,
}

/// A kernel's EFI stub: the kernel is then an EFI program too.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EfiStub {
    /// Its version, from the PE header's image version; below 1.0 it takes no initrd from `LoadFile2`.
    pub version: (u16, u16),
}

/// Reads a kernel's header from the file's first [`HEAD_LEN`] bytes (fewer, where the file is shorter);
/// `None` where it is not a bzImage.
pub fn decode(head: &[u8]) -> Option<LinuxKernel> {
    if u16_at(head, 0x1fe)? != 0xaa55 || head.get(0x202..0x206)? != b"HdrS" {
        return None;
    }
    let [minor, major] = u16_at(head, 0x206)?.to_le_bytes();
    let kernel_version = u16_at(head, 0x20e)?; // bytes, less 0x200
    let xloadflags = if (major, minor) >= (2, 12) { u16_at(head, 0x236)? } else { 0 };
    let version =
        (kernel_version != 0).then(|| text_at(head, usize::from(kernel_version).checked_add(0x200)?));
    let efi_stub = Pe::decode(head).ok().map(|pe| EfiStub { version: pe.image_version });
    Some(LinuxKernel {
        version: version.flatten(),
        protocol: (major, minor),
        is_64_bit: xloadflags & 1 != 0,
        efi_stub,
    })
}

/// The first word of a NUL-ended text.
fn text_at(head: &[u8], offset: usize) -> Option<String> {
    let text = head.get(offset..)?;
    let end = text.iter().position(|byte| matches!(byte, 0 | b' '))?;
    let word = core::str::from_utf8(text.get(..end)?).ok()?;
    (!word.is_empty() && word.len() < 256).then(|| String::from(word))
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;
    use alloc::vec::Vec;
    use proptest::prelude::*;

    fn header() -> Vec<u8> {
        let mut head = vec![0; 0x1000];
        head[0x1fe..0x200].copy_from_slice(&[0x55, 0xaa]);
        head[0x202..0x206].copy_from_slice(b"HdrS");
        head[0x206..0x208].copy_from_slice(&[15, 2]);
        head[0x20e..0x210].copy_from_slice(&0x400u16.to_le_bytes());
        head[0x236] = 1;
        head[0x600..0x620].copy_from_slice(b"6.9.4-2-larkspur (root@bench) #1");
        head
    }

    #[test]
    fn version_and_width_come_from_the_header() {
        let kernel = decode(&header()).unwrap();
        assert_eq!(kernel.version.as_deref(), Some("6.9.4-2-larkspur"));
        assert_eq!((kernel.protocol, kernel.is_64_bit, kernel.efi_stub), ((2, 15), true, None));
    }

    #[test]
    fn a_file_without_the_marks_is_no_kernel() {
        assert_eq!(decode(&header()[..0x205]), None);
        let mut other = header();
        other[0x202] = b'X';
        assert_eq!(decode(&other), None);
    }

    #[test]
    fn a_version_outside_the_head_is_unknown() {
        let mut far = header();
        far[0x20f] = 0xff;
        assert_eq!(decode(&far).unwrap().version, None);
    }

    proptest! {
        #[test]
        fn spoiled_headers_never_panic(spoiled in prop::collection::vec((0usize..0x1000, any::<u8>()), 1..30)) {
            let mut head = header();
            for (at, value) in spoiled {
                head[at] = value;
            }
            if let Some(kernel) = decode(&head) {
                prop_assert!(kernel.version.is_none_or(|version| !version.is_empty()));
            }
        }
    }
}
