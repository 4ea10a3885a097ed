//! Stretches of a file on its volume, and reading across them: the fast way to a large file.

use alloc::sync::Arc;
use alloc::vec::Vec;

use crate::block::{BlockDevice, ReadError, SharedDevice};
use crate::bytes::len;

/// Bytes that lie one behind the other, in the file and on the volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Run {
    /// First byte within the file.
    pub(crate) at: u64,
    /// First byte on the volume; `None` for bytes that were never written, which read as zero.
    pub(crate) from: Option<u64>,
    /// Bytes.
    pub(crate) length: u64,
}

impl Run {
    fn end(&self) -> u64 {
        self.at.saturating_add(self.length)
    }

    /// Whether `next` goes on where this one ends, in the file and on the volume.
    fn goes_on(&self, next: &Self) -> bool {
        let on_volume = self.from.map(|from| from.saturating_add(self.length));
        self.end() == next.at && on_volume.is_some() && on_volume == next.from
    }
}

/// Adds a run behind the others, to the last one where it goes on there.
pub(crate) fn push(runs: &mut Vec<Run>, run: Run) {
    match runs.last_mut() {
        Some(last) if last.goes_on(&run) => last.length = last.length.saturating_add(run.length),
        _ => runs.push(run),
    }
}

/// Leaves out what lies behind the first `written` bytes, which then reads as zeros.
pub(crate) fn clip(runs: &mut Vec<Run>, written: u64) {
    runs.retain(|run| run.at < written);
    if let Some(last) = runs.last_mut() {
        last.length = last.length.min(written.saturating_sub(last.at));
    }
}

/// Fills `buffer` with a file's bytes from `offset` on; what no run covers reads as zero. The runs are in
/// the file's order.
///
/// # Errors
/// Where the device does not give a stretch.
pub(crate) fn read(
    device: &dyn BlockDevice,
    runs: &[Run],
    offset: u64,
    buffer: &mut [u8],
) -> Result<(), ReadError> {
    let mut rest = buffer;
    let mut at = offset;
    let mut index = runs.partition_point(|run| run.end() <= offset);
    while !rest.is_empty() {
        let run = runs.get(index);
        let gap = run.map_or(u64::MAX, |run| run.at.saturating_sub(at));
        if gap > 0 {
            let (hole, after) = rest.split_at_mut(len(gap).min(rest.len()));
            hole.fill(0);
            at = at.saturating_add(gap);
            rest = after;
            continue;
        }
        let Some(run) = run else { break };
        let within = at.saturating_sub(run.at);
        let (piece, after) = rest.split_at_mut(len(run.length.saturating_sub(within)).min(rest.len()));
        match run.from {
            Some(from) => device.read_at(from.saturating_add(within), piece)?,
            None => piece.fill(0),
        }
        at = run.end();
        rest = after;
        index = index.saturating_add(1);
    }
    Ok(())
}

/// Fills `buffer` from `offset` on with a file's bytes that stand in its own record; `None` where they end before.
pub(crate) fn copy(bytes: &[u8], offset: u64, buffer: &mut [u8]) -> Option<()> {
    let from = len(offset);
    buffer.copy_from_slice(bytes.get(from..from.checked_add(buffer.len())?)?);
    Some(())
}

/// A file's bytes as a device: what is inside of an image file.
pub(crate) struct FileDevice {
    device: SharedDevice,
    runs: Vec<Run>,
    size: u64,
}

impl FileDevice {
    pub(crate) fn shared(device: &SharedDevice, runs: Vec<Run>, size: u64) -> SharedDevice {
        Arc::new(Self { device: device.clone(), runs, size })
    }
}

impl BlockDevice for FileDevice {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let end = u64::try_from(buffer.len()).ok().and_then(|length| offset.checked_add(length));
        if end.is_none_or(|end| end > self.size) {
            return Err(ReadError::past_end(offset, buffer.len(), self.size));
        }
        read(self.device.as_ref(), &self.runs, offset, buffer)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;

    #[test]
    fn holes_read_as_zero_and_neighbours_become_one() {
        let device: Vec<u8> = (0..100).collect();
        let mut runs = Vec::new();
        push(&mut runs, Run { at: 0, from: Some(10), length: 5 });
        push(&mut runs, Run { at: 5, from: Some(15), length: 5 });
        push(&mut runs, Run { at: 12, from: Some(50), length: 4 });
        push(&mut runs, Run { at: 16, from: None, length: 2 });
        assert_eq!(runs.len(), 3);
        let mut buffer = vec![9; 17];
        read(&device, &runs, 3, &mut buffer).unwrap();
        assert_eq!(buffer, [13, 14, 15, 16, 17, 18, 19, 0, 0, 50, 51, 52, 53, 0, 0, 0, 0]);
        assert!(read(&device, &[Run { at: 0, from: Some(99), length: 2 }], 0, &mut [0; 2]).is_err());
    }
}
