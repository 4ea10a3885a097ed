//! The headers of an `.fd` image: firmware volume, variable store, variable record.

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use uguid::{Guid, guid};
use zerocopy::byteorder::little_endian::{U16, U32, U64};
use zerocopy::{FromBytes, Immutable, IntoBytes, KnownLayout};

use crate::variable::StoreError;

/// `EFI_SYSTEM_NV_DATA_FV_GUID`: a firmware volume that holds variables.
const SYSTEM_NV_DATA: Guid = guid!("fff12b8d-7696-4c8b-a985-2747075b4f50");
/// A store whose records carry the fields of authenticated variables (UEFI 2.10, 8.2.2).
const AUTHENTICATED: Guid = guid!("aaf32c78-947b-439a-a180-2e144ec37792");
/// A store without them.
const PLAIN: Guid = guid!("ddcf3616-3275-4164-98b6-fe85707ffe7d");

/// Length in bytes of the images that [`blank`] makes.
pub const STORE_SIZE: usize = 0x8_4000;
const BLOCK: usize = 0x1000; // bytes
const VARIABLE_AREA: usize = 0x4_0000; // bytes, the volume's header included
const WORKING_AREA: usize = 0x4_1000; // offset in bytes

/// `EFI_FIRMWARE_VOLUME_HEADER` with a block map of one run (PI 1.8, vol. 3, 3.2.1).
#[derive(FromBytes, IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
struct VolumeHeader {
    zero_vector: [u8; 16],
    file_system_guid: [u8; 16],
    fv_length: U64,
    signature: [u8; 4],
    attributes: U32,
    header_length: U16,
    checksum: U16,
    ext_header_offset: U16,
    reserved: u8,
    revision: u8,
    block_map: [U32; 4],
}

/// `VARIABLE_STORE_HEADER`.
#[derive(FromBytes, IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
struct StoreHeader {
    signature: [u8; 16],
    size: U32,
    format: u8,
    state: u8,
    reserved: [u8; 6],
}

/// `VARIABLE_HEADER`, both forms' common start.
#[derive(FromBytes, IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
struct RecordStart {
    start_id: U16,
    state: u8,
    reserved: u8,
    attributes: U32,
}

/// What follows it: sizes and vendor.
#[derive(FromBytes, IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
struct RecordEnd {
    name_size: U32,
    data_size: U32,
    vendor: [u8; 16],
}

/// `EFI_FAULT_TOLERANT_WORKING_BLOCK_HEADER`.
#[derive(IntoBytes, KnownLayout, Immutable)]
#[repr(C)]
struct WorkingHeader {
    signature: [u8; 16],
    crc: U32,
    state: u8,
    reserved: [u8; 3],
    write_queue_size: U64,
}

/// Monotonic count (8), time (16) and key index (4) of an authenticated variable, in bytes.
const AUTHENTICATION_LEN: usize = 28;
const START_ID: u16 = 0x55aa;
const FORMATTED: u8 = 0x5a;
const HEALTHY: u8 = 0xfe;

/// Which records the store holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    Authenticated,
    Plain,
}

impl Kind {
    /// Length of a record's header in bytes.
    pub(super) fn header_len(self) -> usize {
        match self {
            Self::Authenticated => 60,
            Self::Plain => 32,
        }
    }
}

/// A record's state; bits are only ever cleared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct State(pub(super) u8);

impl State {
    pub(super) const HEADER_VALID_ONLY: Self = Self(0x7f);
    pub(super) const ADDED: Self = Self(0x3f);
    /// Masks: what to clear.
    pub(super) const IN_DELETED_TRANSITION: Self = Self(0xfe);
    pub(super) const DELETED: Self = Self(0xfd);
    pub(super) const DELETED_AFTER_TRANSITION: Self = Self(0xfd);
    /// Where the state stands in a record, in bytes.
    pub(super) const OFFSET: usize = 2;

    /// Added, and not deleted for good.
    pub(super) fn is_active(self) -> bool {
        self == Self::ADDED || self.0 == Self::ADDED.0 & Self::IN_DELETED_TRANSITION.0
    }
}

/// A record's header, what both forms share.
#[derive(Clone, Debug)]
pub(super) struct Header {
    pub(super) state: State,
    pub(super) attributes: u32,
    pub(super) name_size: usize,
    pub(super) data_size: usize,
    pub(super) vendor: Guid,
}

impl Header {
    /// `None` where the record's mark is missing.
    pub(super) fn decode(kind: Kind, bytes: &[u8]) -> Option<Self> {
        let (start, rest) = RecordStart::read_from_prefix(bytes).ok()?;
        let rest = match kind {
            Kind::Authenticated => rest.get(AUTHENTICATION_LEN..)?,
            Kind::Plain => rest,
        };
        let (end, _) = RecordEnd::read_from_prefix(rest).ok()?;
        // Sizes of all ones were never written: the header was cut short.
        let size =
            |size: U32| if size.get() == u32::MAX { Some(0) } else { usize::try_from(size.get()).ok() };
        (start.start_id.get() == START_ID).then_some(Self {
            state: State(start.state),
            attributes: start.attributes.get(),
            name_size: size(end.name_size)?,
            data_size: size(end.data_size)?,
            vendor: Guid::from_bytes(end.vendor),
        })
    }

    /// `None` where a size does not fit its field.
    pub(super) fn encode(&self, kind: Kind) -> Option<Vec<u8>> {
        let start = RecordStart {
            start_id: START_ID.into(),
            state: self.state.0,
            reserved: 0,
            attributes: self.attributes.into(),
        };
        let end = RecordEnd {
            name_size: u32::try_from(self.name_size).ok()?.into(),
            data_size: u32::try_from(self.data_size).ok()?.into(),
            vendor: self.vendor.to_bytes(),
        };
        let mut bytes = Vec::from(start.as_bytes());
        if kind == Kind::Authenticated {
            bytes.extend([0; AUTHENTICATION_LEN]);
        }
        bytes.extend(end.as_bytes());
        Some(bytes)
    }
}

/// The store's kind and where its variables may lie.
pub(super) fn find_store(bytes: &[u8]) -> Result<(Kind, core::ops::Range<usize>), StoreError> {
    let malformed = |offset, found: String, expected| StoreError::Malformed { offset, found, expected };
    let (volume, _) = VolumeHeader::read_from_prefix(bytes).map_err(|_| {
        malformed(0, format!("{} bytes in all", bytes.len()), "a firmware volume with a variable store")
    })?;
    if volume.signature != *b"_FVH" || volume.file_system_guid != SYSTEM_NV_DATA.to_bytes() {
        return Err(malformed(
            16,
            format!("file system {}", Guid::from_bytes(volume.file_system_guid)),
            "the firmware volume of a variable store",
        ));
    }
    let header_length = usize::from(volume.header_length.get());
    let rest = bytes.get(header_length..).unwrap_or_default();
    let (store, _) = StoreHeader::read_from_prefix(rest).map_err(|_| {
        malformed(header_length, String::from("the end of the image"), "the variable store's header")
    })?;
    let signature = Guid::from_bytes(store.signature);
    let kind = match signature {
        AUTHENTICATED => Kind::Authenticated,
        PLAIN => Kind::Plain,
        _ => return Err(malformed(header_length, format!("store {signature}"), "a known kind of store")),
    };
    if (store.format, store.state) != (FORMATTED, HEALTHY) {
        return Err(malformed(
            header_length.saturating_add(20),
            format!("format {:#x}, state {:#x}", store.format, store.state),
            "format 0x5a, state 0xfe",
        ));
    }
    let size = usize::try_from(store.size.get()).unwrap_or(usize::MAX);
    let end = header_length.saturating_add(size);
    if end > bytes.len() {
        return Err(malformed(
            header_length.saturating_add(16),
            format!("a store of {size} bytes in an image of {}", bytes.len()),
            "a store that ends within the image; was it cut short?",
        ));
    }
    Ok((kind, header_length.saturating_add(size_of::<StoreHeader>())..end))
}

/// An empty store of the size that current virtual machines use ([`STORE_SIZE`]).
pub fn blank() -> Vec<u8> {
    let mut bytes = vec![0xff; STORE_SIZE];
    let blocks = u32::try_from(STORE_SIZE.div_euclid(BLOCK)).unwrap_or_default();
    let mut volume = VolumeHeader {
        zero_vector: [0; 16],
        file_system_guid: SYSTEM_NV_DATA.to_bytes(),
        fv_length: u64::try_from(STORE_SIZE).unwrap_or_default().into(),
        signature: *b"_FVH",
        attributes: 0x0004_feff.into(),
        header_length: u16::try_from(size_of::<VolumeHeader>()).unwrap_or_default().into(),
        checksum: 0.into(),
        ext_header_offset: 0.into(),
        reserved: 0,
        revision: 2,
        block_map: [blocks.into(), 0x1000.into(), 0.into(), 0.into()],
    };
    let words = volume.as_bytes().as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair));
    volume.checksum = words.fold(0u16, u16::wrapping_add).wrapping_neg().into();
    let store = StoreHeader {
        signature: AUTHENTICATED.to_bytes(),
        size: u32::try_from(VARIABLE_AREA.saturating_sub(size_of::<VolumeHeader>()))
            .unwrap_or_default()
            .into(),
        format: FORMATTED,
        state: HEALTHY,
        reserved: [0; 6],
    };
    let mut headers = Vec::from(volume.as_bytes());
    headers.extend(store.as_bytes());
    put(&mut bytes, 0, &headers);
    put(&mut bytes, WORKING_AREA, working_header().as_bytes());
    bytes
}

/// Header of the firmware's own working area: valid, with nothing in its queue.
fn working_header() -> WorkingHeader {
    const WORKING_BLOCK: Guid = guid!("9e58292b-7c68-497d-a0ce-6500fd9f1b95");
    WorkingHeader {
        signature: WORKING_BLOCK.to_bytes(),
        // CRC-32 of this header with CRC, state and reserved bytes erased; the header never differs.
        crc: 0x642c_af2c.into(),
        state: 0xfe,
        reserved: [0xff; 3],
        write_queue_size: 0x0fe0.into(),
    }
}

fn put(bytes: &mut [u8], offset: usize, what: &[u8]) {
    if let Some(target) = bytes.get_mut(offset..offset.saturating_add(what.len())) {
        target.copy_from_slice(what);
    }
}
