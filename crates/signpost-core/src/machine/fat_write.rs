//! Writing a file into a FAT volume of a bench, so that a cut at any point leaves a volume that reads.
//!
//! The crate `fatfs` works on a copy in memory, one operation at a time; then only the sectors that changed are
//! written: new data first, then the FATs, then the free summary, folders and what is overwritten in place last.
//! A removal goes the other way round. A cut leaves at worst lost clusters, FAT copies that differ, or a wrong
//! free summary.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use std::path::Path;

use signpost_disk::fat::{Area, Geometry};

/// Bytes in which changes are kept and written.
const PIECE: u64 = 512;

/// What is done to a file.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Operation<'a> {
    /// It holds these bytes afterwards; one of the same length is overwritten in place.
    Put(&'a [u8]),
    /// It is gone afterwards.
    Remove,
}

/// Where a volume lies in its image.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Extent {
    /// Bytes from the image's start.
    pub(crate) start: u64,
    /// Bytes.
    pub(crate) length: u64,
}

/// Carries out one operation on a file of a volume, and syncs it.
///
/// # Errors
/// Where the image cannot be written, or there is no room.
pub(crate) fn carry_out(
    image: &Path,
    extent: Extent,
    geometry: &Geometry,
    path: &str,
    operation: Operation<'_>,
) -> io::Result<()> {
    let file = OpenOptions::new().read(true).write(true).open(image)?;
    let read = |offset: u64, buffer: &mut [u8]| file.read_exact_at(buffer, extent.start + offset);
    for (offset, bytes) in steps(&read, extent.length, geometry, path, operation)? {
        file.write_all_at(&bytes, extent.start + offset)?;
        file.sync_data()?;
    }
    Ok(())
}

/// The writes of an operation in their order: offsets in the volume, whole pieces.
fn steps(
    read: &dyn Fn(u64, &mut [u8]) -> io::Result<()>,
    length: u64,
    geometry: &Geometry,
    path: &str,
    operation: Operation<'_>,
) -> io::Result<Vec<(u64, Vec<u8>)>> {
    let mut overlay = Overlay { read, length, changed: BTreeMap::new(), at: 0 };
    {
        let fs = fatfs::FileSystem::new(&mut overlay, fatfs::FsOptions::new().update_accessed_date(false))?;
        act(&fs, path.trim_start_matches('/'), operation)?;
        fs.unmount()?;
    }
    let changed = std::mem::take(&mut overlay.changed);
    let mut ranked = Vec::new();
    for (offset, bytes) in changed {
        let mut before = vec![0; bytes.len()];
        read(offset, &mut before)?;
        if before != bytes {
            let rank = rank(geometry, read, offset)?;
            ranked.push((rank, offset, bytes));
        }
    }
    ranked.sort_by_key(|(rank, offset, _)| (*rank, *offset));
    if matches!(operation, Operation::Remove) {
        ranked.sort_by_key(|(rank, offset, _)| (std::cmp::Reverse(*rank), *offset));
    }
    Ok(ranked.into_iter().map(|(_, offset, bytes)| (offset, bytes)).collect())
}

fn act<T: Read + Write + Seek>(
    fs: &fatfs::FileSystem<T>,
    path: &str,
    operation: Operation<'_>,
) -> io::Result<()> {
    let (folders, name) = path.rsplit_once('/').unwrap_or(("", path));
    let mut folder = fs.root_dir();
    match operation {
        Operation::Put(bytes) => {
            for part in folders.split('/').filter(|part| !part.is_empty()) {
                folder = folder.create_dir(part)?;
            }
            let mut file = folder.create_file(name)?;
            let length = file.seek(SeekFrom::End(0))?;
            file.seek(SeekFrom::Start(0))?;
            if length > bytes.len() as u64 {
                file.truncate()?;
            }
            file.write_all(bytes)?;
            file.flush()
        }
        Operation::Remove => match fs.root_dir().remove(path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            result => result,
        },
    }
}

/// What is written when, by where it lies: 0 for clusters that nothing used, 1 for the FATs, 2 for the free
/// summary and the boot sectors, 3 for folders and whatever else was in use.
fn rank(geometry: &Geometry, read: &dyn Fn(u64, &mut [u8]) -> io::Result<()>, offset: u64) -> io::Result<u8> {
    Ok(match geometry.area(offset) {
        Area::Reserved => 2,
        Area::Fat => 1,
        Area::RootFolder => 3,
        Area::Cluster(cluster) => {
            let (at, width) = geometry.entry_at(cluster);
            let mut entry = [0; 4];
            read(at, &mut entry[..width])?;
            if geometry.is_free_entry(cluster, entry) { 0 } else { 3 }
        }
    })
}

/// A volume with changes that are kept in memory.
struct Overlay<'a> {
    read: &'a dyn Fn(u64, &mut [u8]) -> io::Result<()>,
    length: u64,
    changed: BTreeMap<u64, Vec<u8>>,
    at: u64,
}

impl Overlay<'_> {
    /// The piece around the current place: its offset, how far into it, how many bytes may follow.
    fn piece(&self, wanted: usize) -> (u64, usize, usize) {
        let start = self.at / PIECE * PIECE;
        let within = (self.at - start) as usize;
        let left = (self.length - self.at).min(PIECE - within as u64);
        (start, within, wanted.min(left as usize))
    }

    fn load(&self, start: u64) -> io::Result<Vec<u8>> {
        if let Some(bytes) = self.changed.get(&start) {
            return Ok(bytes.clone());
        }
        let mut bytes = vec![0; PIECE.min(self.length - start) as usize];
        (self.read)(start, &mut bytes)?;
        Ok(bytes)
    }
}

impl Read for Overlay<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.length {
            return Ok(0);
        }
        let (start, within, count) = self.piece(buffer.len());
        buffer[..count].copy_from_slice(&self.load(start)?[within..within + count]);
        self.at += count as u64;
        Ok(count)
    }
}

impl Write for Overlay<'_> {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        if self.at >= self.length {
            return Ok(0);
        }
        let (start, within, count) = self.piece(buffer.len());
        let mut bytes = self.load(start)?;
        bytes[within..within + count].copy_from_slice(&buffer[..count]);
        self.changed.insert(start, bytes);
        self.at += count as u64;
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Seek for Overlay<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => i128::from(at),
            SeekFrom::End(by) => i128::from(self.length) + i128::from(by),
            SeekFrom::Current(by) => i128::from(self.at) + i128::from(by),
        };
        self.at = u64::try_from(at).map_err(|_| io::Error::from(io::ErrorKind::InvalidInput))?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use signpost_disk::block::SharedDevice;
    use signpost_disk::fat::FatVolume;
    use signpost_disk::file_system::FileSystem;
    use std::sync::Arc;

    fn volume(mebibytes: usize) -> Vec<u8> {
        let mut cursor = io::Cursor::new(vec![0; mebibytes << 20]);
        fatfs::format_volume(&mut cursor, fatfs::FormatVolumeOptions::new()).unwrap();
        let fs = fatfs::FileSystem::new(&mut cursor, fatfs::FsOptions::new()).unwrap();
        let folder = fs.root_dir().create_dir("EFI").unwrap().create_dir("other").unwrap();
        folder.create_file("keep.efi").unwrap().write_all(&[7; 9000]).unwrap();
        drop(folder);
        fs.unmount().unwrap();
        cursor.into_inner()
    }

    fn writes(bytes: &[u8], path: &str, operation: Operation<'_>) -> Vec<(u64, Vec<u8>)> {
        let geometry = Geometry::read(&bytes.to_vec()).unwrap().unwrap();
        let read = |offset: u64, buffer: &mut [u8]| {
            let at = offset as usize;
            buffer.copy_from_slice(&bytes[at..at + buffer.len()]);
            Ok(())
        };
        steps(&read, bytes.len() as u64, &geometry, path, operation).unwrap()
    }

    fn after(bytes: &[u8], steps: &[(u64, Vec<u8>)]) -> FatVolume {
        let mut bytes = bytes.to_vec();
        for (offset, piece) in steps {
            bytes[*offset as usize..*offset as usize + piece.len()].copy_from_slice(piece);
        }
        FatVolume::open(Arc::new(bytes) as SharedDevice).unwrap()
    }

    /// At every cut: what was there before reads as before, and the new file is not there or whole.
    #[test]
    fn every_cut_of_a_new_file_leaves_a_volume_that_reads() {
        for mebibytes in [2, 16] {
            let before = volume(mebibytes);
            let content: Vec<u8> = (0..30_000u32).map(|i| (i % 251) as u8).collect();
            let path = "/EFI/signpost/1A2B3C4D.EFI";
            let steps = writes(&before, path, Operation::Put(&content));
            assert!(steps.len() > 30);
            for cut in 0..=steps.len() {
                let volume = after(&before, &steps[..cut]);
                assert_eq!(volume.read("/EFI/other/keep.efi", 9000), Ok(vec![7; 9000]), "cut {cut}");
                match volume.read(path, 30_000) {
                    Ok(read) => assert!(read == content, "cut {cut}: the file is there and not whole"),
                    Err(_) => assert!(cut < steps.len(), "it is there in the end"),
                }
            }
        }
    }

    #[test]
    fn a_file_of_the_same_length_is_overwritten_in_place_and_nothing_else() {
        let before = volume(2);
        let steps = writes(&before, "/EFI/other/keep.efi", Operation::Put(&[8; 9000]));
        let geometry = Geometry::read(&before).unwrap().unwrap();
        assert!(steps.iter().all(|(offset, _)| matches!(geometry.area(*offset), Area::Cluster(_))));
        assert_eq!(after(&before, &steps).read("/EFI/other/keep.efi", 9000), Ok(vec![8; 9000]));
    }

    #[test]
    fn every_cut_of_a_removal_leaves_the_rest() {
        let mut before = volume(2);
        let content = vec![5; 20_000];
        for (offset, piece) in writes(&before, "/EFI/x.efi", Operation::Put(&content)) {
            before[offset as usize..offset as usize + piece.len()].copy_from_slice(&piece);
        }
        let steps = writes(&before, "/EFI/x.efi", Operation::Remove);
        for cut in 0..=steps.len() {
            let volume = after(&before, &steps[..cut]);
            assert_eq!(volume.read("/EFI/other/keep.efi", 9000), Ok(vec![7; 9000]), "cut {cut}");
            if let Ok(read) = volume.read("/EFI/x.efi", 20_000) {
                assert!(read == content && cut < steps.len(), "cut {cut}");
            }
        }
        assert!(writes(&before, "/EFI/none.efi", Operation::Remove).is_empty());
    }
}
