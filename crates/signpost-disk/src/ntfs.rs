//! NTFS, by the crate `ntfs`; ours is the way to the bytes, with a limit on how many a broken volume may ask for.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cell::RefCell;

use binrw::io::{self, Read, Seek, SeekFrom};
use ntfs::indexes::NtfsFileNameIndex;
use ntfs::structured_values::NtfsFileNamespace;
use ntfs::{Ntfs, NtfsAttributeFlags, NtfsAttributeType, NtfsError, NtfsFile, NtfsReadSeek};

use crate::block::{ReadAhead, SharedDevice};
use crate::bytes::len;
use crate::error::VolumeError;
use crate::runs::Run;
use crate::tree::{NodeKind, Nodes, Tree};

/// Names of one folder.
const MAX_NAMES: usize = 100_000;
/// Readings that one question may take: links that go in circles end here.
const MAX_READS: u32 = 200_000;
const FILE_COMPRESSED_OR_ENCRYPTED: NtfsAttributeFlags =
    NtfsAttributeFlags::COMPRESSED.union(NtfsAttributeFlags::ENCRYPTED);

/// An NTFS volume, opened.
pub(crate) struct NtfsVolume {
    ntfs: Ntfs,
    reader: RefCell<Reader>,
}

/// A record of the master file table.
#[derive(Clone, Debug)]
pub(crate) struct Record {
    number: u64,
    is_folder: bool,
    size: u64,
}

impl NtfsVolume {
    /// Opens a volume.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        let mut reader =
            Reader { device: ReadAhead::new(device.clone()), size: device.size(), at: 0, left: MAX_READS };
        let mut ntfs = Ntfs::new(&mut reader).map_err(|error| fault(&error))?;
        if ntfs.size() > device.size() {
            let (claimed, there) = (ntfs.size(), device.size());
            return Err(VolumeError::Corrupt(format!("NTFS: it claims {claimed} bytes, there are {there}")));
        }
        ntfs.read_upcase_table(&mut reader).map_err(|error| fault(&error))?;
        Ok(Tree(Self { ntfs, reader: RefCell::new(reader) }))
    }

    /// A reader with its limit whole again.
    fn reader(&self) -> core::cell::RefMut<'_, Reader> {
        let mut reader = self.reader.borrow_mut();
        reader.left = MAX_READS;
        reader
    }

    fn record(&self, file: &NtfsFile<'_>, reader: &mut Reader) -> Result<Record, VolumeError> {
        let size = match file.data(reader, "") {
            Some(item) => {
                let item = item.map_err(|error| fault(&error))?;
                item.to_attribute().map_err(|error| fault(&error))?.value_length()
            }
            None => 0,
        };
        Ok(Record { number: file.file_record_number(), is_folder: file.is_directory(), size })
    }
}

impl Nodes for NtfsVolume {
    type Node = Record;

    fn root(&self) -> Result<Record, VolumeError> {
        let mut reader = self.reader();
        let root = self.ntfs.root_directory(&mut *reader).map_err(|error| fault(&error))?;
        Ok(Record { number: root.file_record_number(), is_folder: true, size: 0 })
    }

    fn kind(&self, node: &Record) -> NodeKind {
        if node.is_folder { NodeKind::Folder } else { NodeKind::File }
    }

    fn size(&self, node: &Record) -> u64 {
        node.size
    }

    fn child(&self, folder: &Record, name: &str) -> Result<Option<Record>, VolumeError> {
        let mut reader = self.reader();
        let failed = |error| fault(&error);
        let file = self.ntfs.file(&mut *reader, folder.number).map_err(failed)?;
        let index = file.directory_index(&mut *reader).map_err(failed)?;
        let mut finder = index.finder();
        let Some(entry) = NtfsFileNameIndex::find(&mut finder, &self.ntfs, &mut *reader, name) else {
            return Ok(None);
        };
        let number = entry.map_err(failed)?.file_reference().file_record_number();
        let file = self.ntfs.file(&mut *reader, number).map_err(failed)?;
        self.record(&file, &mut reader).map(Some)
    }

    fn children(&self, folder: &Record) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let mut reader = self.reader();
        let failed = |error| fault(&error);
        let file = self.ntfs.file(&mut *reader, folder.number).map_err(failed)?;
        let index = file.directory_index(&mut *reader).map_err(failed)?;
        let mut entries = index.entries();
        let mut names = Vec::new();
        while let Some(entry) = entries.next(&mut *reader) {
            let entry = entry.map_err(failed)?;
            let Some(key) = entry.key() else { continue };
            let key = key.map_err(failed)?;
            // Each long name has a short twin, for systems of old.
            if key.namespace() == NtfsFileNamespace::Dos || names.len() >= MAX_NAMES {
                continue;
            }
            let kind = if key.is_directory() { NodeKind::Folder } else { NodeKind::File };
            names.push((key.name().to_string_lossy(), kind));
        }
        Ok(names)
    }

    /// Where a file lies on the volume the crate does not say.
    fn runs(&self, _: &Record) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(None)
    }

    fn read(&self, node: &Record, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        let mut reader = self.reader();
        let failed = |error| fault(&error);
        let file = self.ntfs.file(&mut *reader, node.number).map_err(failed)?;
        let none = || VolumeError::Corrupt(format!("NTFS: record {} has no data", node.number));
        let item = file.data(&mut *reader, "").ok_or_else(none)?.map_err(failed)?;
        let attribute = item.to_attribute().map_err(failed)?;
        if attribute.flags().intersects(FILE_COMPRESSED_OR_ENCRYPTED) {
            return Err(VolumeError::Unsupported("NTFS: a compressed or encrypted file".into()));
        }
        debug_assert_eq!(attribute.ty().ok(), Some(NtfsAttributeType::Data));
        let mut value = attribute.value(&mut *reader).map_err(failed)?;
        value.seek(&mut *reader, SeekFrom::Start(offset)).map_err(failed)?;
        value.read_exact(&mut *reader, buffer).map_err(failed)
    }
}

/// The device as the crate wants it.
struct Reader {
    device: ReadAhead,
    size: u64,
    at: u64,
    left: u32,
}

impl Read for Reader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.left = self
            .left
            .checked_sub(1)
            .ok_or_else(|| io::Error::new(io::ErrorKind::Other, "the volume's links go round in a circle"))?;
        let there = len(self.size.saturating_sub(self.at)).min(buffer.len());
        let wanted = buffer.get_mut(..there).unwrap_or_default();
        self.device
            .read(self.at, wanted)
            .map_err(|_| io::Error::new(io::ErrorKind::Other, "the disk did not give the bytes"))?;
        self.at = self.at.saturating_add(u64::try_from(there).unwrap_or(0));
        Ok(there)
    }
}

impl Seek for Reader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let moved = |from: u64, by: i64| from.checked_add_signed(by);
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => moved(self.at, by),
            SeekFrom::End(by) => moved(self.size, by),
        };
        self.at = at.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "before the start"))?;
        Ok(self.at)
    }
}

fn fault(error: &NtfsError) -> VolumeError {
    VolumeError::Corrupt(format!("NTFS: {error}").trim_end().to_string())
}
