//! The firmware's block devices as something to read bytes from.

use alloc::format;
use alloc::vec;
use core::ptr::NonNull;

use signpost_disk::block::{BlockDevice, ReadError};
use uefi::boot::{self, OpenProtocolAttributes, OpenProtocolParams};
use uefi::proto::media::block::BlockIO;
use uefi::{Handle, Result};

/// Bytes that go through a buffer of our own at once.
const BOUNCE: usize = 1 << 20;

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
    /// Opens a handle's block device; `None` inside where there is no medium.
    pub fn open(handle: Handle) -> Result<Option<Self>> {
        let params = OpenProtocolParams { handle, agent: boot::image_handle(), controller: None };
        // SAFETY: the device is only read, by this program alone while it runs; drivers keep theirs.
        let mut io = unsafe { boot::open_protocol::<BlockIO>(params, OpenProtocolAttributes::GetProtocol)? };
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
        let is_aligned = (buffer.as_ptr() as usize).is_multiple_of(self.align);
        if offset.is_multiple_of(size) && length.is_multiple_of(self.block_size) && is_aligned {
            return self.read_blocks(offset / size, buffer).map_err(failed);
        }
        let mut done = 0;
        while done < length {
            let at = offset + done as u64;
            let skip = (at % size) as usize;
            let wanted = (length - done).min(BOUNCE);
            let blocks = (skip + wanted).next_multiple_of(self.block_size);
            // Room to start at the alignment that the device wants.
            let mut bounce = vec![0u8; blocks + self.align];
            let shift = bounce.as_ptr().align_offset(self.align).min(self.align);
            let bounce = &mut bounce[shift..shift + blocks];
            self.read_blocks(at / size, bounce).map_err(failed)?;
            buffer[done..done + wanted].copy_from_slice(&bounce[skip..skip + wanted]);
            done += wanted;
        }
        Ok(())
    }
}
