//! NTFS, by names of structures as the NTFS documentation of the Linux-NTFS project has them: `$Boot`, file records,
//! attributes, `$INDEX_ROOT` and `$INDEX_ALLOCATION`.

mod attribute;
mod geometry;
#[cfg(feature = "ntfs")]
mod index;
mod record;
#[cfg(feature = "ntfs")]
mod volume;

pub(crate) use geometry::Geometry;
pub(crate) use record::{Record, label};
#[cfg(feature = "ntfs")]
pub(crate) use volume::NtfsVolume;
