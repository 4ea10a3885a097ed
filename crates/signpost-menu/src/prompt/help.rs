//! The words of the prompt, each with an example from the machine at hand.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use super::find::systems;
use super::{Hands, columns};
use crate::nearest::nearest;

/// Every word: what is typed behind it, what it does.
pub const WORDS: [(&str, &str, &str); 19] = [
    ("volumes", "", "all volumes, and what is on them"),
    ("who", "VOLUME", "one volume in detail: system, kernels, arguments"),
    ("look", "PLACE", "what stands in a folder"),
    ("show", "PLACE", "a text file, or what a file is"),
    ("find", "NAME", "files with this in their names, in the usual places"),
    (
        "compose",
        "linux on VOLUME | linux PLACE | efi PLACE | image PLACE | entry ID",
        "puts a start together, and fills in what it can",
    ),
    ("kernel", "PATH", "another kernel for what is composed, with its initrds"),
    ("initrd", "PATH… | none", "other initrds for what is composed"),
    ("args", "TEXT | +WORD -WORD…", "other arguments: all of them, or one more, or one less"),
    ("review", "", "what is composed, each part found or not"),
    ("start", "", "starts what is composed"),
    ("save", "[--default] TITLE", "puts what is composed into the menu"),
    ("entries", "[GROUP] [NUMBER]", "the menu's entries, those of a group, or the start of one"),
    ("once", "[ID | menu]", "the next start, and only that, goes there"),
    (
        "firmware",
        "[NUMBER | first NUMBER | screen]",
        "the firmware's entries; the next start to one, or all of them",
    ),
    ("keyboard", "[NAME]", "what stands on the keys at boot"),
    ("leave", "", "back to the menu; without one, to the firmware's next entry"),
    ("restart", "", "starts the machine again"),
    ("power-off", "", "turns the machine off"),
];

/// The word that is meant by any start of it that fits no other.
pub(super) fn word(typed: &str) -> Result<&'static str, String> {
    let all = || WORDS.iter().map(|(word, _, _)| *word).chain(["help"]);
    if let Some(word) = all().find(|word| *word == typed) {
        return Ok(word);
    }
    let fitting: Vec<&'static str> = all().filter(|word| word.starts_with(typed)).collect();
    match fitting.as_slice() {
        [one] => Ok(one),
        [] => Err(match nearest(typed, all()) {
            Some(near) => format!("there is no word {typed}; did you mean {near}?"),
            None => format!("there is no word {typed}; `help` shows all of them"),
        }),
        several => Err(format!("{typed} may be each of {}; write more of it", several.join(", "))),
    }
}

/// All words, or one with an example from this machine.
pub(super) fn help(hands: &impl Hands, typed: &str) -> Result<Vec<String>, String> {
    if typed.is_empty() {
        let rows = WORDS.iter().map(|(word, _, what)| vec![(*word).to_string(), (*what).to_string()]);
        let mut lines = columns(rows.collect());
        lines.push("`help WORD` says more. Any start of a word does that fits no other.".to_string());
        return Ok(lines);
    }
    let word = word(typed)?;
    let Some((_, takes, what)) = WORDS.iter().find(|(own, _, _)| *own == word) else {
        return Ok(vec!["help [WORD]: all words, or one with an example".to_string()]);
    };
    let takes = if takes.is_empty() { String::new() } else { format!(" {takes}") };
    let mut lines = vec![format!("{word}{takes}: {what}")];
    lines.extend(example(hands, word).map(|example| format!("for example: {example}")));
    Ok(lines)
}

fn example(hands: &impl Hands, word: &str) -> Option<String> {
    let root = || systems(hands).map(|system| format!("v{}", system.root.saturating_add(1))).next();
    let kernel = || systems(hands).find_map(|system| system.kernels.last().map(|kernel| kernel.path.clone()));
    Some(match word {
        "who" => format!("who {}", root()?),
        "look" => format!("look {}:/boot", root()?),
        "show" => format!("show {}:/etc/fstab", root()?),
        "find" => "find vmlinuz".to_string(),
        "compose" => format!("compose linux on {}", root()?),
        "kernel" => format!("kernel {}", kernel()?),
        "initrd" => "initrd none".to_string(),
        "args" => "args +single -quiet".to_string(),
        "save" => "save --default The one that works".to_string(),
        "entries" => "entries 1".to_string(),
        "once" => "once menu".to_string(),
        "keyboard" => "keyboard de".to_string(),
        "firmware" => {
            let options: Vec<String> =
                hands.load_options().iter().map(|option| format!("{:04X}", option.number)).collect();
            format!("firmware {}", options.first()?)
        }
        // What takes nothing is its own example.
        _ => word.to_string(),
    })
}
