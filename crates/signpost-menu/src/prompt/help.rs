//! The words of the prompt, each with an example from the machine at hand.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use super::{Hands, columns};
use crate::nearest::nearest;

/// What can be said at the prompt.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Word {
    /// All volumes.
    Volumes,
    /// One volume.
    Who,
    /// A folder.
    Look,
    /// A file.
    Show,
    /// Files by their names.
    Find,
    /// A start, put together.
    Compose,
    /// Another kernel.
    Kernel,
    /// Other initrds.
    Initrd,
    /// Other arguments.
    Args,
    /// What is composed.
    Review,
    /// Start it.
    Start,
    /// Put it into the menu.
    Save,
    /// The entries of the menu.
    Entries,
    /// The next start.
    Once,
    /// The firmware's entries.
    Firmware,
    /// What stands on the keys.
    Keyboard,
    /// Back.
    Leave,
    /// Restart.
    Restart,
    /// Power off.
    PowerOff,
    /// What the words do.
    Help,
}

impl Word {
    /// Every word.
    fn all() -> impl Iterator<Item = Self> {
        WORDS.iter().map(|(word, _, _)| *word).chain([Self::Help])
    }

    /// The word as it is typed.
    pub fn text(self) -> &'static str {
        match self {
            Self::Volumes => "volumes",
            Self::Who => "who",
            Self::Look => "look",
            Self::Show => "show",
            Self::Find => "find",
            Self::Compose => "compose",
            Self::Kernel => "kernel",
            Self::Initrd => "initrd",
            Self::Args => "args",
            Self::Review => "review",
            Self::Start => "start",
            Self::Save => "save",
            Self::Entries => "entries",
            Self::Once => "once",
            Self::Firmware => "firmware",
            Self::Keyboard => "keyboard",
            Self::Leave => "leave",
            Self::Restart => "restart",
            Self::PowerOff => "power-off",
            Self::Help => "help",
        }
    }
}

/// Every word: what is typed behind it, what it does.
pub const WORDS: [(Word, &str, &str); 19] = [
    (Word::Volumes, "", "lists all volumes, and what is on them"),
    (Word::Who, "VOLUME", "shows one volume: its system, kernels, arguments"),
    (Word::Look, "PLACE", "lists a folder"),
    (Word::Show, "PLACE", "shows a text file, or what a file is"),
    (Word::Find, "NAME", "finds files by a part of their names, in the usual places"),
    (
        Word::Compose,
        "linux on VOLUME | linux PLACE | efi PLACE | image PLACE | entry ID",
        "puts a start together, and fills in what it can",
    ),
    (Word::Kernel, "PATH", "takes another kernel, with its initrds"),
    (Word::Initrd, "PATH… | none", "takes other initrds"),
    (Word::Args, "TEXT | +WORD -WORD…", "sets all arguments, or adds or drops one"),
    (Word::Review, "", "shows what is composed, and whether each part is there"),
    (Word::Start, "[entry NUMBER]", "starts what is composed, or an entry of the menu"),
    (Word::Save, "[--default] TITLE", "puts what is composed into the menu"),
    (Word::Entries, "[GROUP] [NUMBER]", "lists the menu's entries, those of a group, or shows one"),
    (Word::Once, "[ID | menu]", "sends the next start, and only that, to an entry"),
    (
        Word::Firmware,
        "[NUMBER | next NUMBER | first NUMBER | setup]",
        "lists the firmware's entries, starts one next or always first, or opens firmware setup",
    ),
    (Word::Keyboard, "[NAME]", "the keyboard layout at boot"),
    (Word::Leave, "", "goes back to the menu; without one, to the firmware's next entry"),
    (Word::Restart, "", "restarts the machine"),
    (Word::PowerOff, "", "turns the machine off"),
];

/// What fingers type in an emergency, and the word that is meant; neither the screen nor `help` shows these.
const SYNONYMS: [(&str, Word); 22] = [
    ("?", Word::Help),
    ("boot", Word::Start),
    ("run", Word::Start),
    ("list", Word::Look),
    ("dir", Word::Look),
    ("ls", Word::Look),
    ("type", Word::Show),
    ("cat", Word::Show),
    ("more", Word::Show),
    ("search", Word::Find),
    ("disks", Word::Volumes),
    ("partitions", Word::Volumes),
    ("menu", Word::Entries),
    ("quit", Word::Leave),
    ("exit", Word::Leave),
    ("bye", Word::Leave),
    ("reboot", Word::Restart),
    ("reset", Word::Restart),
    ("halt", Word::PowerOff),
    ("off", Word::PowerOff),
    ("poweroff", Word::PowerOff),
    ("shutdown", Word::PowerOff),
];

/// The word that is meant by a synonym, or by any start of it that fits no other.
pub(super) fn word(typed: &str) -> Result<Word, String> {
    if let Some(word) = Word::all().find(|word| word.text() == typed) {
        return Ok(word);
    }
    if let Some((_, word)) = SYNONYMS.iter().find(|(synonym, _)| *synonym == typed) {
        return Ok(*word);
    }
    let fitting: Vec<Word> = Word::all().filter(|word| word.text().starts_with(typed)).collect();
    match fitting.as_slice() {
        [one] => Ok(*one),
        [] => Err(match nearest(typed, Word::all().map(Word::text)) {
            Some(near) => format!("there is no command {typed}; did you mean {near}?"),
            None => format!("there is no command {typed}; `help` lists them all"),
        }),
        several => {
            let several: Vec<&str> = several.iter().map(|word| word.text()).collect();
            Err(format!("{typed} is ambiguous: {}; type more of it", several.join(", ")))
        }
    }
}

/// All words, or one with an example from this machine.
pub(super) fn help(hands: &impl Hands, typed: &str) -> Result<Vec<String>, String> {
    if typed.is_empty() {
        let rows = WORDS.iter().map(|(word, _, what)| vec![word.text().to_string(), (*what).to_string()]);
        let mut lines = columns(rows.collect());
        lines.push(
            "`help COMMAND` says more. The first letters of a command are enough, if no other begins with them."
                .to_string(),
        );
        return Ok(lines);
    }
    let word = word(typed)?;
    let Some((_, takes, what)) = WORDS.iter().find(|(own, _, _)| *own == word) else {
        return Ok(vec!["help [COMMAND]: all commands, or one with an example".to_string()]);
    };
    let takes = if takes.is_empty() { String::new() } else { format!(" {takes}") };
    let mut lines = vec![format!("{}{takes}: {what}", word.text())];
    lines.extend(example(hands, word).map(|example| format!("for example: {example}")));
    Ok(lines)
}

fn example(hands: &impl Hands, word: Word) -> Option<String> {
    let root = || {
        let root = hands.systems().iter().find_map(|system| system.root)?;
        Some(hands.name(root).to_string())
    };
    let kernel =
        || hands.systems().iter().find_map(|system| system.kernels.last().map(|kernel| kernel.path.clone()));
    Some(match word {
        Word::Who => format!("who {}", root()?),
        Word::Look => format!("look {}:/boot", root()?),
        Word::Show => format!("show {}:/etc/fstab", root()?),
        Word::Find => "find vmlinuz".to_string(),
        Word::Compose => format!("compose linux on {}", root()?),
        Word::Kernel => format!("kernel {}", kernel()?),
        Word::Initrd => "initrd none".to_string(),
        Word::Args => "args +single -quiet".to_string(),
        Word::Start => "start entry 1".to_string(),
        Word::Save => "save --default The one that works".to_string(),
        Word::Entries => "entries 1".to_string(),
        Word::Once => "once menu".to_string(),
        Word::Keyboard => "keyboard de".to_string(),
        Word::Firmware => {
            let options: Vec<String> =
                hands.load_options().iter().map(|option| format!("{:04X}", option.number)).collect();
            format!("firmware next {}", options.first()?)
        }
        // What takes nothing is its own example.
        Word::Volumes | Word::Review | Word::Leave | Word::Restart | Word::PowerOff | Word::Help => {
            word.text().to_string()
        }
    })
}
