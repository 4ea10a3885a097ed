//! Volumes in memory: FAT with files in it, and packed images.

use std::fs::File;
use std::io::{self, Cursor, Read, Write};
use std::ops::Range;
use std::os::unix::fs::FileExt;
use std::path::Path;

/// Every file carries this date, so that the same bench has the same bytes.
#[derive(Debug)]
struct FixedDate;

const DATE: fatfs::Date = fatfs::Date { year: 2026, month: 3, day: 20 };
const TIME: fatfs::Time = fatfs::Time { hour: 6, min: 40, sec: 0, millis: 0 };

impl fatfs::TimeProvider for FixedDate {
    fn get_current_date(&self) -> fatfs::Date {
        DATE
    }
    fn get_current_date_time(&self) -> fatfs::DateTime {
        fatfs::DateTime { date: DATE, time: TIME }
    }
}

static FIXED_DATE: FixedDate = FixedDate;

/// A FAT volume of this many bytes with these files; folders are made as they are needed.
pub(crate) fn fat(
    bytes: usize,
    label: &str,
    serial: u32,
    files: &[(String, Vec<u8>)],
) -> io::Result<Vec<u8>> {
    let mut name = [b' '; 11];
    for (slot, byte) in name.iter_mut().zip(label.bytes()) {
        *slot = byte;
    }
    let mut volume = Cursor::new(vec![0; bytes]);
    let mut options = fatfs::FormatVolumeOptions::new().volume_id(serial).volume_label(name);
    // From 34 MiB on there are clusters enough for FAT32, which is what an ESP is meant to be.
    if bytes >= 34 << 20 {
        options = options.fat_type(fatfs::FatType::Fat32).bytes_per_cluster(512);
    }
    fatfs::format_volume(&mut volume, options)?;
    let options = fatfs::FsOptions::new().time_provider(&FIXED_DATE).update_accessed_date(false);
    let fs = fatfs::FileSystem::new(&mut volume, options)?;
    for (path, contents) in files {
        put(&fs, path, contents)?;
    }
    fs.unmount()?;
    Ok(volume.into_inner())
}

fn put<T: fatfs::ReadWriteSeek>(fs: &fatfs::FileSystem<T>, path: &str, contents: &[u8]) -> io::Result<()> {
    let mut folder = fs.root_dir();
    let (folders, file) = path.trim_start_matches('/').rsplit_once('/').unwrap_or(("", path));
    for part in folders.split('/').filter(|part| !part.is_empty()) {
        folder = folder.create_dir(part)?;
    }
    let mut file = folder.create_file(file)?;
    file.truncate()?;
    file.write_all(contents)
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
    let options = fatfs::FsOptions::new().time_provider(&FIXED_DATE).update_accessed_date(false);
    let fs = fatfs::FileSystem::new(Cursor::new(volume), options)?;
    for (path, contents) in put_in {
        put(&fs, path, contents)?;
    }
    for path in take_out {
        fs.root_dir().remove(path.trim_start_matches('/'))?;
    }
    fs.unmount()?;
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

    fn each(self, mut take: impl FnMut(u64, &[u8]) -> io::Result<()>) -> io::Result<u64> {
        let (length, stretches) = self.stretches()?;
        for stretch in stretches.chunks_exact(8 + Self::STRETCH) {
            let (offset, bytes) = stretch.split_first_chunk::<8>().ok_or(io::ErrorKind::UnexpectedEof)?;
            let offset = u64::from_le_bytes(*offset);
            let there = (length - offset).min(Self::STRETCH as u64) as usize;
            take(offset, &bytes[..there])?;
        }
        Ok(length)
    }

    /// Writes it into a file that is zero there, from `at` on.
    ///
    /// # Errors
    /// Where it is broken, or the file cannot be written.
    pub fn write(self, file: &File, at: u64) -> io::Result<()> {
        self.each(|offset, bytes| file.write_all_at(bytes, at + offset)).map(|_| ())
    }

    /// All of it.
    ///
    /// # Errors
    /// Where it is broken.
    pub fn bytes(self) -> io::Result<Vec<u8>> {
        let mut all = Vec::new();
        let length = self.each(|offset, bytes| {
            all.resize(offset as usize, 0);
            all.extend_from_slice(bytes);
            Ok(())
        })?;
        all.resize(length as usize, 0);
        Ok(all)
    }
}
