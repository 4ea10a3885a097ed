//! Linux RAID: what a member says of itself (the kernel's `md_p.h`: metadata 0.90, and 1.0 to 1.2).

use alloc::string::String;
use core::ops::Deref;

use crate::block::BlockDevice;
use crate::bytes::{le32, le64, uuid_text};
use crate::probe::fixed_text;

const MAGIC: u32 = 0xa92b_4efc;
const SECTOR: u64 = 512;
/// Level of a mirror.
const MIRROR: u32 = 1;

/// What a member says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Superblock {
    /// Identity of the array.
    pub set_uuid: String,
    /// Its name.
    pub name: Option<String>,
    /// Its level; 1 is a mirror.
    pub level: u32,
    /// Where the data starts on the member, in bytes.
    pub data_offset: u64,
    /// Length of the data, in bytes.
    pub data_size: u64,
    /// Counts changes: of two members that differ, the higher one is the newer.
    pub events: u64,
    /// Whether the metadata stands behind the data, which then starts where the member does.
    pub is_at_end: bool,
}

impl Superblock {
    /// Finds it on a member; `read` gives bytes at an offset.
    pub(crate) fn find<B: Deref<Target = [u8]>>(
        device: &dyn BlockDevice,
        read: impl Fn(u64, usize) -> Option<B>,
    ) -> Option<Self> {
        let size = device.size();
        // 1.0 lies at least 8 KiB before the end, on 4 KiB; 0.90 in the last whole 64 KiB.
        let at_end = size.checked_sub(8192).map(|offset| offset & !4095);
        let version_1 = [Some(4096), Some(0), at_end].into_iter().flatten();
        for offset in version_1 {
            let found = read(offset, 256).and_then(|bytes| Self::decode_1(&bytes, offset, size));
            if found.is_some() {
                return found;
            }
        }
        let offset = (size & !0xffff).checked_sub(0x1_0000)?;
        read(offset, 256).and_then(|bytes| Self::decode_0_90(&bytes, offset))
    }

    /// Reads it from a member's device.
    pub fn read(device: &dyn BlockDevice) -> Option<Self> {
        Self::find(device, |offset, length| {
            if offset.checked_add(u64::try_from(length).ok()?)? > device.size() {
                return None;
            }
            crate::block::read_vec(device, offset, length).ok()
        })
    }

    /// Whether its members hold the whole, so that one of them is enough.
    pub fn is_mirror(&self) -> bool {
        self.level == MIRROR
    }

    fn decode_1(bytes: &[u8], offset: u64, size: u64) -> Option<Self> {
        if le32(bytes, 0)? != MAGIC
            || le32(bytes, 4)? != 1
            || le64(bytes, 144)?.checked_mul(SECTOR)? != offset
        {
            return None;
        }
        let data_offset = le64(bytes, 128)?.checked_mul(SECTOR)?;
        let room = size.checked_sub(data_offset)?;
        let data_size = le64(bytes, 80)?.checked_mul(SECTOR)?;
        Some(Self {
            set_uuid: uuid_text(bytes.get(16..)?.first_chunk()?),
            name: bytes.get(32..64).and_then(fixed_text),
            level: le32(bytes, 72)?,
            data_offset,
            data_size: data_size.min(room),
            events: le64(bytes, 200)?,
            is_at_end: offset > data_offset,
        })
    }

    fn decode_0_90(bytes: &[u8], offset: u64) -> Option<Self> {
        if le32(bytes, 0)? != MAGIC || le32(bytes, 4)? != 0 {
            return None;
        }
        let word = |at| le32(bytes, at);
        let mut uuid = [0; 16];
        for (part, at) in uuid.as_chunks_mut::<4>().0.iter_mut().zip([20, 52, 56, 60]) {
            *part = word(at)?.to_be_bytes();
        }
        Some(Self {
            set_uuid: uuid_text(&uuid),
            name: None,
            level: word(28)?,
            data_offset: 0,
            data_size: offset.min(u64::from(word(32)?).checked_mul(1024)?),
            events: u64::from(word(156)?),
            is_at_end: true,
        })
    }
}
