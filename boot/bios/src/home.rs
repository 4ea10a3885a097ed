//! What lies between a disk's first sector and its first partition: slots, and what is remembered from start to start.

use alloc::string::{String, ToString};

use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::Area;
use signpost_menu::slot::{SLOT_SIZE, Slot, SlotFault};
use signpost_menu::state::{State, newest};

use crate::disk::Drive;
use signpost_disk::block::BlockDevice;

/// Home, as this start found it.
pub struct Home {
    /// The disk.
    pub drive: Drive,
    area: Area,
}

impl Home {
    /// The area that the first sector of the disk goes to that we were started from; `first` is that sector.
    pub fn of(drive: u8, first: &[u8; SECTOR]) -> Option<Self> {
        Some(Self { drive: Drive::open(drive)?, area: Area::of_first(first)? })
    }

    /// Both slots.
    pub fn slots(&self) -> [Result<Slot, SlotFault>; 2] {
        [0, 1].map(|index| {
            let mut bytes = alloc::vec![0; SLOT_SIZE];
            let at = u64::from(self.area.slot(index)) * SECTOR as u64;
            self.drive.read_at(at, &mut bytes).map_err(|_| SlotFault::Empty)?;
            Slot::decode(&bytes)
        })
    }

    /// Overwrites a slot, and reads it back.
    ///
    /// # Errors
    /// That it could not be.
    pub fn write_slot(&self, index: usize, bytes: &[u8]) -> Result<(), String> {
        let first = self.area.slot(u32::try_from(index).map_err(|error| error.to_string())?);
        if self.drive.write(first.into(), bytes) {
            Ok(())
        } else {
            Err("the sectors of the slot do not read back as they were written".into())
        }
    }

    /// What is remembered, and which of the two sectors holds it.
    fn state(&self) -> (usize, State) {
        let sector = |index| self.drive.sector(self.area.state(index).into()).unwrap_or([0; SECTOR]);
        newest([&sector(0), &sector(1)])
    }

    /// A text that is remembered.
    pub fn remembered(&self, name: &str) -> Option<String> {
        self.state().1.text(name).map(ToString::to_string)
    }

    /// Remembers a text, or forgets it; whether that could be.
    pub fn remember(&self, name: &str, text: Option<&str>) -> bool {
        let (index, state) = self.state();
        let Some(next) = state.with(name, text) else { return true };
        let other = if index == 0 { 1 } else { 0 };
        next.encode().is_some_and(|sector| self.drive.write(self.area.state(other).into(), &sector))
    }
}
