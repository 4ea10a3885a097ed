//! Volumes in memory: FAT with files in it, and packed images.

use std::fs::File;
use std::io::{self, Read};
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use signpost_disk::fat::{Change, FatVolume, Stamp};
use signpost_disk::file_system::FileSystem;

use crate::format;

/// Every file carries this time, so that the same bench has the same bytes.
fn stamp() -> Stamp {
    Stamp::new((2026, 3, 20), (6, 40, 0))
}

/// A FAT volume of this many bytes with these files; folders are made as they are needed.
///
/// # Errors
/// Where they do not fit.
pub fn fat(bytes: usize, label: &str, serial: u32, files: &[(String, Vec<u8>)]) -> io::Result<Vec<u8>> {
    let mut volume = format::format(bytes, label, serial);
    for (path, contents) in files {
        change(&mut volume, path, Change::Put(contents))?;
    }
    Ok(volume)
}

fn change(volume: &mut [u8], path: &str, change: Change<'_>) -> io::Result<()> {
    let fat = FatVolume::open(Arc::new(volume.to_vec())).map_err(io::Error::other)?;
    for (offset, bytes) in fat.change(path, change, stamp()).map_err(io::Error::other)? {
        let place = usize::try_from(offset).ok().and_then(|at| volume.get_mut(at..at + bytes.len()));
        place.ok_or(io::ErrorKind::UnexpectedEof)?.copy_from_slice(&bytes);
    }
    Ok(())
}

/// Puts files into a FAT volume inside of a disk image, or takes them out, as a system that runs there would.
///
/// # Errors
/// Where there is no such volume, or a file to take out is not there.
pub fn change_fat(
    image: &Path,
    bytes: Range<usize>,
    put_in: &[(String, Vec<u8>)],
    take_out: &[&str],
) -> io::Result<()> {
    let mut disk = std::fs::read(image)?;
    let volume = disk.get_mut(bytes).ok_or(io::ErrorKind::UnexpectedEof)?;
    for (path, contents) in put_in {
        change(volume, path, Change::Put(contents))?;
    }
    for path in take_out {
        let there = FatVolume::open(Arc::new(volume.to_vec())).map_err(io::Error::other)?;
        there.metadata(path).map_err(io::Error::other)?;
        change(volume, path, Change::Remove)?;
    }
    std::fs::write(image, disk)
}

/// A packed volume: through zstd, its length, then stretches of 4 KiB, each behind its offset.
#[derive(Clone, Copy, Debug)]
pub struct Packed(pub &'static [u8]);

impl Packed {
    const STRETCH: usize = 4096;

    /// Its length, and what is not zero of it.
    fn stretches(self) -> io::Result<(u64, Vec<u8>)> {
        let mut bytes = Vec::new();
        let mut decoder = ruzstd::decoding::StreamingDecoder::new(self.0).map_err(io::Error::other)?;
        decoder.read_to_end(&mut bytes)?;
        let length = bytes.first_chunk::<8>().copied().ok_or(io::ErrorKind::UnexpectedEof)?;
        bytes.drain(..8);
        Ok((u64::from_le_bytes(length), bytes))
    }

    /// Where each stretch lies in a volume of this length, and its bytes.
    fn each(length: u64, stretches: &[u8]) -> impl Iterator<Item = io::Result<(u64, &[u8])>> {
        stretches.chunks_exact(8 + Self::STRETCH).map(move |stretch| {
            let (offset, bytes) = stretch.split_first_chunk::<8>().ok_or(io::ErrorKind::UnexpectedEof)?;
            let offset = u64::from_le_bytes(*offset);
            let left = length.checked_sub(offset).ok_or(io::ErrorKind::UnexpectedEof)?;
            Ok((offset, &bytes[..left.min(Self::STRETCH as u64) as usize]))
        })
    }

    /// Writes it into a file that is zero there, from `at` on.
    ///
    /// # Errors
    /// Where it is broken, or the file cannot be written.
    pub fn write(self, file: &File, at: u64) -> io::Result<()> {
        let (length, stretches) = self.stretches()?;
        for stretch in Self::each(length, &stretches) {
            let (offset, bytes) = stretch?;
            file.write_all_at(bytes, at + offset)?;
        }
        Ok(())
    }

    /// All of it.
    ///
    /// # Errors
    /// Where it is broken.
    pub fn bytes(self) -> io::Result<Vec<u8>> {
        let (length, stretches) = self.stretches()?;
        let mut all = vec![0; length as usize];
        for stretch in Self::each(length, &stretches) {
            let (offset, bytes) = stretch?;
            all[offset as usize..][..bytes.len()].copy_from_slice(bytes);
        }
        Ok(all)
    }
}
