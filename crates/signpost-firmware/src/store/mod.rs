//! Stores of variables: in memory, as the Linux kernel shows them in files, and the `.fd` image of the
//! open-source firmware for virtual machines.

pub mod fd;
pub mod kernel_file;
mod memory;

pub use memory::MemoryStore;
