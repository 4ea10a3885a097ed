//! UEFI variables (UEFI 2.10, 8.2) and the one trait behind which every store of them stands.

use alloc::string::String;
use alloc::vec::Vec;
use core::fmt;

use uguid::{Guid, guid};

/// `EFI_GLOBAL_VARIABLE`: the vendor of boot order, load options and their like (UEFI 2.10, 3.3).
pub const GLOBAL_VARIABLE: Guid = guid!("8be4df61-93ca-11d2-aa0d-00e098032b8c");

bitflags::bitflags! {
    /// Attributes of a variable (UEFI 2.10, 8.2.1); unknown bits are kept.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub struct Attributes: u32 {
        /// Survives a power cycle.
        const NON_VOLATILE = 0x1;
        /// Seen before the system takes over.
        const BOOTSERVICE_ACCESS = 0x2;
        /// Seen by the running system.
        const RUNTIME_ACCESS = 0x4;
        const _ = !0;
    }
}

impl Attributes {
    /// What load options and the boot order carry.
    pub const BOOT: Self = Self::NON_VOLATILE.union(Self::BOOTSERVICE_ACCESS).union(Self::RUNTIME_ACCESS);
}

/// A variable's full name: the name, and the vendor whose name it is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct VariableName {
    /// The name, such as `BootOrder`.
    pub name: String,
    /// The vendor GUID.
    pub vendor: Guid,
}

impl VariableName {
    /// A name of the standard's own vendor.
    pub fn global(name: impl Into<String>) -> Self {
        Self { name: name.into(), vendor: GLOBAL_VARIABLE }
    }

    /// The load option variable of this number: `Boot####`, four upper-case hexadecimal digits.
    pub fn boot_option(number: u16) -> Self {
        Self::global(alloc::format!("Boot{number:04X}"))
    }

    /// The number, where this is a `Boot####` of the standard's vendor.
    pub fn boot_option_number(&self) -> Option<u16> {
        let digits = self.name.strip_prefix("Boot")?;
        let hex =
            digits.len() == 4 && digits.bytes().all(|b| b.is_ascii_digit() || (b'A'..=b'F').contains(&b));
        (hex && self.vendor == GLOBAL_VARIABLE).then(|| u16::from_str_radix(digits, 16).ok()).flatten()
    }
}

impl fmt::Display for VariableName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.vendor == GLOBAL_VARIABLE {
            f.write_str(&self.name)
        } else {
            write!(f, "{}-{}", self.name, self.vendor)
        }
    }
}

/// A variable and what it holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Variable {
    /// Its full name.
    pub name: VariableName,
    /// Its attributes.
    pub attributes: Attributes,
    /// Its contents.
    pub data: Vec<u8>,
}

/// A store of variables.
pub trait VariableStore {
    /// Every variable that can be read, in no promised order, and a line for each that cannot.
    ///
    /// # Errors
    /// Where the store as a whole cannot be read.
    fn read_all(&self) -> Result<Contents, StoreError>;

    /// Makes or replaces a variable.
    ///
    /// # Errors
    /// Where the store cannot take it; the variable is then as before.
    fn write(&mut self, variable: &Variable) -> Result<(), StoreError>;

    /// Removes a variable; one that is not there is no error.
    ///
    /// # Errors
    /// Where the store cannot be written; the variable is then as before.
    fn remove(&mut self, name: &VariableName) -> Result<(), StoreError>;

    /// Bytes that the store can still take, where it says so.
    fn room(&self) -> Option<u64> {
        None
    }

    /// Whether it takes writing at all.
    ///
    /// # Errors
    /// What stands against it.
    fn need_writable(&self) -> Result<(), StoreError> {
        Ok(())
    }
}

/// What a store holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Contents {
    /// The variables that could be read.
    pub variables: Vec<Variable>,
    /// What could not be read, each with its place.
    pub faults: Vec<String>,
}

impl Contents {
    /// The variable of this name.
    pub fn get(&self, name: &VariableName) -> Option<&Variable> {
        self.variables.iter().find(|variable| variable.name == *name)
    }
}

impl From<Vec<Variable>> for Contents {
    fn from(variables: Vec<Variable>) -> Self {
        Self { variables, faults: Vec::new() }
    }
}

/// Why a store could not be read or written.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum StoreError {
    /// No room for the variable; lengths in bytes.
    #[error(
        "no space for {name}: it needs {needed} bytes, the variable store has {free} free \
         ({reclaimable} more are held by deleted variables, which the firmware gives back at its next start)"
    )]
    NoSpace {
        /// What was to be written.
        name: String,
        /// Bytes needed.
        needed: usize,
        /// Bytes free at the end of the store.
        free: usize,
        /// Bytes under deleted variables.
        reclaimable: usize,
    },
    /// The store is not what it should be, at this byte offset.
    #[error("variable store, offset {offset:#x}: {found}, expected {expected}")]
    Malformed {
        /// Bytes from the start of the store.
        offset: usize,
        /// What stands there.
        found: String,
        /// What should.
        expected: &'static str,
    },
    /// The variable's name or size cannot be stored at all.
    #[error("{name} cannot be stored: {why}")]
    Unfit {
        /// What was to be written.
        name: String,
        /// Why not.
        why: &'static str,
    },
    /// The store as a whole cannot be got at, or takes no writing.
    #[error("{why}; {help}")]
    OutOfReach {
        /// What stands against it.
        why: String,
        /// The command, or what else helps.
        help: String,
    },
    /// Reading or writing failed beneath the store.
    #[error("{0}")]
    Io(String),
}
