//! ISO 9660 (ECMA-119) with the names and links of Rock Ridge (IEEE P1282), or the wide names of Joliet.

mod rock_ridge;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, len};
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes, Tree};
use rock_ridge::Extensions;

const FIRST_DESCRIPTOR: u64 = 0x8000;
const SECTOR: u64 = 2048;
const MAX_DESCRIPTORS: u64 = 32;
/// Bytes of a folder that are looked through.
const MAX_FOLDER: u64 = 8 << 20;
const FLAG_FOLDER: u8 = 0x02;
/// More of the same file follows in the next record.
const FLAG_MORE: u8 = 0x80;

/// Where names come from.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Names {
    RockRidge,
    Joliet,
    Plain,
}

/// An ISO 9660 volume, opened.
pub(crate) struct IsoVolume {
    device: SharedDevice,
    block_size: u64,
    names: Names,
    /// Bytes that Rock Ridge leaves out at the start of each record's own area.
    skip: usize,
    root: Node,
}

/// A file or folder.
#[derive(Clone, Debug)]
pub(crate) struct Node {
    name: String,
    kind: NodeKind,
    runs: Vec<Run>,
    size: u64,
    target: String,
}

impl IsoVolume {
    /// Opens a volume.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        let (mut primary, mut wide) = (None, None);
        for index in 0..MAX_DESCRIPTORS {
            let at = FIRST_DESCRIPTOR.saturating_add(index.saturating_mul(SECTOR));
            let descriptor = read_vec(device.as_ref(), at, 2048)?;
            if descriptor.get(1..6) != Some(b"CD001") {
                break;
            }
            match descriptor.first() {
                Some(1) => primary = primary.or(Some(descriptor)),
                Some(2) if matches!(descriptor.get(88..91), Some(b"%/@" | b"%/C" | b"%/E")) => {
                    wide = Some(descriptor);
                }
                Some(255) => break,
                _ => {}
            }
        }
        let primary = primary
            .ok_or_else(|| VolumeError::Corrupt("ISO 9660: no primary descriptor at offset 32768".into()))?;
        let block_size = u64::from(le16(&primary, 128).unwrap_or(0));
        if !block_size.is_power_of_two() || !(512..=4096).contains(&block_size) {
            return Err(VolumeError::Corrupt(format!("ISO 9660: logical blocks of {block_size} bytes")));
        }
        let none = Node {
            name: String::new(),
            kind: NodeKind::Folder,
            runs: Vec::new(),
            size: 0,
            target: String::new(),
        };
        let mut volume = Self { device, block_size, names: Names::Plain, skip: 0, root: none };
        volume.root = volume.root_of(&primary)?;
        if let Some(skip) = volume.rock_ridge() {
            (volume.names, volume.skip) = (Names::RockRidge, skip);
        } else if let Some(wide) = wide {
            volume.root = volume.root_of(&wide)?;
            volume.names = Names::Joliet;
        }
        Ok(Tree(volume))
    }

    fn root_of(&self, descriptor: &[u8]) -> Result<Node, VolumeError> {
        let record = descriptor.get(156..190).unwrap_or_default();
        let run = self.run(record, 0).ok_or_else(|| {
            VolumeError::Corrupt("ISO 9660: the root folder lies outside of the volume".into())
        })?;
        let size = run.length;
        Ok(Node { name: String::new(), kind: NodeKind::Folder, runs: vec![run], size, target: String::new() })
    }

    /// Whether the root folder's own record carries Rock Ridge; the bytes to leave out where it does.
    fn rock_ridge(&self) -> Option<usize> {
        let bytes = self.folder_bytes(&self.root).ok()?;
        let own = bytes.get(..usize::from(*bytes.first()?))?;
        rock_ridge::skip_of(system_use(own)?)
    }

    fn run(&self, record: &[u8], at: u64) -> Option<Run> {
        let from = u64::from(le32(record, 2)?).checked_mul(self.block_size)?;
        let length = u64::from(le32(record, 10)?);
        (from.checked_add(length)? <= self.device.size()).then_some(Run { at, from: Some(from), length })
    }

    fn folder_bytes(&self, folder: &Node) -> Result<Vec<u8>, VolumeError> {
        if folder.size > MAX_FOLDER {
            return Err(VolumeError::Unsupported(format!("ISO 9660: a folder of {} bytes", folder.size)));
        }
        let mut bytes = vec![0; len(folder.size)];
        runs::read(self.device.as_ref(), &folder.runs, 0, &mut bytes)?;
        Ok(bytes)
    }

    fn nodes(&self, folder: &Node) -> Result<Vec<Node>, VolumeError> {
        let bytes = self.folder_bytes(folder)?;
        let mut found: Vec<Node> = Vec::new();
        let mut goes_on = false;
        // Records never stand across the border of a sector; the rest of one is zero.
        for sector in bytes.chunks(len(SECTOR)) {
            let mut rest = sector;
            while let Some(length) =
                rest.first().map(|length| usize::from(*length)).filter(|length| *length > 33)
            {
                let Some(record) = rest.get(..length) else { break };
                rest = rest.get(length..).unwrap_or_default();
                let flags = record.get(25).copied().unwrap_or(0);
                if goes_on {
                    self.extend(found.last_mut(), record)?;
                } else {
                    found.extend(self.decode(record)?);
                }
                goes_on = flags & FLAG_MORE != 0;
            }
        }
        Ok(found)
    }

    fn extend(&self, node: Option<&mut Node>, record: &[u8]) -> Result<(), VolumeError> {
        let Some(node) = node else { return Ok(()) };
        let run = self.run(record, node.size).ok_or_else(|| outside(&node.name))?;
        node.size = node.size.saturating_add(run.length);
        runs::push(&mut node.runs, run);
        Ok(())
    }

    /// One record; `None` for the folder itself and the one above it.
    fn decode(&self, record: &[u8]) -> Result<Option<Node>, VolumeError> {
        let name_length = usize::from(record.get(32).copied().unwrap_or(0));
        let raw = record.get(33..).and_then(|rest| rest.get(..name_length)).unwrap_or_default();
        if matches!(raw, [0 | 1]) {
            return Ok(None);
        }
        let is_folder = record.get(25).is_some_and(|flags| flags & FLAG_FOLDER != 0);
        let mut node = Node {
            name: self.name(raw),
            kind: if is_folder { NodeKind::Folder } else { NodeKind::File },
            runs: Vec::new(),
            size: 0,
            target: String::new(),
        };
        if self.names == Names::RockRidge
            && let Some(area) = system_use(record)
        {
            let area = area.get(self.skip..).unwrap_or_default();
            let extensions = Extensions::read(area, self.device.as_ref(), self.block_size);
            if extensions.is_hidden {
                return Ok(None);
            }
            node.name = extensions.name.unwrap_or(node.name);
            node.kind = extensions.mode.map_or(node.kind, NodeKind::of_mode);
            node.target = extensions.target.unwrap_or_default();
            if let Some(moved_to) = extensions.moved_to {
                let at = u64::from(moved_to).saturating_mul(self.block_size);
                let head = read_vec(self.device.as_ref(), at, len(SECTOR))?;
                let run = self.run(&head, 0).ok_or_else(|| outside(&node.name))?;
                return Ok(Some(Node { kind: NodeKind::Folder, size: run.length, runs: vec![run], ..node }));
            }
        }
        let run = self.run(record, 0).ok_or_else(|| outside(&node.name))?;
        (node.size, node.runs) = (run.length, vec![run]);
        Ok(Some(node))
    }

    fn name(&self, raw: &[u8]) -> String {
        let name = if self.names == Names::Joliet {
            let units: Vec<u16> =
                raw.as_chunks::<2>().0.iter().map(|pair| u16::from_be_bytes(*pair)).collect();
            String::from_utf16_lossy(&units)
        } else {
            String::from_utf8_lossy(raw).into_owned()
        };
        // `NAME.EXT;1`: the version says nothing.
        let name = name.split(';').next().unwrap_or_default();
        name.strip_suffix('.').unwrap_or(name).to_string()
    }
}

fn outside(name: &str) -> VolumeError {
    VolumeError::Corrupt(format!("ISO 9660: {name} lies outside of the volume"))
}

/// What stands in a record behind its name, padded to an even length.
fn system_use(record: &[u8]) -> Option<&[u8]> {
    let name = usize::from(*record.get(32)?);
    let end = 33usize.checked_add(name)?;
    record.get(end.checked_next_multiple_of(2)?..)
}

impl Nodes for IsoVolume {
    type Node = Node;

    fn root(&self) -> Result<Node, VolumeError> {
        Ok(self.root.clone())
    }

    fn kind(&self, node: &Node) -> NodeKind {
        node.kind
    }

    fn size(&self, node: &Node) -> u64 {
        node.size
    }

    fn child(&self, folder: &Node, name: &str) -> Result<Option<Node>, VolumeError> {
        let exact = self.names == Names::RockRidge;
        let is_it =
            |node: &Node| if exact { node.name == name } else { node.name.eq_ignore_ascii_case(name) };
        Ok(self.nodes(folder)?.into_iter().find(is_it))
    }

    fn children(&self, folder: &Node) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        Ok(self.nodes(folder)?.into_iter().map(|node| (node.name, node.kind)).collect())
    }

    fn target(&self, link: &Node) -> Result<Vec<u8>, VolumeError> {
        Ok(link.target.as_bytes().to_vec())
    }

    fn runs(&self, file: &Node) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(Some((self.device.clone(), file.runs.clone())))
    }

    fn read(&self, node: &Node, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        Ok(runs::read(self.device.as_ref(), &node.runs, offset, buffer)?)
    }
}
