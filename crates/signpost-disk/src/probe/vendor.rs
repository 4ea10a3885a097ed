//! File systems that come with closed systems.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use md5::{Digest, Md5};

use super::head::Head;
use crate::bytes::{be16, be32, le16, le32, le64, len, uuid_at, uuid_text};
use crate::identity::{Identity, VolumeKind};
use crate::ntfs::{self, Geometry};
use crate::text::{fixed_text, utf16_text};

/// Clusters of a folder that are looked through for a label.
const MAX_CLUSTERS: usize = 64;
/// Volumes of one container that are named.
const MAX_VOLUMES: usize = 32;

/// NTFS by its boot sector, and what vendor encryption puts in its place.
pub(super) fn ntfs(head: &Head<'_>) -> Option<Identity> {
    if head.has(3, b"-FVE-FS-") {
        return Some(Identity::of_kind(VolumeKind::EncryptedNtfs));
    }
    let sector = head.bytes(0, 512).filter(|bytes| bytes.get(3..11) == Some(b"NTFS    "))?;
    // Where numbers of FATs and of reserved sectors stand, it is one of FAT whose maker chose this name.
    if le16(&sector, 0x0e)? != 0 || sector.get(0x10) != Some(&0) {
        return None;
    }
    let geometry = Geometry::read(&sector);
    let serial = le64(&sector, 0x48)?;
    let mut identity = Identity::named(VolumeKind::Ntfs, None, Some(format!("{serial:016X}")));
    // The record of `$Volume`, the fourth of the master file table.
    let record = geometry.and_then(|geometry| {
        let at = geometry.table.checked_add(geometry.record_size.checked_mul(3)?)?;
        ntfs::Record::decode(head.bytes(at, len(geometry.record_size))?.into_owned())
    });
    if let Some(record) = record {
        (identity.label, identity.is_unclean) = ntfs::label(&record);
    }
    Some(identity)
}

/// exFAT (its specification, 3.1 and 7.3).
pub(super) fn exfat(head: &Head<'_>) -> Option<Identity> {
    let sector = head.bytes(0, 512).filter(|bytes| bytes.get(3..11) == Some(b"EXFAT   "))?;
    let serial = le32(&sector, 100)?;
    let uuid = Some(format!("{:04X}-{:04X}", serial >> 16, serial & 0xffff));
    let mut identity = Identity::named(VolumeKind::ExFat, exfat_label(head, &sector), uuid);
    // `VolumeDirty`.
    identity.is_unclean = le16(&sector, 106)? & 2 != 0;
    Some(identity)
}

/// The label, a directory entry of type 0x83 in the root folder.
fn exfat_label(head: &Head<'_>, sector: &[u8]) -> Option<String> {
    let sector_shift = u32::from(*sector.get(108)?);
    let cluster_shift =
        sector_shift.checked_add(u32::from(*sector.get(109)?)).filter(|shift| *shift <= 25)?;
    let (fat, heap) = (u64::from(le32(sector, 80)?), u64::from(le32(sector, 88)?));
    let mut cluster = le32(sector, 96)?;
    for _ in 0..MAX_CLUSTERS {
        let within = u64::from(cluster.checked_sub(2)?).checked_shl(cluster_shift)?;
        let at = heap.checked_shl(sector_shift)?.checked_add(within)?;
        let size = 1usize.checked_shl(cluster_shift)?.min(65536);
        let folder = head.bytes(at, size)?;
        for entry in folder.as_chunks::<32>().0 {
            match entry.first()? {
                0x83 => {
                    let units = usize::from(*entry.get(1)?).min(11);
                    return utf16_text(entry.get(2..)?.get(..units.checked_mul(2)?)?, u16::from_le_bytes);
                }
                0 => return None,
                _ => {}
            }
        }
        let link = fat.checked_shl(sector_shift)?.checked_add(u64::from(cluster).checked_mul(4)?)?;
        cluster = le32(&head.bytes(link, 4)?, 0).filter(|next| *next < 0xffff_fff7)?;
    }
    None
}

/// HFS+ and HFSX (Apple's technical note 1150, "Volume Header"; numbers are big-endian).
pub(super) fn hfs_plus(head: &Head<'_>) -> Option<Identity> {
    let header = head.bytes(1024, 512)?;
    if !(header.starts_with(b"H+\0\x04") || header.starts_with(b"HX\0\x05")) {
        return None;
    }
    let uuid = header.get(104..112).filter(|id| id.iter().any(|byte| *byte != 0)).map(hfs_uuid);
    let mut identity = Identity::named(VolumeKind::HfsPlus, hfs_label(head, &header), uuid);
    // `kHFSVolumeUnmountedBit`.
    identity.is_unclean = be32(&header, 4)? & 0x100 == 0;
    Some(identity)
}

/// A volume's identifier of eight bytes as a UUID by name (RFC 9562, 5.3), in the space its vendor chose.
fn hfs_uuid(id: &[u8]) -> String {
    const SPACE: [u8; 16] =
        [0xb3, 0xe2, 0x0f, 0x39, 0xf2, 0x92, 0x11, 0xd6, 0x97, 0xa4, 0x00, 0x30, 0x65, 0x43, 0xec, 0xac];
    let mut uuid: [u8; 16] = Md5::new().chain_update(SPACE).chain_update(id).finalize().into();
    uuid[6] = 0x30 | (uuid[6] & 0x0f);
    uuid[8] = 0x80 | (uuid[8] & 0x3f);
    uuid_text(&uuid)
}

/// The label: the name in the first record of the catalogue file, whose parent is the root's.
fn hfs_label(head: &Head<'_>, header: &[u8]) -> Option<String> {
    let block_size = u64::from(be32(header, 40)?);
    let catalogue = u64::from(be32(header, 288)?).checked_mul(block_size)?;
    let tree = head.bytes(catalogue, 64)?;
    let (first_leaf, node_size) = (u64::from(be32(&tree, 24)?), u64::from(be16(&tree, 32)?));
    let leaf = head.bytes(catalogue.checked_add(first_leaf.checked_mul(node_size)?)?, 544)?;
    // Kind -1 is a leaf; the key has a length, a parent, and a name of counted units.
    if *leaf.get(8)? != 0xff || be32(&leaf, 16)? != 1 {
        return None;
    }
    let units = usize::from(be16(&leaf, 20)?).min(255);
    utf16_text(leaf.get(22..)?.get(..units.checked_mul(2)?)?, u16::from_be_bytes)
}

/// APFS (Apple's "File System Reference", `nx_superblock_t`).
pub(super) fn apfs(head: &Head<'_>) -> Option<Identity> {
    let superblock = head.bytes(0, 4096).filter(|bytes| bytes.get(32..36) == Some(b"NXSB"))?;
    let mut identity = Identity::named(VolumeKind::Apfs, None, uuid_at(&superblock, 72));
    identity.inside = apfs_volumes(head, &superblock).unwrap_or_default();
    Some(identity)
}

/// Names of the volumes, by way of the container's object map; only a map of one node is looked at, which
/// holds for containers with fewer volumes than a node has room for.
fn apfs_volumes(head: &Head<'_>, superblock: &[u8]) -> Option<Vec<String>> {
    let block_size = u64::from(le32(superblock, 36)?);
    if !(4096..=65536).contains(&block_size) {
        return None;
    }
    let block = |number: u64| head.bytes(number.checked_mul(block_size)?, len(block_size));
    let map = block(le64(superblock, 160)?)?;
    let node = block(le64(&map, 48)?)?;
    // `btree_node_phys_t`: flags, level, count of keys, place of the table of contents behind a header of 56.
    let (flags, count) = (le16(&node, 32)?, len(le32(&node, 36)?));
    let (toc_at, toc_length) = (usize::from(le16(&node, 40)?), usize::from(le16(&node, 42)?));
    // A leaf with keys and values of fixed size.
    if flags & 0b110 != 0b110 {
        return None;
    }
    let values_end = len(block_size).checked_sub(if flags & 1 != 0 { 40 } else { 0 })?;
    let toc = node.get(56usize.checked_add(toc_at)?..)?.as_chunks::<4>().0;
    let mut names = Vec::new();
    for entry in toc.iter().take(count.min(toc_length).min(MAX_VOLUMES)) {
        let value = values_end.checked_sub(usize::from(le16(entry, 2)?))?;
        let Some(volume) = block(le64(&node, value.checked_add(8)?)?) else { continue };
        if volume.get(32..36) == Some(b"APSB") {
            names.extend(volume.get(704..960).and_then(fixed_text));
        }
    }
    Some(names)
}
