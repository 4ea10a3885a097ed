//! What the mkfs tools make and `blkid` prints is the reference for what we read.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod btrfs;
mod fat_ext;
mod harness;
mod identities;
mod iso_ntfs;
mod lvm;
mod mirrors;
mod tables;
mod xfs;
