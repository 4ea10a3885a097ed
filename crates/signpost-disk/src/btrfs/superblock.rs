//! The superblock ("Superblock").

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use crate::bytes::{le16, le32, le64, len, short};
use crate::checksum::crc32c;
use crate::error::VolumeError;

/// The superblock's fields that are needed here.
pub(super) struct Superblock {
    pub(super) sector_size: u32,
    pub(super) node_size: usize,
    pub(super) root: u64,
    pub(super) chunk_root: u64,
    pub(super) checksum_kind: u16,
    /// Chunks that hold the tree of chunks.
    pub(super) system_chunks: Vec<u8>,
}

impl Superblock {
    pub(super) const OFFSET: u64 = 0x1_0000;
    pub(super) const LENGTH: usize = 4096;
    /// Features that are known: they do not change what is read here, or are handled.
    const KNOWN_INCOMPAT: u64 = 0xfff;

    pub(super) fn decode(bytes: &[u8]) -> Result<Self, VolumeError> {
        let missing = || short("btrfs superblock");
        let corrupt = |what: String| Err(VolumeError::Corrupt(format!("btrfs superblock: {what}")));
        if bytes.get(0x40..0x48) != Some(b"_BHRfS_M") {
            return corrupt("none at offset 65536".into());
        }
        let checksum_kind = le16(bytes, 0xc4).ok_or_else(missing)?;
        if !checksum_holds(bytes, checksum_kind) {
            return corrupt("its checksum does not fit".into());
        }
        let devices = le64(bytes, 0x88).ok_or_else(missing)?;
        if devices != 1 {
            return Err(VolumeError::Unsupported(format!("btrfs over {devices} devices; one is read")));
        }
        let incompat = le64(bytes, 0xbc).ok_or_else(missing)?;
        if incompat & !Self::KNOWN_INCOMPAT != 0 {
            return Err(VolumeError::Unsupported(format!("btrfs with the unknown features {incompat:#x}")));
        }
        let node_size = le32(bytes, 0x94).ok_or_else(missing)?;
        let sector_size = le32(bytes, 0x90).ok_or_else(missing)?;
        if !(4096..=65536).contains(&node_size) || !(512..=65536).contains(&sector_size) {
            return corrupt(format!(
                "nodesize is {node_size} and sectorsize {sector_size}; both are at most 65536"
            ));
        }
        let array = len(le32(bytes, 0xa0).ok_or_else(missing)?);
        let system_chunks =
            bytes.get(0x32b..).and_then(|rest| rest.get(..array)).ok_or_else(missing)?.to_vec();
        Ok(Self {
            sector_size,
            node_size: len(node_size),
            root: le64(bytes, 0x50).ok_or_else(missing)?,
            chunk_root: le64(bytes, 0x58).ok_or_else(missing)?,
            checksum_kind,
            system_chunks,
        })
    }
}

/// Whether a structure's checksum, in its first bytes, fits the rest; kinds other than CRC-32C are not looked at.
pub(super) fn checksum_holds(bytes: &[u8], checksum_kind: u16) -> bool {
    checksum_kind != 0 || bytes.get(32..).map(crc32c) == le32(bytes, 0)
}
