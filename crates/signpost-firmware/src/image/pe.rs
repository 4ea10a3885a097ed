//! PE/COFF programs (Microsoft's "PE Format" specification; UEFI 2.10, 2.1.1).

use alloc::string::String;
use alloc::vec::Vec;
use core::fmt;

use zerocopy::byteorder::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout};

use crate::bytes::{u16_at, u32_at};

/// No program that firmware starts has more sections.
const MAX_SECTIONS: usize = 96;

/// COFF file header.
#[derive(FromBytes, KnownLayout, Immutable)]
#[repr(C)]
struct CoffHeader {
    machine: U16,
    number_of_sections: U16,
    time_date_stamp: U32,
    pointer_to_symbol_table: U32,
    number_of_symbols: U32,
    size_of_optional_header: U16,
    characteristics: U16,
}

/// One section's header.
#[derive(FromBytes, KnownLayout, Immutable)]
#[repr(C)]
struct SectionHeader {
    name: [u8; 8],
    virtual_size: U32,
    virtual_address: U32,
    size_of_raw_data: U32,
    pointer_to_raw_data: U32,
    pointer_to_relocations: U32,
    pointer_to_line_numbers: U32,
    number_of_relocations: U16,
    number_of_line_numbers: U16,
    characteristics: U32,
}

/// `Machine`: what a program was built for.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MachineType(pub u16);

impl MachineType {
    /// 64-bit x86.
    pub const X64: Self = Self(0x8664);
    /// 32-bit x86.
    pub const IA32: Self = Self(0x014c);
    /// 64-bit ARM.
    pub const AA64: Self = Self(0xaa64);
    /// 64-bit RISC-V.
    pub const RISCV64: Self = Self(0x5064);

    /// What most PCs look for.
    pub const X64_FALLBACK: &str = "BOOTX64.EFI";

    /// File name of the fallback path for it: `BOOT<arch>.EFI` (UEFI 2.10, 3.5.1.1).
    pub fn fallback_file_name(self) -> Option<&'static str> {
        Some(match self {
            Self::X64 => Self::X64_FALLBACK,
            Self::IA32 => "BOOTIA32.EFI",
            Self::AA64 => "BOOTAA64.EFI",
            Self::RISCV64 => "BOOTRISCV64.EFI",
            _ => return None,
        })
    }
}

impl fmt::Display for MachineType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Self::X64 => f.write_str("x86_64"),
            Self::IA32 => f.write_str("x86"),
            Self::AA64 => f.write_str("aarch64"),
            Self::RISCV64 => f.write_str("riscv64"),
            Self(other) => write!(f, "machine type {other:#06x}"),
        }
    }
}

/// A program's headers.
#[derive(Clone, Debug)]
pub struct Pe {
    /// What it was built for.
    pub machine: MachineType,
    /// Major and minor image version, which a Linux kernel's EFI stub uses for its own version.
    pub image_version: (u16, u16),
    /// Whether it carries a certificate table: a signature of some sort.
    pub is_signed: bool,
    /// Its sections.
    pub sections: Vec<Section>,
    /// What a digest over the program leaves out, and where its signatures lie.
    pub signing: SigningLayout,
    /// What the firmware's loader looks at.
    pub(super) loading: LoadingFields,
    /// Address of the resource directory, if any, relative to the image's start in memory.
    pub(super) resources: Option<u32>,
}

/// Fields of the headers that tell whether the firmware loads a program ("PE Format", "Optional Header").
#[derive(Clone, Debug, Default)]
pub(super) struct LoadingFields {
    /// `Magic`.
    pub(super) magic: u16,
    /// `AddressOfEntryPoint`.
    pub(super) entry_point: u32,
    /// `SectionAlignment`, in bytes.
    pub(super) section_alignment: u32,
    /// `SizeOfImage`, in bytes.
    pub(super) image_size: u32,
    /// `Subsystem`.
    pub(super) subsystem: u16,
    /// `NumberOfRvaAndSizes`.
    pub(super) directories: u32,
    /// Bytes of the optional header before its data directories.
    pub(super) fixed_size: u32,
    /// `SizeOfOptionalHeader`, in bytes.
    pub(super) optional_size: u32,
    /// Where the section table starts in the file, in bytes.
    pub(super) section_table: u32,
    /// `IMAGE_FILE_RELOCS_STRIPPED`.
    pub(super) has_no_relocations: bool,
}

/// Places in a program's file that Authenticode speaks of, in bytes from its start ("Windows Authenticode Portable
/// Executable Signature Format", "Calculating the PE Image Hash").
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SigningLayout {
    /// `CheckSum` of the optional header.
    pub check_sum: u32,
    /// The data directory of the certificate table.
    pub security_directory: u32,
    /// `SizeOfHeaders`.
    pub header_size: u32,
    /// The certificate table: offset and length.
    pub certificates: Option<(u32, u32)>,
}

/// The text that a section holds, without what pads it.
pub fn text(bytes: &[u8]) -> String {
    String::from(String::from_utf8_lossy(bytes).trim_end_matches(['\0', '\n', ' ']))
}

/// A section: where its contents lie in the file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Section {
    /// Its name, such as `.osrel`.
    pub name: String,
    /// Address relative to the image's start in memory.
    pub(super) address: u32,
    /// Bytes from the start of the file.
    pub offset: u32,
    /// Bytes in the file that belong to it.
    pub size: u32,
    /// Bytes in the file with what pads it: `SizeOfRawData`.
    pub raw_size: u32,
    /// Bytes in memory: `VirtualSize`.
    pub(super) memory_size: u32,
}

/// Why bytes are not program that firmware starts.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PeFault {
    /// No `MZ`.
    #[error("not a program: it does not start with MZ")]
    NoMz,
    /// No `PE` where the header says.
    #[error("not a program: no PE header at offset {0:#x}")]
    NoPe(u32),
    /// Something in the headers lies outside the file.
    #[error("the headers of the program break off: {0}")]
    Short(&'static str),
    /// More sections than can be.
    #[error("the program claims {0} sections")]
    Sections(u16),
}

impl Pe {
    /// Reads the headers from a file's start; its sections' contents need not be there.
    ///
    /// # Errors
    /// Where it is not a PE/COFF program, or its headers are cut off.
    pub fn decode(bytes: &[u8]) -> Result<Self, PeFault> {
        if !bytes.starts_with(b"MZ") {
            return Err(PeFault::NoMz);
        }
        let pe_offset = u32_at(bytes, 0x3c).ok_or(PeFault::Short("no offset of the PE header"))?;
        let at = usize::try_from(pe_offset).map_err(|_| PeFault::NoPe(pe_offset))?;
        let rest =
            bytes.get(at..).and_then(|rest| rest.strip_prefix(b"PE\0\0")).ok_or(PeFault::NoPe(pe_offset))?;
        let (coff, rest) =
            CoffHeader::read_from_prefix(rest).map_err(|_| PeFault::Short("no COFF header"))?;
        let (optional, mut rest) = rest
            .split_at_checked(usize::from(coff.size_of_optional_header.get()))
            .ok_or(PeFault::Short("no optional header"))?;
        let count = coff.number_of_sections.get();
        if usize::from(count) > MAX_SECTIONS {
            return Err(PeFault::Sections(count));
        }
        let mut sections = Vec::new();
        for _ in 0..count {
            let (header, after) =
                SectionHeader::read_from_prefix(rest).map_err(|_| PeFault::Short("no section headers"))?;
            sections.push(Section::from(&header));
            rest = after;
        }
        // PE32+ (magic 0x20b) has wider fields before its data directories.
        let directories = if u16_at(optional, 0) == Some(0x20b) { 112 } else { 96 };
        let directory = |index: usize| {
            let at = index.checked_mul(8)?.checked_add(directories)?;
            let size = u32_at(optional, at.checked_add(4)?)?;
            (size != 0).then(|| u32_at(optional, at)).flatten()
        };
        let optional_at = pe_offset.saturating_add(24);
        let security = u32::try_from(directories).unwrap_or_default().saturating_add(4 * 8);
        let signing = SigningLayout {
            check_sum: optional_at.saturating_add(64),
            security_directory: optional_at.saturating_add(security),
            header_size: u32_at(optional, 60).unwrap_or_default(),
            certificates: directory(4).zip(u32_at(optional, directories.saturating_add(4 * 8 + 4))),
        };
        let loading = LoadingFields {
            magic: u16_at(optional, 0).unwrap_or_default(),
            entry_point: u32_at(optional, 16).unwrap_or_default(),
            section_alignment: u32_at(optional, 32).unwrap_or_default(),
            image_size: u32_at(optional, 56).unwrap_or_default(),
            subsystem: u16_at(optional, 68).unwrap_or_default(),
            directories: u32_at(optional, directories.saturating_sub(4)).unwrap_or_default(),
            fixed_size: u32::try_from(directories).unwrap_or_default(),
            optional_size: u32::from(coff.size_of_optional_header.get()),
            section_table: optional_at.saturating_add(coff.size_of_optional_header.get().into()),
            has_no_relocations: coff.characteristics.get() & 1 != 0,
        };
        Ok(Self {
            signing,
            loading,
            machine: MachineType(coff.machine.get()),
            image_version: (u16_at(optional, 44).unwrap_or(0), u16_at(optional, 46).unwrap_or(0)),
            is_signed: directory(4).is_some(),
            sections,
            resources: directory(2),
        })
    }

    /// The section of this name.
    pub fn section(&self, name: &str) -> Option<&Section> {
        self.sections.iter().find(|section| section.name == name)
    }

    /// The contents of a section within the whole file.
    pub fn section_bytes<'a>(&self, file: &'a [u8], name: &str) -> Option<&'a [u8]> {
        let section = self.section(name)?;
        let start = usize::try_from(section.offset).ok()?;
        file.get(start..start.checked_add(usize::try_from(section.size).ok()?)?)
    }
}

impl From<&SectionHeader> for Section {
    fn from(header: &SectionHeader) -> Self {
        let end = header.name.iter().position(|byte| *byte == 0).unwrap_or(header.name.len());
        let (raw, in_memory) = (header.size_of_raw_data.get(), header.virtual_size.get());
        Self {
            name: String::from_utf8_lossy(header.name.get(..end).unwrap_or_default()).into_owned(),
            address: header.virtual_address.get(),
            offset: header.pointer_to_raw_data.get(),
            raw_size: raw,
            memory_size: in_memory,
            // Raw data is padded to the file alignment; the size in memory is the true one where it is less.
            size: if in_memory == 0 { raw } else { raw.min(in_memory) },
        }
    }
}
