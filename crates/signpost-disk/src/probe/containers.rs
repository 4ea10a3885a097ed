//! What is not a volume at all: disks of virtual machines in containers, and disk labels of other computers. They are named for
//! what they are, and not looked into.

use super::head::Head;
use crate::bytes::{be16, be32};
use crate::identity::{Identity, VolumeKind};

/// The first word of an SGI volume header.
const SGI_MAGIC: u32 = 0x0be5_a941;
/// The word before the checksum of a Sun label.
const SUN_MAGIC: u16 = 0xdabe;

pub(super) fn containers(head: &Head<'_>) -> Option<Identity> {
    let starts = |mark: &[u8]| head.bytes(0, mark.len()).is_some_and(|start| *start == *mark);
    let kind = if starts(b"QFI\xfb") {
        VolumeKind::Qcow2
    } else if starts(b"KDMV") || starts(b"# Disk DescriptorFile") {
        VolumeKind::Vmdk
    } else if starts(b"vhdxfile") {
        VolumeKind::Vhdx
    } else if starts(b"conectix") {
        VolumeKind::Vhd
    } else if starts(b"<<< ") && head.bytes(64, 4).is_some_and(|mark| *mark == [0x7f, 0x10, 0xda, 0xbe]) {
        VolumeKind::Vdi
    } else if head.array::<4>(0).is_some_and(|start| be32(&start, 0) == Some(SGI_MAGIC)) {
        VolumeKind::SgiLabel
    } else if starts(b"ER") && head.has(512, b"PM") {
        VolumeKind::AppleMap
    } else if is_sun(head) {
        VolumeKind::SunLabel
    } else {
        return None;
    };
    Some(Identity::of_kind(kind))
}

/// All words of a Sun label together make nothing.
fn is_sun(head: &Head<'_>) -> bool {
    let Some(sector) = head.bytes(0, 512) else { return false };
    let words = (0..256usize).filter_map(|index| be16(&sector, index.checked_mul(2)?));
    be16(&sector, 508) == Some(SUN_MAGIC) && words.fold(0, |sum, word| sum ^ word) == 0
}

#[cfg(test)]
mod tests {
    use alloc::vec;
    use alloc::vec::Vec;

    use crate::probe::{VolumeKind, identify};

    fn kind(marks: &[(usize, &[u8])]) -> VolumeKind {
        let mut disk: Vec<u8> = vec![0; 1 << 20];
        marks.iter().for_each(|(at, mark)| disk[*at..at + mark.len()].copy_from_slice(mark));
        identify(&disk).0.kind
    }

    #[test]
    fn each_is_told_by_its_mark() {
        for (mark, expected) in [
            (&b"QFI\xfb\0\0\0\x03"[..], VolumeKind::Qcow2),
            (b"KDMV\x01\0\0\0", VolumeKind::Vmdk),
            (b"# Disk DescriptorFile\n", VolumeKind::Vmdk),
            (b"vhdxfile", VolumeKind::Vhdx),
            (b"conectix", VolumeKind::Vhd),
            (b"\x0b\xe5\xa9\x41", VolumeKind::SgiLabel),
            (b"QFI", VolumeKind::Unknown),
        ] {
            assert_eq!(kind(&[(0, mark)]), expected);
        }
        assert_eq!(kind(&[(0, b"<<< made by hand >>>"), (64, b"\x7f\x10\xda\xbe")]), VolumeKind::Vdi);
        assert_eq!(kind(&[(0, b"ER\x02\0"), (512, b"PM\0\0")]), VolumeKind::AppleMap);
        // The checksum is the last word, over all before it.
        assert_eq!(kind(&[(0, b"SU"), (508, b"\xda\xbe"), (510, b"\x89\xeb")]), VolumeKind::SunLabel);
        assert_eq!(kind(&[(0, b"SU"), (508, b"\xda\xbe"), (510, b"\x00\x00")]), VolumeKind::Unknown);
    }
}
