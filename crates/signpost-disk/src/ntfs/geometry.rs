//! The boot sector (`$Boot`).

use crate::bytes::{le16, le64};

/// Where the master file table starts, and how large things are.
#[derive(Clone, Debug)]
pub(crate) struct Geometry {
    /// Bytes.
    pub(crate) cluster_size: u64,
    /// Bytes of a record of the master file table.
    pub(crate) record_size: u64,
    /// First byte of the master file table on the volume.
    pub(crate) table: u64,
    /// Bytes of the whole volume, but for its last sector.
    pub(crate) size: u64,
}

impl Geometry {
    /// From a boot sector; `None` where it cannot be one.
    pub(crate) fn read(sector: &[u8]) -> Option<Self> {
        let sector_size = u64::from(le16(sector, 0x0b)?);
        let per_cluster = match *sector.get(0x0d)? {
            count @ 0..=128 => u64::from(count),
            // As a negative power of two.
            shift => 1u64.checked_shl(256u32.checked_sub(u32::from(shift))?)?,
        };
        let cluster_size = sector_size.checked_mul(per_cluster)?;
        let record_size = match i8::from_le_bytes([*sector.get(0x40)?]) {
            count @ 0.. => u64::try_from(count).ok()?.checked_mul(cluster_size)?,
            shift => 1u64.checked_shl(u32::from(shift.unsigned_abs()))?,
        };
        let can_be = (256..=4096).contains(&sector_size)
            && (256..=2 << 20).contains(&cluster_size)
            && cluster_size.is_power_of_two()
            && (512..=65536).contains(&record_size);
        can_be.then_some(())?;
        Some(Self {
            cluster_size,
            record_size,
            table: le64(sector, 0x30)?.checked_mul(cluster_size)?,
            size: le64(sector, 0x28)?.checked_mul(sector_size)?,
        })
    }
}
