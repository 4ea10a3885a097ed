//! FAT12, FAT16 and FAT32 (Microsoft's "FAT: General Overview of On-Disk Format", 1.03; file names as in its
//! long-name specification).

mod folder;
mod geometry;
#[cfg(test)]
mod tests;
mod volume;
mod whole;
mod write;

pub use folder::Stamp;
pub use geometry::{FatType, Geometry};
pub use volume::FatVolume;
pub(crate) use volume::identify;
pub use write::Change;
