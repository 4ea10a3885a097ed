//! Changes to the menu file that keep everything else in it to the byte: comments, blank lines, order, line ends.

mod add;
mod assignments;
mod block;
mod entries;
mod noise;
mod policy;
mod tune;

use std::path::Path;

pub use add::{AddedEntry, Kernel, NewEntry, add};
pub use block::{block, replace_block};
pub use entries::{HiddenThing, Where, edit, hidden, hide, loses, move_entry, remove, rename, reveal};
pub use noise::{Noise, Quiet, noise, quieten};
pub use policy::{OWN_KEYS, OwnKey, Policy, Refreshed};
use signpost_facts::{Error, Result};
pub use signpost_menu::keys::{KEYS, Key};
pub use tune::{Difference, Setting, Tuned, look_file, tune, tune_look};

use crate::menu_text::MenuText;

/// What was typed cannot be done, in words.
fn wrong(why: impl Into<String>) -> Error {
    Error::WrongUse(why.into())
}

/// A menu file's text with another default.
///
/// # Errors
/// Where it would not hold.
pub(crate) fn with_default(path: &Path, text: &str, id: &str) -> Result<String> {
    let mut file = MenuText::new(path, text)?;
    file.set_in("menu", "default", id.into())?;
    file.finish(path)
}
