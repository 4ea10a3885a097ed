//! Disks, by the firmware's numbers (Enhanced Disk Drive specification, EDD; before it cylinder, head and sector).

use alloc::format;
use alloc::vec::Vec;
use core::ptr;

use signpost_disk::block::{BlockDevice, ReadError};
use signpost_firmware::bios::SECTOR;

use crate::real::{self, BOUNCE, BOUNCE_LEN, Registers, SMALL, interrupt};

/// The number of the first disk.
pub const FIRST: u8 = 0x80;
/// Where the firmware's data say how many disks there are, from 0x400 on.
const COUNT: usize = 0x75;
const DISK: u8 = 0x13;
/// A disk that has more sectors than that is none: an empty drive says so.
const MOST: u64 = 1 << 48;

/// A disk of the firmware's.
#[derive(Clone, Copy, Debug)]
pub struct Drive {
    /// Its number: 0x80 and on.
    pub number: u8,
    sectors: u64,
    /// Heads, and sectors a track, where it is not read by sector number.
    geometry: Option<(u32, u32)>,
}

/// All disks that can be read.
pub fn all() -> Vec<Drive> {
    let count = real::data_byte(COUNT).min(0x40);
    (0..count).filter_map(|index| Drive::open(FIRST + index)).collect()
}

impl Drive {
    /// Opens one; nothing where there is no medium in it.
    pub fn open(number: u8) -> Option<Self> {
        let geometry = || {
            let said = interrupt(DISK, Registers { ax: 0x800, dx: number.into(), ..Registers::default() });
            let [low, high, ..] = said.cx.to_le_bytes();
            let cylinders = (u32::from(low & 0xc0) << 2 | u32::from(high)) + 1;
            let (heads, track) = (u32::from(said.dx.to_le_bytes()[1]) + 1, u32::from(low & 0x3f));
            (!said.is_refused() && track > 0).then_some((cylinders, heads, track))
        };
        let mut drive = match sectors(number) {
            Some(sectors) => Self { number, sectors, geometry: None },
            None => {
                let (cylinders, heads, track) = geometry()?;
                let sectors = u64::from(cylinders) * u64::from(heads) * u64::from(track);
                Self { number, sectors, geometry: Some((heads, track)) }
            }
        };
        if drive.transfer(0, 1, false) {
            return Some(drive);
        }
        // Firmware that tells sizes may yet read by geometry alone.
        let (_, heads, track) = geometry()?;
        drive.geometry = Some((heads, track));
        drive.transfer(0, 1, false).then_some(drive)
    }

    /// Reads or writes so many sectors, through the bounce buffer; whether that went well.
    fn transfer(&self, first: u64, count: usize, is_write: bool) -> bool {
        let way = if is_write { 1 } else { 0 };
        match self.geometry {
            None => {
                let mut packet = [0; 16];
                packet[0] = 16;
                packet[2..4].copy_from_slice(&(count as u16).to_le_bytes());
                packet[6..8].copy_from_slice(&((BOUNCE >> 4) as u16).to_le_bytes());
                packet[8..].copy_from_slice(&first.to_le_bytes());
                real::put_small(&packet);
                let asked = Registers {
                    si: SMALL as u32,
                    dx: self.number.into(),
                    ax: 0x4200 + way * 0x100,
                    ..Registers::default()
                };
                !interrupt(DISK, asked).is_refused()
            }
            // A track is not gone beyond: a sector at a time.
            Some((heads, track)) => (0..count).all(|index| {
                let Ok(sector) = u32::try_from(first + index as u64) else { return false };
                let (cylinder, head) = (sector / track / heads, sector / track % heads);
                if cylinder > 1023 {
                    return false;
                }
                let asked = Registers {
                    bx: 0,
                    cx: (cylinder & 0xff) << 8 | (cylinder >> 2) & 0xc0 | (sector % track + 1),
                    dx: head << 8 | u32::from(self.number),
                    es: ((BOUNCE + index * SECTOR) >> 4) as u16,
                    ax: 0x201 + way * 0x100,
                    ..Registers::default()
                };
                !interrupt(DISK, asked).is_refused()
            }),
        }
    }

    /// Reads sectors into the bounce buffer: how many could be read. Firmware may refuse many at once, and takes fewer.
    fn read(&self, first: u64, count: usize) -> usize {
        let mut count = count;
        while count > 0 && !self.transfer(first, count, false) {
            count /= 2;
        }
        count
    }

    /// A sector.
    pub fn sector(&self, number: u64) -> Option<[u8; SECTOR]> {
        let mut sector = [0; SECTOR];
        self.read_at(number.checked_mul(SECTOR as u64)?, &mut sector).ok()?;
        Some(sector)
    }

    /// Writes sectors, and reads them back; whether they are as they should be then.
    pub fn write(&self, first: u64, bytes: &[u8]) -> bool {
        let mut at = first;
        for portion in bytes.chunks(BOUNCE_LEN / 2) {
            let count = portion.len() / SECTOR;
            // SAFETY: the buffer is ours, and nothing refers to it.
            unsafe { ptr::copy_nonoverlapping(portion.as_ptr(), BOUNCE as *mut u8, count * SECTOR) };
            if !self.transfer(at, count, true) {
                return false;
            }
            at += count as u64;
        }
        let mut back = alloc::vec![0; bytes.len()];
        self.read_at(first * SECTOR as u64, &mut back).is_ok() && back == bytes
    }
}

/// How many sectors a disk says it has.
fn sectors(number: u8) -> Option<u64> {
    const LENGTH: u8 = 30;
    real::put_small(&[LENGTH, 0]);
    let asked = Registers { si: SMALL as u32, dx: number.into(), ax: 0x4800, ..Registers::default() };
    if interrupt(DISK, asked).is_refused() {
        return None;
    }
    let said: [u8; LENGTH as usize] = real::small();
    let sectors = u64::from_le_bytes(*said[16..].first_chunk()?);
    let bytes = u16::from_le_bytes(*said[24..].first_chunk()?);
    ((1..MOST).contains(&sectors) && usize::from(bytes) == SECTOR).then_some(sectors)
}

impl BlockDevice for Drive {
    fn size(&self) -> u64 {
        self.sectors * SECTOR as u64
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let length = buffer.len();
        if offset.checked_add(length as u64).is_none_or(|end| end > self.size()) {
            return Err(ReadError::past_end(offset, length, self.size()));
        }
        let mut done = 0;
        while done < length {
            let at = offset + done as u64;
            let (sector, skip) = (at / SECTOR as u64, at as usize % SECTOR);
            let wanted = (skip + length - done).div_ceil(SECTOR).min(BOUNCE_LEN / SECTOR);
            let read = self.read(sector, wanted);
            if read == 0 {
                let why = format!("the firmware does not read sector {sector}");
                return Err(ReadError { offset, length, why });
            }
            let rest = &mut buffer[done..];
            let taken = (read * SECTOR - skip).min(rest.len());
            real::take_bounced(skip, &mut rest[..taken]);
            done += taken;
        }
        Ok(())
    }
}
