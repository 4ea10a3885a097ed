//! The structures as they lie on a disk.

use zerocopy::byteorder::little_endian::{U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout};

pub(super) const SIGNATURE: [u8; 8] = *b"EFI PART";
pub(super) const HEADER_SIZE: u32 = 92; // bytes

/// GPT header (UEFI 2.10, table 5.5).
#[derive(Clone, FromBytes, IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
pub(super) struct Header {
    pub(super) signature: [u8; 8],
    pub(super) revision: U32,
    pub(super) header_size: U32,
    pub(super) header_crc32: U32,
    pub(super) reserved: U32,
    pub(super) my_lba: U64,
    pub(super) alternate_lba: U64,
    pub(super) first_usable_lba: U64,
    pub(super) last_usable_lba: U64,
    pub(super) disk_guid: [u8; 16],
    pub(super) partition_entry_lba: U64,
    pub(super) number_of_partition_entries: U32,
    pub(super) size_of_partition_entry: U32,
    pub(super) partition_entry_array_crc32: U32,
}

/// GPT partition entry (UEFI 2.10, table 5.6).
#[derive(Clone, FromBytes, IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
pub(super) struct Entry {
    pub(super) partition_type_guid: [u8; 16],
    pub(super) unique_partition_guid: [u8; 16],
    pub(super) starting_lba: U64,
    pub(super) ending_lba: U64,
    pub(super) attributes: U64,
    pub(super) partition_name: [u8; 72],
}
