//! Linux RAID: what a member says of itself (the kernel's `md_p.h`: metadata 0.90, and 1.0 to 1.2).

use alloc::string::String;
use core::ops::Deref;

use crate::block::BlockDevice;
use crate::bytes::{le16, le32, le64, len, uuid_text};
use crate::text::fixed_text;

const MAGIC: u32 = 0xa92b_4efc;
const SECTOR: u64 = 512;
/// Bytes of metadata of version 0.90.
const LENGTH_0_90: usize = 4096;
/// Where the roles of the members stand, a number of two bytes each (`dev_roles`).
const ROLES: usize = 256;
/// Members that have a role of their own have a smaller one: spare, failed, journal.
const FIRST_WITHOUT_ROLE: u16 = 0xfffd;
/// `MD_FEATURE_RECOVERY_OFFSET`: the member is being rebuilt.
const RECOVERY_OFFSET: u32 = 2;
/// Members that the metadata has room for.
const MAX_MEMBERS: u32 = 1920;

/// Bytes of metadata of version 1, by the number of roles in it.
fn length_1(bytes: &[u8]) -> Option<usize> {
    let members = le32(bytes, 220)?;
    let is_one = le32(bytes, 0)? == MAGIC && le32(bytes, 4)? == 1 && members <= MAX_MEMBERS;
    is_one.then(|| ROLES.checked_add(len(u64::from(members)).checked_mul(2)?))?
}

/// The sum over all words but the one at `own`, its carry added (`md.c`, `calc_sb_1_csum`, `calc_sb_csum`).
fn checksum(bytes: &[u8], own: usize) -> u32 {
    let (words, rest) = bytes.as_chunks::<4>();
    let mut sum = words.iter().fold(0u64, |sum, word| sum.wrapping_add(u64::from(u32::from_le_bytes(*word))));
    sum = sum.wrapping_sub(u64::from(le32(bytes, own).unwrap_or(0)));
    if let Some(half) = rest.first_chunk::<2>() {
        sum = sum.wrapping_add(u64::from(u16::from_le_bytes(*half)));
    }
    let folded = (sum & 0xffff_ffff).wrapping_add(sum >> 32);
    u32::try_from(folded & 0xffff_ffff).unwrap_or(0)
}

/// What a member says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Superblock {
    /// Identity of the array.
    pub set_uuid: String,
    /// Its name.
    pub name: Option<String>,
    /// Its level, -1 for a linear one.
    pub level: u32,
    /// Where the data starts on the member, in bytes.
    pub data_offset: u64,
    /// Length of the data, in bytes.
    pub data_size: u64,
    /// Counts changes: of two members that differ, the higher one is the newer.
    pub events: u64,
    /// Whether the member holds the array's data as far as it goes: not a spare, not one that failed, not one that is being
    /// rebuilt.
    pub is_in_sync: bool,
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
            let Some(length) = read(offset, 256).and_then(|bytes| length_1(&bytes)) else { continue };
            let found = read(offset, length).and_then(|bytes| Self::decode_1(&bytes, offset, size));
            if found.is_some() {
                return found;
            }
        }
        let offset = (size & !0xffff).checked_sub(0x1_0000)?;
        let is_one = read(offset, 4).and_then(|bytes| le32(&bytes, 0)) == Some(MAGIC);
        let bytes = read(offset, LENGTH_0_90).filter(|_| is_one)?;
        Self::decode_0_90(&bytes, offset)
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

    fn decode_1(bytes: &[u8], offset: u64, size: u64) -> Option<Self> {
        if le32(bytes, 0)? != MAGIC
            || le32(bytes, 4)? != 1
            || le64(bytes, 144)?.checked_mul(SECTOR)? != offset
            || le32(bytes, 216)? != checksum(bytes, 216)
        {
            return None;
        }
        let number = len(u64::from(le32(bytes, 160)?));
        let role = le16(bytes, ROLES.checked_add(number.checked_mul(2)?)?);
        let is_recovering = le32(bytes, 8)? & RECOVERY_OFFSET != 0;
        let is_in_sync = role.is_some_and(|role| role < FIRST_WITHOUT_ROLE) && !is_recovering;
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
            is_in_sync,
            is_at_end: offset > data_offset,
        })
    }

    fn decode_0_90(bytes: &[u8], offset: u64) -> Option<Self> {
        if le32(bytes, 0)? != MAGIC || le32(bytes, 4)? != 0 || le32(bytes, 152)? != checksum(bytes, 152) {
            return None;
        }
        // `this_disk`: state in its fifth word; bit 0 failed, 1 active, 2 in sync.
        let state = le32(bytes, 3984)?;
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
            is_in_sync: state & 0b111 == 0b110,
            is_at_end: true,
        })
    }
}
