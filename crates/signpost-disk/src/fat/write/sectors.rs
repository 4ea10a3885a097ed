//! Sectors as they are to be, and the steps in which they are written.

use alloc::collections::{BTreeMap, BTreeSet};
use alloc::vec;
use alloc::vec::Vec;
use core::cell::RefCell;

use crate::block::BlockDevice;
use crate::bytes::len;
use crate::error::VolumeError;

/// Bytes that are written at once.
pub(super) const SECTOR: u64 = 512;

pub(super) struct Sectors<'a> {
    device: &'a dyn BlockDevice,
    /// Sectors as they are to be, by their offset.
    now: BTreeMap<u64, Vec<u8>>,
    /// Those that were changed since the last step.
    pending: BTreeMap<u64, Vec<u8>>,
    /// The writes so far, in their order.
    pub(super) writes: Vec<(u64, Vec<u8>)>,
    /// The sector that was read last, as the device has it.
    last: RefCell<Option<(u64, Vec<u8>)>>,
    written: BTreeSet<u64>,
}

impl<'a> Sectors<'a> {
    pub(super) fn of(device: &'a dyn BlockDevice) -> Self {
        Self {
            device,
            now: BTreeMap::new(),
            pending: BTreeMap::new(),
            writes: Vec::new(),
            last: RefCell::new(None),
            written: BTreeSet::new(),
        }
    }

    fn sector(&self, at: u64) -> Result<Vec<u8>, VolumeError> {
        if let Some(bytes) = self.now.get(&at) {
            return Ok(bytes.clone());
        }
        if let Some((_, bytes)) = self.last.borrow().as_ref().filter(|(last, _)| *last == at) {
            return Ok(bytes.clone());
        }
        let mut bytes = vec![0; len(SECTOR)];
        self.device.read_at(at, &mut bytes)?;
        self.last.replace(Some((at, bytes.clone())));
        Ok(bytes)
    }

    pub(super) fn read(&self, at: u64, length: usize) -> Result<Vec<u8>, VolumeError> {
        let mut bytes = Vec::with_capacity(length);
        while bytes.len() < length {
            let from = at.saturating_add(bytes.len() as u64);
            let start = from & !(SECTOR - 1);
            let sector = self.sector(start)?;
            let within = sector.get(len(from.saturating_sub(start))..).unwrap_or_default();
            bytes.extend(within.iter().take(length.saturating_sub(bytes.len())));
        }
        Ok(bytes)
    }

    pub(super) fn write_at(&mut self, at: u64, bytes: &[u8]) -> Result<(), VolumeError> {
        let mut done = 0usize;
        while done < bytes.len() {
            let from = at.saturating_add(done as u64);
            let start = from & !(SECTOR - 1);
            let mut sector = self.sector(start)?;
            let within = len(from.saturating_sub(start));
            let count = sector.len().saturating_sub(within).min(bytes.len().saturating_sub(done));
            let piece = bytes.get(done..done.saturating_add(count)).unwrap_or_default();
            if let Some(place) = sector.get_mut(within..within.saturating_add(count)) {
                place.copy_from_slice(piece);
            }
            self.now.insert(start, sector.clone());
            self.pending.insert(start, sector);
            done = done.saturating_add(count);
        }
        Ok(())
    }

    /// What was changed since the last step is written before all that comes, in the order of the disk.
    pub(super) fn step(&mut self) -> Result<(), VolumeError> {
        let pending = core::mem::take(&mut self.pending);
        for (at, bytes) in pending {
            let mut before = vec![0; bytes.len()];
            self.device.read_at(at, &mut before)?;
            // What an earlier step changed may be changed back.
            if self.written.contains(&at) || before != bytes {
                self.written.insert(at);
                self.writes.push((at, bytes));
            }
        }
        Ok(())
    }

    pub(super) fn step_backwards(&mut self) {
        let pending = core::mem::take(&mut self.pending);
        self.written.extend(pending.keys());
        self.writes.extend(pending.into_iter().rev());
    }
}
