//! The numbers of volumes, `v1` and on: the same at the desk and at boot.

use alloc::vec::Vec;

use uguid::Guid;

/// What orders a disk among others.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum DiskIdentity {
    /// GPT: the disk's GUID, its bytes in the order of its text.
    Guid([u8; 16]),
    /// MBR: the disk's signature.
    Signature(u32),
    /// No identity: by the place at which the machine lists it.
    Place(usize),
}

impl DiskIdentity {
    /// The identity of a GPT disk.
    pub fn gpt(guid: Guid) -> Self {
        let mut bytes = guid.to_bytes();
        // Its first three fields are little-endian, and its text is not.
        let [a, b, c, d, e, f, g, h, ..] = &mut bytes;
        core::mem::swap(a, d);
        core::mem::swap(b, c);
        core::mem::swap(e, f);
        core::mem::swap(g, h);
        Self::Guid(bytes)
    }
}

/// One volume to be numbered.
#[derive(Clone, Debug)]
pub struct Numbered {
    /// Its disk's place in the machine's own list.
    pub disk: usize,
    /// Its disk's identity.
    pub identity: DiskIdentity,
    /// Where it starts, in bytes.
    pub start: u64,
}

/// The volumes' order: disks by identity, volumes by their start. Gives the index of each volume, `v1` first.
pub fn order(volumes: &[Numbered]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..volumes.len()).collect();
    order.sort_by_cached_key(|index| {
        volumes.get(*index).map(|volume| {
            // Clones share an identity: their place in the machine's list decides between them.
            (volume.identity, volume.disk, volume.start, *index)
        })
    });
    order
}

#[cfg(test)]
mod tests {
    use super::*;
    use uguid::guid;

    #[test]
    fn identity_first_then_start() {
        // By their text, not by their bytes on the disk.
        let low = DiskIdentity::gpt(guid!("00000002-0000-4000-8000-000000000001"));
        let high = DiskIdentity::gpt(guid!("01000000-0000-4000-8000-000000000001"));
        let volume = |disk, identity: &DiskIdentity, start| Numbered { disk, identity: *identity, start };
        let volumes = [
            volume(0, &high, 9),
            volume(0, &high, 1),
            volume(1, &low, 5),
            volume(2, &DiskIdentity::Place(2), 0),
        ];
        assert_eq!(order(&volumes), [2, 1, 0, 3]);
    }
}
