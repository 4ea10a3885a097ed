//! What stands against reading a volume.

use alloc::string::String;

use crate::block::ReadError;

/// Why a volume could not be read: whose fault it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum VolumeError {
    /// The disk beneath did not give the bytes.
    #[error("{0}")]
    Device(#[from] ReadError),
    /// We cannot read this; it need not be broken.
    #[error("cannot be read by this program: {0}")]
    Unsupported(String),
    /// It is broken.
    #[error("broken: {0}")]
    Corrupt(String),
    /// Nothing stands at this path.
    #[error("there is no {0}")]
    NotFound(String),
    /// A folder was asked for, this is none; or the other way round.
    #[error("{path} is {found}")]
    WrongKind {
        /// The path.
        path: String,
        /// What it is instead.
        found: &'static str,
    },
    /// Longer than what was asked for.
    #[error("{path} is longer than {most} bytes")]
    TooLarge {
        /// The path.
        path: String,
        /// Bytes allowed.
        most: usize,
    },
    /// There is not memory enough for it.
    #[error("there is not enough memory for {path}, which takes {} MiB", bytes.div_ceil(1 << 20))]
    NoMemory {
        /// The path.
        path: String,
        /// Bytes wanted.
        bytes: usize,
    },
}
