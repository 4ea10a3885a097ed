//! A volume's start, in which most signatures lie.

use alloc::borrow::Cow;
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{BlockDevice, ReadError};
use crate::bytes::len;

/// Bytes at the start that most signatures lie in.
const HEAD: usize = 10 * 1024;

/// A volume's start, read once, and the rest of it when asked for.
pub(super) struct Head<'a> {
    pub(super) device: &'a dyn BlockDevice,
    start: &'a [u8],
}

impl<'a> Head<'a> {
    pub(super) fn new(device: &'a dyn BlockDevice, room: &'a mut Vec<u8>) -> Self {
        room.resize(HEAD.min(len(device.size())), 0);
        let start = if device.read_at(0, room).is_ok() { room.as_slice() } else { &[] };
        Self { device, start }
    }

    /// Whether these bytes stand at an offset.
    pub(super) fn has<const N: usize>(&self, offset: u64, mark: &[u8; N]) -> bool {
        self.array(offset).as_ref() == Some(mark)
    }

    /// As many bytes at an offset as the caller has room for: a mark, a magic number.
    pub(super) fn array<const N: usize>(&self, offset: u64) -> Option<[u8; N]> {
        let mut room = [0; N];
        self.read_at(offset, &mut room).ok()?;
        Some(room)
    }

    /// Bytes at an offset; callers bound the length.
    pub(super) fn bytes(&self, offset: u64, length: usize) -> Option<Cow<'_, [u8]>> {
        let from = len(offset);
        if let Some(held) = self.start.get(from..from.checked_add(length)?) {
            return Some(Cow::Borrowed(held));
        }
        if offset.checked_add(u64::try_from(length).ok()?)? > self.device.size() {
            return None;
        }
        let mut bytes = vec![0; length];
        self.device.read_at(offset, &mut bytes).ok()?;
        Some(Cow::Owned(bytes))
    }
}

/// For readers that take a device: what was read already is not read again.
impl BlockDevice for Head<'_> {
    fn size(&self) -> u64 {
        self.device.size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let from = len(offset);
        let held = from.checked_add(buffer.len()).and_then(|end| self.start.get(from..end));
        match held {
            Some(held) => {
                buffer.copy_from_slice(held);
                Ok(())
            }
            None => self.device.read_at(offset, buffer),
        }
    }
}
