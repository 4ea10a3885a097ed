//! What a system noted for itself of what it did to the machine.

use alloc::string::String;

use serde::{Deserialize, Serialize};

/// The menu that was applied last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Applied {
    /// The menu file's text.
    pub menu: String,
    /// A stable name of the home volume, where the boot program shows the menu.
    pub home: Option<String>,
    /// That of the second one, where the menu was put on two.
    #[serde(default)]
    pub second_home: Option<String>,
}

/// What `draft` has taken in of what was decided at boot.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Taken {
    /// Serial of the slot that was read.
    pub slot: Option<u64>,
    /// The id that was kept as the default.
    pub kept: Option<String>,
}

/// All of it.
#[derive(Clone, Debug, Default)]
pub struct Noted {
    /// What was applied last; nothing, where nothing was applied yet.
    pub applied: Option<Applied>,
    /// What was taken in.
    pub taken: Taken,
}
