//! What of the menu that was applied last others than `hold` ask for.

use serde::Deserialize;

use crate::kept;
use crate::machine::Machine;

/// Of what is kept for holding it: the text, and the home volume.
#[derive(Clone, Debug, Deserialize)]
pub(crate) struct Applied {
    /// The menu file's text.
    pub(crate) menu: String,
    /// A name of the home volume that holds, where the boot program shows the menu.
    pub(crate) home: Option<String>,
}

impl Applied {
    /// Reads it; nothing, where nothing was applied yet.
    pub(crate) fn load(machine: &Machine) -> Option<Self> {
        kept::read(&machine.held_record()).ok().flatten()
    }
}
