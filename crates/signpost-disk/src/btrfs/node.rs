//! Nodes, the chunks that say where they are, and walking from root to leaf ("Node", "Chunk Tree").

use alloc::format;
use alloc::rc::Rc;
use alloc::vec::Vec;
use core::cell::RefCell;

use super::item::{KEY_LENGTH, Key, kind};
use super::superblock::{Superblock, checksum_holds};
use crate::block::{SharedDevice, read_vec};
use crate::bytes::{le16, le32, le64, len, short};
use crate::error::VolumeError;

/// Bytes before a node's items.
const HEADER: usize = 101;
const MAX_LEVEL: u8 = 8;
/// Chunks of a volume.
const MAX_CHUNKS: usize = 65536;
/// Leaves that one walk passes.
const MAX_LEAVES: usize = 100_000;
/// Nodes kept, those that were asked for last, so that the upper ones are read once.
const MAX_HELD: usize = 24;
/// Profiles whose stripes each hold the whole: a second copy on the same device.
const PROFILE_DUP: u64 = 1 << 5;
const PROFILES: u64 = 0x7f8;

/// A tree: where its root is, and the inode of its top folder.
#[derive(Clone, Copy, Debug)]
pub(super) struct TreeRoot {
    pub(super) at: u64,
    pub(super) level: u8,
    pub(super) folder: u64,
    /// The subvolume's number; 0 for the volume's own trees.
    pub(super) number: u64,
}

/// A stretch of logical addresses and where it lies on the device.
#[derive(Clone, Debug)]
struct Chunk {
    start: u64,
    length: u64,
    /// Offsets in bytes; more than one where the chunk is there twice.
    copies: Vec<u64>,
}

/// The trees of a volume.
pub(super) struct Forest {
    pub(super) device: SharedDevice,
    pub(super) superblock: Superblock,
    pub(super) roots: TreeRoot,
    chunks: Vec<Chunk>,
    held: RefCell<Vec<(u64, Rc<Vec<u8>>)>>,
}

impl Forest {
    pub(super) fn open(device: SharedDevice) -> Result<Self, VolumeError> {
        let bytes = read_vec(device.as_ref(), Superblock::OFFSET, Superblock::LENGTH)?;
        let superblock = Superblock::decode(&bytes)?;
        let none = TreeRoot { at: superblock.root, level: MAX_LEVEL, folder: 0, number: 0 };
        let mut forest =
            Self { device, superblock, roots: none, chunks: Vec::new(), held: RefCell::default() };
        forest.take_system_chunks()?;
        forest.take_chunks()?;
        Ok(forest)
    }

    /// The chunks that the superblock itself lists: keys and items in turn.
    fn take_system_chunks(&mut self) -> Result<(), VolumeError> {
        let array = self.superblock.system_chunks.clone();
        let mut at = 0usize;
        while at < array.len() {
            let missing = || short("btrfs list of system chunks");
            let key = Key::decode(&array, at).ok_or_else(missing)?;
            let item = at.checked_add(KEY_LENGTH).and_then(|at| array.get(at..)).ok_or_else(missing)?;
            self.take_chunk(key, item)?;
            let stripes = usize::from(le16(item, 44).ok_or_else(missing)?);
            at = at.saturating_add(KEY_LENGTH).saturating_add(48).saturating_add(stripes.saturating_mul(32));
        }
        Ok(())
    }

    fn take_chunks(&mut self) -> Result<(), VolumeError> {
        let tree = TreeRoot { at: self.superblock.chunk_root, level: MAX_LEVEL, folder: 0, number: 0 };
        let mut found = Vec::new();
        self.walk(tree, Key { object: 0, kind: 0, offset: 0 }, &mut |key, bytes| {
            if key.kind == kind::CHUNK_ITEM {
                found.push((key, bytes.to_vec()));
            }
            found.len() < MAX_CHUNKS
        })?;
        self.chunks.clear();
        for (key, bytes) in found {
            self.take_chunk(key, &bytes)?;
        }
        self.chunks.sort_unstable_by_key(|chunk| chunk.start);
        Ok(())
    }

    fn take_chunk(&mut self, key: Key, item: &[u8]) -> Result<(), VolumeError> {
        let missing = || short("btrfs chunk");
        let profile = le64(item, 24).ok_or_else(missing)? & PROFILES;
        if profile & !PROFILE_DUP != 0 {
            return Err(VolumeError::Unsupported(format!("btrfs with a chunk of profile {profile:#x}")));
        }
        let count = if profile & PROFILE_DUP != 0 { 2usize } else { 1 };
        let mut copies = Vec::new();
        for stripe in item.get(48..).unwrap_or_default().as_chunks::<32>().0.iter().take(count) {
            copies.push(le64(stripe, 8).ok_or_else(missing)?);
        }
        let length = le64(item, 0).ok_or_else(missing)?;
        self.chunks.push(Chunk { start: key.offset, length, copies });
        Ok(())
    }

    /// Where a logical stretch lies on the device, every copy of it, as far as one chunk holds it; and how many
    /// bytes that are.
    pub(super) fn locate(&self, logical: u64, length: u64) -> Result<(Vec<u64>, u64), VolumeError> {
        let holds =
            |chunk: &&Chunk| logical.checked_sub(chunk.start).is_some_and(|within| within < chunk.length);
        let chunk =
            self.chunks.iter().find(holds).ok_or_else(|| {
                VolumeError::Corrupt(format!("btrfs: no chunk holds the address {logical:#x}"))
            })?;
        let within = logical.saturating_sub(chunk.start);
        let copies = chunk.copies.iter().map(|copy| copy.saturating_add(within)).collect();
        Ok((copies, length.min(chunk.length.saturating_sub(within))))
    }

    /// The node at a logical address: its first copy that holds.
    fn node(&self, logical: u64) -> Result<Rc<Vec<u8>>, VolumeError> {
        let mut held = self.held.borrow_mut();
        if let Some(index) = held.iter().position(|(at, _)| *at == logical) {
            let found = held.remove(index);
            let node = found.1.clone();
            held.push(found);
            return Ok(node);
        }
        drop(held);
        let size = self.superblock.node_size;
        let (copies, there) = self.locate(logical, u64::try_from(size).unwrap_or(u64::MAX))?;
        let mut fault =
            VolumeError::Corrupt(format!("btrfs: the node at {logical:#x} reaches past its chunk"));
        for copy in copies.into_iter().filter(|_| len(there) == size) {
            match read_vec(self.device.as_ref(), copy, size) {
                Ok(bytes)
                    if checksum_holds(&bytes, self.superblock.checksum_kind)
                        && le64(&bytes, 48) == Some(logical) =>
                {
                    let node = Rc::new(bytes);
                    let mut held = self.held.borrow_mut();
                    if held.len() >= MAX_HELD {
                        held.remove(0);
                    }
                    held.push((logical, node.clone()));
                    return Ok(node);
                }
                Ok(_) => {
                    fault = VolumeError::Corrupt(format!(
                        "btrfs: the node at {logical:#x} (byte {copy}) does not fit its checksum or its place"
                    ));
                }
                Err(error) => fault = error.into(),
            }
        }
        Err(fault)
    }

    /// The item of exactly this key.
    pub(super) fn find(&self, tree: TreeRoot, key: Key) -> Result<Option<Vec<u8>>, VolumeError> {
        let mut found = None;
        self.walk(tree, key, &mut |there, bytes| {
            if there == key {
                found = Some(bytes.to_vec());
            }
            false
        })?;
        Ok(found)
    }

    /// Hands every item from `from` on to `visit`, in order, until that says `false`.
    pub(super) fn walk(
        &self,
        tree: TreeRoot,
        from: Key,
        visit: &mut dyn FnMut(Key, &[u8]) -> bool,
    ) -> Result<(), VolumeError> {
        let mut leaves = 0;
        self.descend(tree.at, tree.level, from, &mut leaves, visit).map(|_| ())
    }

    /// Walks below one node; whether to go on. Bounded: levels go down, leaves are counted.
    fn descend(
        &self,
        at: u64,
        most_level: u8,
        from: Key,
        leaves: &mut usize,
        visit: &mut dyn FnMut(Key, &[u8]) -> bool,
    ) -> Result<bool, VolumeError> {
        let corrupt = |what: &str| VolumeError::Corrupt(format!("btrfs: the node at {at:#x} {what}"));
        let node = self.node(at)?;
        let level = *node.get(100).ok_or_else(|| corrupt("is short"))?;
        if level > most_level {
            return Err(corrupt("is of an impossible level"));
        }
        let count = len(le32(&node, 96).ok_or_else(|| corrupt("is short"))?);
        let items = node.get(HEADER..).unwrap_or_default();
        if level > 0 {
            let links = items.as_chunks::<33>().0;
            let links =
                links.get(..count).ok_or_else(|| corrupt("claims more links than it has room for"))?;
            let key = |link: &[u8; 33]| Key::decode(link, 0).unwrap_or(from);
            // The last child that starts at or before the key may hold it.
            let first = links.partition_point(|link| key(link) <= from).saturating_sub(1);
            for link in links.get(first..).unwrap_or_default() {
                let child = le64(link, KEY_LENGTH).ok_or_else(|| corrupt("is short"))?;
                if !self.descend(child, level.saturating_sub(1), from, leaves, visit)? {
                    return Ok(false);
                }
            }
            return Ok(true);
        }
        *leaves = leaves.saturating_add(1);
        if *leaves > MAX_LEAVES {
            return Err(VolumeError::Unsupported(format!(
                "btrfs: more than {MAX_LEAVES} leaves in one walk"
            )));
        }
        let heads = items.as_chunks::<25>().0;
        let heads = heads.get(..count).ok_or_else(|| corrupt("claims more items than it has room for"))?;
        let first = heads.partition_point(|head| Key::decode(head, 0).is_some_and(|key| key < from));
        for head in heads.get(first..).unwrap_or_default() {
            let (Some(key), Some(offset), Some(size)) =
                (Key::decode(head, 0), le32(head, 17), le32(head, 21))
            else {
                return Err(corrupt("is short"));
            };
            let item = items.get(len(offset)..).and_then(|rest| rest.get(..len(size)));
            let item = item.ok_or_else(|| corrupt("has an item that lies outside of it"))?;
            if !visit(key, item) {
                return Ok(false);
            }
        }
        Ok(true)
    }
}
