//! ext2, ext3 and ext4 (the Linux kernel's document "ext4 Data Structures and Algorithms", "Super Block").
//!
//! Files and folders of all its forms are read by our own reader. What a journal holds back is taken in by the crate
//! `ext4-view`; the superblock is checked first, so that no number in it sizes anybody's memory.

#[cfg(feature = "ext")]
mod folder;
#[cfg(feature = "ext")]
mod inode;
#[cfg(feature = "ext")]
mod layout;
#[cfg(feature = "ext")]
mod nodes;
mod superblock;
#[cfg(feature = "ext")]
mod volume;

pub use superblock::Superblock;
#[cfg(feature = "ext")]
pub use volume::ExtVolume;

#[cfg(all(test, feature = "ext"))]
mod tests {
    use alloc::sync::Arc;
    use alloc::vec;
    use alloc::vec::Vec;

    use super::superblock::MAGIC;
    use super::*;
    use crate::block::SharedDevice;
    use crate::error::VolumeError;
    use crate::identity::VolumeKind;

    /// A superblock whose numbers fit a volume of 64 blocks of 1 KiB.
    fn volume() -> Vec<u8> {
        let mut bytes = vec![0; 64 * 1024];
        let mut put = |offset: usize, value: u32| {
            bytes[1024 + offset..1024 + offset + 4].copy_from_slice(&value.to_le_bytes());
        };
        for (offset, value) in [(0, 16), (4, 64), (20, 1), (32, 8192), (40, 16), (76, 1), (88, 128)] {
            put(offset, value);
        }
        bytes[1024 + 56..1024 + 58].copy_from_slice(&MAGIC.to_le_bytes());
        bytes[1024 + 104..1024 + 120].copy_from_slice(&[0x5c; 16]);
        bytes[1024 + 120..1024 + 126].copy_from_slice("Ebbe\0x".as_bytes());
        bytes
    }

    #[test]
    fn identity_is_read() {
        let identity = Superblock::read(&volume()).unwrap().unwrap().identity();
        assert_eq!(identity.kind, VolumeKind::Ext2);
        assert_eq!(identity.label.as_deref(), Some("Ebbe"));
        assert_eq!(identity.uuid.as_deref(), Some("5c5c5c5c-5c5c-5c5c-5c5c-5c5c5c5c5c5c"));
        assert_eq!(Superblock::read(&vec![0; 4096]), Ok(None));
        assert_eq!(Superblock::read(&vec![]), Ok(None));
    }

    #[test]
    fn each_lie_is_named_before_anything_is_read_by_it() {
        let cases = [
            (4, 65, "s_blocks_count"),
            (4, 0, "s_blocks_count"),
            (24, 40, "s_log_block_size"),
            (32, 1, "s_blocks_per_group"),
            (32, 0xffff_ffff, "s_blocks_per_group"),
            (40, 0, "s_inodes_per_group"),
            (88, 100, "s_inode_size"),
        ];
        for (offset, value, field) in cases {
            let mut bytes = volume();
            bytes[1024 + offset..1024 + offset + 4].copy_from_slice(&u32::to_le_bytes(value));
            let device: SharedDevice = Arc::new(bytes);
            match ExtVolume::open(&device) {
                Err(VolumeError::Corrupt(what)) => assert!(what.contains(field), "{what}"),
                other => panic!("{field} = {value}: {:?}", other.err()),
            }
        }
    }
}
