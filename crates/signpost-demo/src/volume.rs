//! Volumes in memory: FAT with files in it, and packed images.

use std::io::{self, Cursor, Read, Write};

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
        let mut folder = fs.root_dir();
        let (folders, file) = path.trim_start_matches('/').rsplit_once('/').unwrap_or(("", path));
        for part in folders.split('/').filter(|part| !part.is_empty()) {
            folder = folder.create_dir(part)?;
        }
        folder.create_file(file)?.write_all(contents)?;
    }
    fs.unmount()?;
    Ok(volume.into_inner())
}

/// Unpacks a zstd image.
///
/// # Errors
/// Where it is broken.
pub fn unpack(packed: &[u8]) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut decoder = ruzstd::decoding::StreamingDecoder::new(packed).map_err(io::Error::other)?;
    decoder.read_to_end(&mut bytes)?;
    Ok(bytes)
}
