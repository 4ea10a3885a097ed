//! Whose word counts for a system. Names are free for anybody to write on a stick; what is offered for a system comes from
//! its own volumes, else from its own disk, else from another fixed disk, and never from one that can be taken along.

/// How near a volume stands to a system; the nearest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Standing {
    /// It is its root, or its `/etc/fstab` mounts it.
    Own,
    /// It lies on the same disk.
    SameDisk,
    /// It lies on another fixed disk.
    OtherDisk,
}

impl Standing {
    /// That of a volume: whether the system has or mounts it, whether it shares a disk with it, and whether all its disks
    /// decide what the machine starts. `None` where nothing of it is the system's.
    pub fn of(is_own: bool, shares_a_disk: bool, takes_part: bool) -> Option<Self> {
        match (is_own, shares_a_disk) {
            (_, false) if !takes_part => None,
            (true, _) => Some(Self::Own),
            (false, true) => Some(Self::SameDisk),
            (false, false) => Some(Self::OtherDisk),
        }
    }
}
