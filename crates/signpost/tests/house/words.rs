//! One thing has one name: words that were replaced stay replaced, in the source, the docs and what the program prints.

use std::ffi::OsStr;
use std::path::Path;

/// What is not written, and what is written instead. Lower case; a blank stands for a line break too.
const REPLACED: &[(&str, &str)] = &[
    ("spare path", "fallback path"),
    ("spare-path", "fallback-path"),
    ("start-up file", "boot file"),
    ("startup file", "boot file"),
    ("start-up partition", "ESP"),
    ("in force", "active"),
    ("take back", "undo"),
    ("takes back", "undoes"),
    ("taken back", "undone"),
    ("take it back", "undo it"),
    ("takes it back", "undoes it"),
    ("takes that back", "undoes that"),
    ("take the menu back", "undo the menu"),
    ("odd about", "problems with"),
    ("what is odd", "problems"),
    ("something odd", "a problem"),
    ("it may go", "it can be removed"),
    ("what may go", "what can be removed"),
    ("put right", "correct"),
    ("puts right", "corrects"),
    ("uppermost", "top"),
    ("made of others", "logical volumes and arrays"),
    ("names that hold", "stable names"),
    ("name that holds", "stable name"),
    ("out of use", "disabled"),
    (", not used", ", disabled"),
    ("firmware screen", "firmware setup"),
    ("firmware's own screen", "firmware setup"),
    ("heading of a group", "group"),
    ("waits 0 s", "timeout 0 s"),
    ("may be each of", "is ambiguous"),
    ("all the same,", "anyway"),
    ("do it all the same", "do it anyway"),
    ("leave out this guard", "override this guard"),
    ("enter carries out", "Enter runs the line"),
    ("\"mind:", "Note:"),
    ("one a command", "one per command"),
    ("is said.", "is noted"),
    ("is said,", "is noted"),
    ("are said to be", "claims"),
    ("is said to be", "claims"),
    ("came to no end", "was not finished"),
    ("passed over", "skipped"),
    ("passes over", "skips"),
    ("in the bios way", "in BIOS mode"),
    ("in the uefi way", "in UEFI mode"),
    ("that cannot be.", "impossible"),
    ("made anew", "made again, formatted again"),
];

/// What is read: text that people or we write.
const KINDS: [&str; 7] = ["rs", "md", "toml", "snap", "sh", "service", "txt"];

/// Every file of these kinds below a folder, but for what is built or fetched.
fn texts(folder: &Path, found: &mut Vec<(String, String)>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().and_then(OsStr::to_str).unwrap_or_default();
        if path.is_dir() && !path.is_symlink() {
            if name != "target" && name != ".git" {
                texts(&path, found);
            }
        } else if path.extension().and_then(OsStr::to_str).is_some_and(|kind| KINDS.contains(&kind)) {
            found.push((path.display().to_string(), std::fs::read_to_string(&path).unwrap()));
        }
    }
}

/// A text on one line, without the marks of comments, so that a phrase is found over the ends of lines.
fn on_one_line(text: &str) -> String {
    let lines = text
        .lines()
        .map(|line| line.trim().trim_start_matches(['/', '!', '#']).trim_end_matches('\\').trim());
    lines.collect::<Vec<_>>().join(" ").to_lowercase()
}

#[test]
fn words_that_were_replaced_are_nowhere() {
    let mut all = Vec::new();
    texts(&super::root(), &mut all);
    assert!(all.len() > 300, "{} texts were read", all.len());
    let mut wrong = Vec::new();
    for (path, text) in &all {
        if path.ends_with("house/words.rs") {
            continue;
        }
        let text = on_one_line(text);
        for (old, new) in REPLACED {
            for (at, _) in text.match_indices(old) {
                let before: String =
                    text[..at].chars().rev().take(30).collect::<Vec<_>>().into_iter().rev().collect();
                // A word that only ends so, such as "reinforce", is another one.
                let is_word = !before.ends_with(|c: char| c.is_alphanumeric());
                let after: String = text[at..].chars().take(40).collect();
                if is_word {
                    wrong.push(format!("{path}: …{before}{after}…: write \"{new}\""));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} old words:\n{}", wrong.len(), wrong.join("\n"));
}
