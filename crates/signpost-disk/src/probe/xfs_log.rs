//! Whether a volume's log was written out: the last record of a clean one says "unmounted" (the "XFS Algorithms & Data
//! Structures" guide, "Journaling Log").

use crate::block::BlockDevice;
use crate::bytes::{be16, be32, be64, len};

/// The log counts in blocks of this many bytes, whatever the volume's own.
const BLOCK: u64 = 512;
/// `XLOG_HEADER_MAGIC_NUM`.
const RECORD: u32 = 0xfeed_babe;
/// `XLOG_UNMOUNT_TRANS`, a flag of an operation.
const UNMOUNT: u8 = 0x20;
/// No record is longer, in blocks.
const MAX_RECORD: u64 = 1024;
/// Bytes of a record that one block of header stands for.
const HEADER_REACH: u32 = 32 * 1024;

/// The log of a volume.
struct Log<'a> {
    device: &'a dyn BlockDevice,
    /// Offset in bytes.
    start: u64,
    /// Length in blocks.
    blocks: u64,
}

/// Whether changes stand in the log alone; `None` where that cannot be told: the log lies elsewhere, or holds no record.
pub(crate) fn is_dirty(device: &dyn BlockDevice, superblock: &[u8]) -> Option<bool> {
    let block_size = u64::from(be32(superblock, 4)?);
    let (first, group_bits) = (be64(superblock, 48)?, u32::from(*superblock.get(124)?));
    let group_blocks = u64::from(be32(superblock, 84)?);
    // One on a device of its own has no place here.
    if first == 0 || group_bits > 32 {
        return None;
    }
    let within = first & 1u64.checked_shl(group_bits)?.checked_sub(1)?;
    let block = first.checked_shr(group_bits)?.checked_mul(group_blocks)?.checked_add(within)?;
    let start = block.checked_mul(block_size)?;
    let blocks = u64::from(be32(superblock, 96)?).checked_mul(block_size)?.checked_div(BLOCK)?;
    if blocks == 0 || start.checked_add(blocks.checked_mul(BLOCK)?)? > device.size() {
        return None;
    }
    let log = Log { device, start, blocks };
    let record = log.last_record()?;
    log.is_unmount(record).map(|is_unmount| !is_unmount)
}

impl Log<'_> {
    fn block(&self, number: u64) -> Option<[u8; 512]> {
        let mut bytes = [0; 512];
        let at = self.start.checked_add(number.checked_rem(self.blocks)?.checked_mul(BLOCK)?)?;
        self.device.read_at(at, &mut bytes).ok().map(|()| bytes)
    }

    /// Each block starts with the number of the turn in which it was written; that of a record's head stands behind its
    /// mark.
    fn turn(&self, number: u64) -> Option<u32> {
        let bytes = self.block(number)?;
        let first = be32(&bytes, 0)?;
        if first == RECORD { be32(&bytes, 4) } else { Some(first) }
    }

    /// Where the next record would go: the first block of an earlier turn than the first one's.
    fn head(&self) -> Option<u64> {
        let first = self.turn(0)?;
        let (mut low, mut high) = (0, self.blocks);
        // All before `low` are of the first block's turn.
        while low < high {
            let middle = low.checked_add(high)? / 2;
            if self.turn(middle)? == first { low = middle.checked_add(1)? } else { high = middle }
        }
        Some(low)
    }

    /// The number of the last record's first block.
    fn last_record(&self) -> Option<u64> {
        let head = self.head()?;
        let back =
            (1..=MAX_RECORD.min(self.blocks)).map(|step| head.checked_add(self.blocks)?.checked_sub(step));
        back.flatten().find(|number| self.block(*number).and_then(|bytes| be32(&bytes, 0)) == Some(RECORD))
    }

    /// Whether a record holds one operation, and that says that the volume was unmounted.
    fn is_unmount(&self, record: u64) -> Option<bool> {
        let bytes = self.block(record)?;
        if be32(&bytes, 40)? != 1 {
            return Some(false);
        }
        // Version 2 has as many blocks of header as its size takes.
        let is_version_2 = be16(&bytes, 10)? & 2 != 0;
        let size = be32(&bytes, 320)?;
        let headers = if is_version_2 { size.div_ceil(HEADER_REACH).max(1) } else { 1 };
        let operation = self.block(record.checked_add(u64::from(headers))?)?;
        // The first four bytes of a block are its turn's number; flags stand behind them.
        Some(operation.get(len(9u32))? & UNMOUNT != 0)
    }
}
