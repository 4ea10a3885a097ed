//! Disks that we may not read, as the device manager describes them to everybody.

use signpost_disk::mbr::MbrType;
use signpost_disk::probe::{Identity, VolumeKind};
use signpost_disk::purpose::Purpose;
use signpost_disk::table::{Table, TableEntry, TableKind};
use signpost_disk::{Guid, volumes};

use super::block::{BlockNode, PartitionNode, Properties};

/// The disk with its partitions and what each is; `None` where nothing describes it.
pub fn disk(node: &BlockNode) -> Option<volumes::Disk> {
    let kind = match property(&node.properties, "ID_PART_TABLE_TYPE").as_deref() {
        Some("gpt") => TableKind::Gpt,
        Some("dos") => TableKind::Mbr,
        _ => TableKind::None,
    };
    let mut table = Table::new(kind);
    let own = property(&node.properties, "ID_PART_TABLE_UUID");
    table.guid = own.as_ref().and_then(|own| Guid::try_parse(own).ok());
    table.signature =
        own.filter(|_| kind == TableKind::Mbr).and_then(|own| u32::from_str_radix(&own, 16).ok());
    table.partitions = node.partitions.iter().map(|part| entry(part, kind)).collect();
    let parts =
        node.partitions.iter().enumerate().map(|(index, part)| (Some(index), identity(&part.properties)));
    let mut parts: Vec<_> = parts.collect();
    if parts.is_empty() {
        parts.push((None, identity(&node.properties)));
    }
    let is_known = kind != TableKind::None || node.properties.contains_key("ID_FS_TYPE");
    is_known.then(|| volumes::Disk::described(node.sector_size, table, parts))
}

fn entry(part: &PartitionNode, kind: TableKind) -> TableEntry {
    let type_text = property(&part.properties, "ID_PART_ENTRY_TYPE").unwrap_or_default();
    let purpose = match kind {
        TableKind::Gpt => Purpose::Gpt(Guid::try_parse(&type_text).unwrap_or(Guid::ZERO)),
        _ => Purpose::Mbr(MbrType(u8::from_str_radix(type_text.trim_start_matches("0x"), 16).unwrap_or(0))),
    };
    let is_container = purpose.is_extended();
    let uuid = property(&part.properties, "ID_PART_ENTRY_UUID");
    TableEntry {
        unseen: None,
        number: part.number,
        firmware_number: part.number,
        purpose,
        start: part.start,
        size: part.size,
        guid: uuid.as_ref().and_then(|uuid| Guid::try_parse(uuid).ok()),
        uuid,
        name: property(&part.properties, "ID_PART_ENTRY_NAME").unwrap_or_default(),
        is_active: property(&part.properties, "ID_PART_ENTRY_FLAGS").as_deref() == Some("0x80"),
        is_container,
        slice: None,
        chs: None,
    }
}

/// What a volume is, by the type and version that the device manager took from it.
pub fn identity(properties: &Properties) -> Identity {
    let version = property(properties, "ID_FS_VERSION").unwrap_or_default();
    let kind = match property(properties, "ID_FS_TYPE").unwrap_or_default().as_str() {
        "vfat" if version == "FAT12" => VolumeKind::Fat12,
        "vfat" if version == "FAT16" => VolumeKind::Fat16,
        "vfat" => VolumeKind::Fat32,
        "ext2" => VolumeKind::Ext2,
        "ext3" => VolumeKind::Ext3,
        "ext4" => VolumeKind::Ext4,
        "xfs" => VolumeKind::Xfs,
        "btrfs" => VolumeKind::Btrfs,
        "ntfs" => VolumeKind::Ntfs,
        "exfat" => VolumeKind::ExFat,
        "f2fs" => VolumeKind::F2fs,
        "swap" => VolumeKind::Swap,
        "LVM2_member" => VolumeKind::Lvm2,
        "crypto_LUKS" if version == "1" => VolumeKind::Luks1,
        "crypto_LUKS" => VolumeKind::Luks2,
        "linux_raid_member" => VolumeKind::MdRaid,
        "iso9660" => VolumeKind::Iso9660,
        "udf" => VolumeKind::Udf,
        "squashfs" => VolumeKind::Squashfs,
        "erofs" => VolumeKind::Erofs,
        "ufs" => VolumeKind::Ufs2,
        "hfsplus" => VolumeKind::HfsPlus,
        "apfs" => VolumeKind::Apfs,
        "zfs_member" => VolumeKind::Zfs,
        _ => VolumeKind::Unknown,
    };
    Identity {
        label: property(properties, "ID_FS_LABEL_ENC").or_else(|| property(properties, "ID_FS_LABEL")),
        uuid: property(properties, "ID_FS_UUID"),
        ..Identity::of_kind(kind)
    }
}

/// A property; bytes that would trouble its file stand in it as `\\x20`.
fn property(properties: &Properties, key: &str) -> Option<String> {
    let value = properties.get(key).filter(|value| !value.is_empty())?;
    let mut parts = value.split("\\x");
    let mut bytes: Vec<u8> = parts.next().unwrap_or_default().as_bytes().to_vec();
    for part in parts {
        let byte = part.get(..2).and_then(|digits| u8::from_str_radix(digits, 16).ok());
        match byte {
            Some(byte) => {
                bytes.push(byte);
                bytes.extend(&part.as_bytes()[2..]);
            }
            None => bytes.extend(format!("\\x{part}").bytes()),
        }
    }
    Some(String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escaped_values_are_read() {
        let properties =
            Properties::from([("A".into(), "EFI\\x20system\\x2".into()), ("B".into(), String::new())]);
        assert_eq!(property(&properties, "A").as_deref(), Some("EFI system\\x2"));
        assert_eq!(property(&properties, "B"), None);
        assert_eq!(property(&properties, "C"), None);
    }
}
