//! The firmware's block devices as something to read bytes from.

use alloc::format;
use alloc::vec;
use core::ptr::NonNull;

use signpost_disk::block::{BlockDevice, ReadError};
use uefi::proto::media::block::BlockIO;
use uefi::{Handle, Result};

use crate::shared;

/// Bytes that go through a buffer of our own at once.
const BOUNCE: usize = 1 << 20;
/// Bytes that go straight into the caller's buffer at once: more than this some drivers refuse.
const DIRECT: usize = 4 << 20;

/// A block device of the firmware's.
pub struct FirmwareBlocks {
    io: NonNull<BlockIO>,
    media_id: u32,
    block_size: usize,
    size: u64,
    align: usize,
}

// SAFETY: boot services run on one processor without threads, so nothing is ever shared or sent.
unsafe impl Send for FirmwareBlocks {}
// SAFETY: as above.
unsafe impl Sync for FirmwareBlocks {}

impl FirmwareBlocks {
    /// Bytes in a block.
    pub fn block_size(&self) -> u32 {
        self.block_size as u32
    }

    /// Opens a handle's block device; `None` inside where there is no medium.
    pub fn open(handle: Handle) -> Result<Option<Self>> {
        let mut io = shared::open::<BlockIO>(handle)?;
        let media = io.media();
        let (block_size, is_there) = (media.block_size() as usize, media.is_media_present());
        if !is_there || block_size == 0 || !block_size.is_power_of_two() {
            return Ok(None);
        }
        let device = Self {
            media_id: media.media_id(),
            block_size,
            size: media.last_block().saturating_add(1).saturating_mul(block_size as u64),
            align: (media.io_align() as usize).max(1),
            io: NonNull::from(&mut *io),
        };
        // The protocol lives as long as the firmware's handle; closing it would end our use of it.
        core::mem::forget(io);
        Ok(Some(device))
    }

    fn read_blocks(&self, block: u64, buffer: &mut [u8]) -> Result {
        // SAFETY: the interface stays installed while its handle does, and reads do not overlap.
        let io = unsafe { &mut *self.io.as_ptr() };
        io.read_blocks(self.media_id, block, buffer)
    }
}

impl BlockDevice for FirmwareBlocks {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> core::result::Result<(), ReadError> {
        let length = buffer.len();
        if offset.checked_add(length as u64).is_none_or(|end| end > self.size) {
            return Err(ReadError::past_end(offset, length, self.size));
        }
        let failed = |error: uefi::Error| ReadError { offset, length, why: format!("{}", error.status()) };
        let size = self.block_size as u64;
        let mut done = 0;
        while done < length {
            let at = offset + done as u64;
            let rest = &mut buffer[done..];
            let skip = (at % size) as usize;
            let whole = (rest.len() / self.block_size * self.block_size).min(DIRECT);
            if skip == 0 && whole > 0 && (rest.as_ptr() as usize).is_multiple_of(self.align) {
                self.read_blocks(at / size, &mut rest[..whole]).map_err(failed)?;
                done += whole;
                continue;
            }
            // Up to where the next block starts, from where it goes directly; all of it where the buffer's own place
            // stands against that.
            let to_border = if skip > 0 { self.block_size - skip } else { rest.len() };
            let can_go_on = (rest.as_ptr() as usize + to_border).is_multiple_of(self.align);
            let wanted = if can_go_on { to_border.min(rest.len()) } else { rest.len() }.min(BOUNCE);
            let blocks = (skip + wanted).next_multiple_of(self.block_size);
            // Room to start at the alignment that the device wants.
            let mut bounce = vec![0u8; blocks + self.align];
            let shift = bounce.as_ptr().align_offset(self.align).min(self.align);
            let bounce = &mut bounce[shift..shift + blocks];
            self.read_blocks(at / size, bounce).map_err(failed)?;
            rest[..wanted].copy_from_slice(&bounce[skip..skip + wanted]);
            done += wanted;
        }
        Ok(())
    }
}
