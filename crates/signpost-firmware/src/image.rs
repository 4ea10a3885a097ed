//! What firmware can start: PE/COFF programs, their version resource, and Linux kernels.

pub mod linux;
pub mod pe;
pub mod version_resource;
