//! Volumes and places as they are typed at the prompt; what is only guessed is asked about.

use alloc::format;
use alloc::string::{String, ToString};

use super::{Hands, Prompt};
use crate::place::{Mistyped, typed};

/// What a place leads to: the volume's index, and the path.
pub(super) struct Found {
    pub(super) volume: usize,
    pub(super) path: String,
}

impl Prompt {
    /// The volume that is meant; `line` is taken again with its right name once the answer is `yes`.
    pub(super) fn volume(&mut self, hands: &impl Hands, line: &str, text: &str) -> Result<usize, String> {
        self.place(hands, line, text).map(|found| found.volume)
    }

    /// The place that is meant.
    pub(super) fn place(&mut self, hands: &impl Hands, line: &str, text: &str) -> Result<Found, String> {
        if text.is_empty() {
            return Err("which volume? `volumes` shows them".to_string());
        }
        match typed(text, hands.volumes(), || hands.system_ids()) {
            Ok(found) => {
                let path = if found.path.is_empty() { "/".to_string() } else { found.path };
                Ok(Found { volume: found.volume, path })
            }
            Err(Mistyped::Guess { typed, why, name, .. }) => {
                self.asked = Some(line.replacen(&typed, &name, 1));
                Err(format!("{typed}: {why}; that is {name}. Use it? (yes or no)"))
            }
            Err(error) => Err(error.to_string()),
        }
    }
}
