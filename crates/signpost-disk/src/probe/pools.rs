//! Volumes that others are made of: RAID members, physical volumes, encrypted containers.

use alloc::format;
use alloc::string::String;

use super::head::Head;
use crate::bytes::{be16, le32};
use crate::identity::{Identity, VolumeKind};
use crate::text::fixed_text;
use crate::{lvm, md};

/// A member of a Linux RAID.
pub(super) fn md_raid(head: &Head<'_>) -> Option<Identity> {
    let member = md::Superblock::find(head.device, |offset, length| head.bytes(offset, length))?;
    Some(Identity::named(VolumeKind::MdRaid, member.name, Some(member.set_uuid)))
}

/// LUKS (its "On-Disk Format Specification", versions 1 and 2; numbers are big-endian).
pub(super) fn luks(head: &Head<'_>) -> Option<Identity> {
    let header = head.bytes(0, 208).filter(|bytes| bytes.starts_with(b"LUKS\xba\xbe"))?;
    let uuid = header.get(168..208).and_then(fixed_text);
    match be16(&header, 6)? {
        1 => Some(Identity::named(VolumeKind::Luks1, None, uuid)),
        _ => {
            let label = header.get(24..72).and_then(fixed_text);
            Some(Identity::named(VolumeKind::Luks2, label, uuid))
        }
    }
}

/// A physical volume of LVM2: its label lies in one of the first four sectors.
pub(super) fn lvm2(head: &Head<'_>) -> Option<Identity> {
    let label = lvm::label(|offset| head.bytes(offset, 512))?;
    let at = usize::try_from(le32(&label, 20)?).ok()?;
    let uuid = label.get(at..at.checked_add(32)?).and_then(|bytes| core::str::from_utf8(bytes).ok());
    Some(Identity::named(VolumeKind::Lvm2, None, uuid.map(dashed)))
}

/// A UUID of LVM2's with the dashes it is shown with.
fn dashed(uuid: &str) -> String {
    let mut text = String::new();
    for (index, c) in uuid.chars().enumerate() {
        let dash = if matches!(index, 6 | 10 | 14 | 18 | 22 | 26) { "-" } else { "" };
        text.push_str(&format!("{dash}{c}"));
    }
    text
}
