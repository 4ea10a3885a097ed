//! Completing a word under way: words of the prompt, volumes, paths, entries.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::{Hands, Prompt, WORDS, Word};
use crate::keyboard::KEYBOARDS;
use crate::place::{Typed, typed};

/// What may stand in place of the end of the word under way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Completions {
    /// Where that end starts, in bytes of the line: of a path, its last part.
    pub start: usize,
    /// The words, in order; a folder's ends in a slash.
    pub words: Vec<String>,
}

/// How much of the word under way stays, in bytes, and what may follow.
type Candidates = (usize, Vec<String>);

impl Prompt {
    /// Completes the last word of a line.
    pub fn complete(&self, line: &str, hands: &impl Hands) -> Completions {
        let start = line.rfind(char::is_whitespace).map_or(0, |at| {
            let blank = line.get(at..).and_then(|rest| rest.chars().next()).map_or(1, char::len_utf8);
            at.saturating_add(blank)
        });
        let (before, word) = line.split_at_checked(start).unwrap_or((line, ""));
        let (stays, mut words) = self.candidates(before.trim(), word, hands);
        words.sort_unstable();
        words.dedup();
        // What is whole is followed by a blank; behind a volume or a folder a path goes on.
        if let [word] = words.as_mut_slice()
            && !word.ends_with([':', '/'])
        {
            word.push(' ');
        }
        Completions { start: start.saturating_add(stays), words }
    }

    fn candidates(&self, before: &str, word: &str, hands: &impl Hands) -> Candidates {
        let starting = |all: Vec<String>| (0, all.into_iter().filter(|one| one.starts_with(word)).collect());
        if before.is_empty() {
            return starting(words().chain(["help".to_string()]).collect());
        }
        let mut given = before.split_whitespace();
        let Some(verb) = given.next().and_then(|verb| super::help::word(verb).ok()) else {
            return (0, Vec::new());
        };
        let second = given.next();
        match (verb, second) {
            (Word::Help, _) => starting(words().collect()),
            (Word::Compose, None) => starting(["linux", "efi", "image", "entry"].map(String::from).to_vec()),
            (Word::Compose, Some("entry")) | (Word::Once, _) => {
                let mut ids: Vec<String> =
                    self.document.entries.iter().map(|entry| entry.id.to_string()).collect();
                ids.extend((verb == Word::Once).then(|| "menu".to_string()));
                starting(ids)
            }
            (Word::Keyboard, None) => {
                starting(KEYBOARDS.iter().map(|keyboard| keyboard.name.to_string()).collect())
            }
            (Word::Compose, Some("linux"))
                if given.next().is_none() && "on".starts_with(word) && !word.is_empty() =>
            {
                (0, Vec::from(["on".to_string()]))
            }
            (Word::Who | Word::Look | Word::Show | Word::Compose, _) => places(word, hands),
            (Word::Start, None) => starting(Vec::from(["entry".to_string()])),
            (Word::Firmware, None) => starting(["next", "first", "setup"].map(String::from).to_vec()),
            (Word::Kernel | Word::Initrd, _) => self.own_paths(word, hands),
            _ => (0, Vec::new()),
        }
    }

    /// Paths on the volume of what is composed.
    fn own_paths(&self, word: &str, hands: &impl Hands) -> Candidates {
        // The prompt lists no folders inside of image files.
        use crate::resolve::StartTarget::Linux;
        let Some(Linux { volume, .. }) = self.composed.as_ref().map(|composed| &composed.target) else {
            return (0, Vec::new());
        };
        paths(hands, *volume, word)
    }
}

/// The words of the prompt, but for the one that shows them.
fn words() -> impl Iterator<Item = String> {
    WORDS.iter().map(|(word, _, _)| word.text().to_string())
}

/// The places that may follow a beginning: volumes, or paths behind one.
pub fn places_from(word: &str, hands: &impl Hands) -> Completions {
    let (start, mut words) = places(word, hands);
    words.sort_unstable();
    Completions { start, words }
}

/// Volumes, or paths behind one.
fn places(word: &str, hands: &impl Hands) -> Candidates {
    let Some((name, path)) = word.split_once(':') else {
        let names = hands.volumes().iter().map(|volume| format!("{}:", volume.name));
        return (0, names.filter(|name| name.starts_with(word)).collect());
    };
    let Ok(Typed { volume, .. }) = typed(name, hands.volumes(), Vec::new) else { return (0, Vec::new()) };
    let (stays, words) = paths(hands, volume, path);
    (name.len().saturating_add(1).saturating_add(stays), words)
}

/// The last parts of paths. A folder may hold thousands of names: they are taken as they come, and not written anew.
fn paths(hands: &impl Hands, volume: usize, path: &str) -> Candidates {
    let (folder, start) = path.rsplit_once('/').unwrap_or(("", path));
    let shown = if folder.is_empty() { "/" } else { folder };
    let items = hands.items(volume, shown).ok().flatten().unwrap_or_default();
    let fitting = items.into_iter().filter(|item| item.name.starts_with(start));
    let is_rooted = path.contains('/');
    let words = fitting.map(|item| {
        let mut word = item.name;
        if !is_rooted {
            word.insert(0, '/');
        }
        if item.is_folder {
            word.push('/');
        }
        word
    });
    (if is_rooted { folder.len().saturating_add(1) } else { 0 }, words.collect())
}
