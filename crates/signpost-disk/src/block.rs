//! Reading bytes from a disk, a partition or an image.

use alloc::string::String;
use alloc::sync::Arc;
use alloc::vec;
use alloc::vec::Vec;

/// Something that holds bytes at offsets.
pub trait BlockDevice: Send + Sync {
    /// Its length in bytes.
    fn size(&self) -> u64;

    /// Fills `buffer` from `offset` bytes on.
    ///
    /// # Errors
    /// Where the range is not all there, or cannot be read.
    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError>;
}

/// A device that several readers hold.
pub type SharedDevice = Arc<dyn BlockDevice>;

/// A range that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("reading {length} bytes at offset {offset} failed: {why}")]
pub struct ReadError {
    /// Bytes from the start of the device that was asked.
    pub offset: u64,
    /// Bytes wanted.
    pub length: usize,
    /// What stood against it.
    pub why: String,
}

impl ReadError {
    /// A range that reaches past the end.
    pub fn past_end(offset: u64, length: usize, size: u64) -> Self {
        Self { offset, length, why: alloc::format!("it ends after {size} bytes") }
    }
}

impl BlockDevice for Vec<u8> {
    fn size(&self) -> u64 {
        u64::try_from(self.len()).unwrap_or(u64::MAX)
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let range = || {
            let start = usize::try_from(offset).ok()?;
            self.get(start..start.checked_add(buffer.len())?)
        };
        let source = range().ok_or_else(|| ReadError::past_end(offset, buffer.len(), self.size()))?;
        buffer.copy_from_slice(source);
        Ok(())
    }
}

/// A part of a device: a partition on its disk.
#[derive(Clone)]
pub struct Window {
    device: SharedDevice,
    start: u64,
    length: u64,
}

impl Window {
    /// The `length` bytes from `start` on, as far as the device has them.
    pub fn new(device: SharedDevice, start: u64, length: u64) -> Self {
        let length = length.min(device.size().saturating_sub(start));
        Self { device, start, length }
    }
}

impl BlockDevice for Window {
    fn size(&self) -> u64 {
        self.length
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let past_end = || ReadError::past_end(offset, buffer.len(), self.length);
        let end = u64::try_from(buffer.len()).ok().and_then(|length| offset.checked_add(length));
        if end.is_none_or(|end| end > self.length) {
            return Err(past_end());
        }
        let at = self.start.checked_add(offset).ok_or_else(past_end)?;
        self.device.read_at(at, buffer)
    }
}

/// Reads `length` bytes at `offset` into a new buffer; callers bound the length.
pub fn read_vec(device: &dyn BlockDevice, offset: u64, length: usize) -> Result<Vec<u8>, ReadError> {
    let mut buffer = vec![0; length];
    device.read_at(offset, &mut buffer)?;
    Ok(buffer)
}

/// Bytes that [`ReadAhead`] fetches at once where reading jumps about, and at most where it goes on.
const LEAST_AHEAD: usize = 16 << 10;
const MOST_AHEAD: usize = 1 << 20;

/// Fetches a stretch at once for readers that ask in small pieces, and keeps the last one.
pub struct ReadAhead {
    device: SharedDevice,
    start: u64,
    held: Vec<u8>,
    /// Bytes to fetch next: more each time that reading goes on where it ended.
    ahead: usize,
}

impl ReadAhead {
    /// A reader with nothing fetched yet.
    pub fn new(device: SharedDevice) -> Self {
        Self { device, start: 0, held: Vec::new(), ahead: LEAST_AHEAD }
    }

    /// Fills `buffer` from `offset` bytes on.
    ///
    /// # Errors
    /// As [`BlockDevice::read_at`].
    pub fn read(&mut self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        if self.copy_held(offset, buffer) {
            return Ok(());
        }
        let end = self.start.saturating_add(u64::try_from(self.held.len()).unwrap_or(u64::MAX));
        let goes_on = offset >= self.start && offset <= end;
        self.ahead = if goes_on { self.ahead.saturating_mul(2).min(MOST_AHEAD) } else { LEAST_AHEAD };
        let left = usize::try_from(self.device.size().saturating_sub(offset)).unwrap_or(usize::MAX);
        let length = self.ahead.min(left);
        if buffer.len() >= length {
            return self.device.read_at(offset, buffer);
        }
        // The buffer is kept: making and clearing one for each stretch would cost as much as the reading.
        self.held.resize(length, 0);
        self.start = offset;
        if let Err(error) = self.device.read_at(offset, &mut self.held) {
            self.held.clear();
            return Err(error);
        }
        if self.copy_held(offset, buffer) {
            Ok(())
        } else {
            Err(ReadError::past_end(offset, buffer.len(), self.device.size()))
        }
    }

    fn copy_held(&self, offset: u64, buffer: &mut [u8]) -> bool {
        let held = || {
            let from = usize::try_from(offset.checked_sub(self.start)?).ok()?;
            self.held.get(from..from.checked_add(buffer.len())?)
        };
        let Some(held) = held() else { return false };
        buffer.copy_from_slice(held);
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_window_and_a_read_ahead_give_what_the_device_has(
            size in 0usize..5000, start in 0u64..6000, length in 0u64..6000,
            reads in prop::collection::vec((0u64..6000, 0usize..3000), 1..8),
        ) {
            let bytes: Vec<u8> = (0..size).map(|i| (i % 251) as u8).collect();
            let window = Window::new(Arc::new(bytes.clone()), start, length);
            let expected: Vec<u8> =
                bytes.iter().skip(start as usize).take(length as usize).copied().collect();
            prop_assert_eq!(window.size(), expected.len() as u64);
            let mut ahead = ReadAhead::new(Arc::new(window.clone()));
            for (offset, wanted) in reads {
                let right = expected.get(offset as usize..offset as usize + wanted);
                let (mut plain, mut fetched) = (vec![0; wanted], vec![0; wanted]);
                prop_assert_eq!(window.read_at(offset, &mut plain).is_ok(), right.is_some());
                prop_assert_eq!(ahead.read(offset, &mut fetched).is_ok(), right.is_some());
                if let Some(right) = right {
                    prop_assert_eq!(&plain[..], right);
                    prop_assert_eq!(&fetched[..], right);
                }
            }
        }
    }
}
