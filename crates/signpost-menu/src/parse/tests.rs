use alloc::vec;

use proptest::prelude::*;

use super::*;
use crate::document::KernelChoice;

const GOOD: &str = r#"format = 1

[menu]
heading = "Tide bench PC 2"
host    = "firmware"
default = "larkspur"
timeout = 5
show    = "always"

[kernel]
args = "quiet"

[[entry]]
id     = "larkspur"
title  = "Larkspur Linux 14"
starts = "linux"
volume = "uuid:0f0b"
kernel = "newest:/boot/vmlinuz-*"
initrd = ["/boot/initrd-{version}"]
root   = "uuid:0f0b"
args   = "root={root} ro"

[[entry]]
id = "meridian"
starts = "firmware-entry"
label = "Meridian Start"

[[entry]]
id = "older"
starts = "group"

[[entry]]
id = "tide"
starts = "efi"
program = "uuid:4f2a-11c9/EFI/tide/start.efi"
in = "older"

[[hide]]
volume = "label:RECOVERY"
why = "vendor recovery"
"#;

/// The messages of a file that has `from` replaced by `to`.
fn problems(from: &str, to: &str) -> Vec<String> {
    assert!(GOOD.contains(from), "{from}");
    parse(&GOOD.replacen(from, to, 1)).unwrap_err().iter().map(ToString::to_string).collect()
}

#[test]
fn a_good_file_is_read_whole() {
    let document = parse(GOOD).unwrap();
    assert_eq!(document.settings.default, DefaultEntry::Id("larkspur".into()));
    assert_eq!(
        document.entries.iter().map(|entry| entry.id.as_str()).collect::<Vec<_>>(),
        ["larkspur", "meridian", "older", "tide"]
    );
    assert_eq!(document.entries[1].title, "meridian", "the id where no title is given");
    assert_eq!(document.entries[3].line, 32);
    let Starts::Linux(linux) = &document.entries[0].starts else { panic!() };
    assert!(matches!(&linux.kernel, KernelChoice::Newest(newest) if newest.folder == "/boot"));
    assert_eq!(document.hidden[0].what, Hidden::Volume(VolumeRef::Label("RECOVERY".into())));
    assert_eq!(parse("format = 1\n").unwrap(), MenuDocument { include_bls: true, ..MenuDocument::default() });
}

#[test]
fn every_mistake_says_where_it_is_and_what_would_be_right() {
    let cases = [
        (
            "timeout = 5",
            "timeout = \"five\"",
            "line 7, column 11: timeout is \"five\"; it takes whole seconds from 0 to 3600, or \"never\"",
        ),
        (
            "timeout = 5",
            "timeout = -1",
            "line 7, column 11: timeout is -1; it takes whole seconds from 0 to 3600, or \"never\"",
        ),
        ("timeout = 5", "tiemout = 5", "line 7, column 1: unknown key tiemout; did you mean timeout?"),
        (
            "heading = \"Tide bench PC 2\"",
            "heading = 3",
            "line 4, column 11: heading is 3; it takes text in quotes",
        ),
        (
            "host    = \"firmware\"",
            "host    = \"bios\"",
            "line 5, column 11: host is \"bios\"; it takes \"firmware\", \"signpost\"",
        ),
        (
            "default = \"larkspur\"",
            "default = \"larkspurr\"",
            "line 6, column 11: default = \"larkspurr\" is not an entry; did you mean \"larkspur\"?",
        ),
        (
            "default = \"larkspur\"",
            "default = \"older\"",
            "line 6, column 11: default = \"older\" is a group, which cannot be the default",
        ),
        (
            "id = \"meridian\"",
            "id = \"larkspur\"",
            "line 24, column 6: the id \"larkspur\" is used twice; the entry on line 13 has it too",
        ),
        (
            "id = \"meridian\"",
            "id = \"first\"",
            "line 24, column 6: \"first\" is reserved and cannot be the id of an entry",
        ),
        (
            "id = \"meridian\"",
            "id = \"Meridian 4\"",
            "line 24, column 6: id is \"Meridian 4\"; it takes 1 to 40 of the characters a-z 0-9 - . _",
        ),
        ("label = \"Meridian Start\"\n", "", "line 23, column 1: entry meridian has no label"),
        (
            "starts = \"efi\"",
            "starts = \"efy\"",
            "line 34, column 10: starts is \"efy\"; did you mean \"efi\"?",
        ),
        (
            "in = \"older\"",
            "in = \"meridian\"",
            "line 36, column 6: in = \"meridian\" names an entry that is not a group",
        ),
        (
            "in = \"older\"",
            "in = \"elder\"",
            "line 36, column 6: in = \"elder\" names no entry; did you mean \"older\"?",
        ),
        (
            "uuid:4f2a-11c9/EFI",
            "d2p1:/EFI",
            "line 35, column 11: program: \"d2p1:/EFI/tide/start.efi\" is a name that the survey shows, and may change; a menu file takes a stable one, such as uuid:",
        ),
        (
            "volume = \"uuid:0f0b\"",
            "volume = \"0f0b\"",
            "line 17, column 10: volume: \"0f0b\" names no volume: it starts with uuid:, partuuid:, label:, partlabel:, lv:, disk:, diskid:, path: or home:",
        ),
        (
            "newest:/boot/vmlinuz-*",
            "newest:/boot/vmlinuz",
            "line 18, column 10: kernel: \"/boot/vmlinuz\" needs one * in its last part, for the version",
        ),
        (
            "root   = \"uuid:0f0b\"\n",
            "",
            "line 20, column 10: args say {root}, and entry larkspur names no root volume: root = \"uuid:…\"",
        ),
        (
            "[\"/boot/initrd-{version}\"]",
            "[1]",
            "line 19, column 10: initrd is [1]; it takes a text in quotes, or a list of them",
        ),
        (
            "why = \"vendor",
            "system = \"x\"\nwhy = \"vendor",
            "line 38, column 1: a [[hide]] names exactly one of entry, volume, system and file; this one names 2",
        ),
        ("format = 1", "format = 2", "line 1, column 10: format is 2; this program reads format 1"),
        ("format = 1\n", "", "line 1, column 1: the file has no format number; it starts with: format = 1"),
        (
            "[kernel]\nargs = \"quiet\"",
            "kernel = 3",
            "line 10, column 1: unknown key kernel; known here: heading, host, default, timeout, show, keyboard, serial-port, fallback-path, homes",
        ),
    ];
    for (from, to, message) in cases {
        assert_eq!(problems(from, to)[0], message, "{from} -> {to}");
    }
}

#[test]
fn a_menu_that_would_never_start_and_never_show_is_refused() {
    let both = problems("timeout = 5\nshow    = \"always\"", "timeout = \"never\"\nshow    = \"never\"");
    assert!(both[0].starts_with("line 8, column 11: show = \"never\" with timeout = \"never\""), "{both:?}");
}

#[test]
fn all_errors_come_at_once_in_the_order_of_the_file() {
    let text =
        GOOD.replace("timeout = 5", "timeout = []").replace("id = \"older\"", "id = 5").replace("why", "whi");
    let lines: Vec<usize> = parse(&text).unwrap_err().iter().map(|problem| problem.line).collect();
    assert_eq!(lines, [7, 29, 36, 40]);
}

#[test]
fn an_error_of_the_notation_is_said_alone_with_its_place() {
    let errors = parse("format = 1\n[menu\ntimeout = \n").unwrap_err();
    assert_eq!(errors[0].line, 2);
}

#[test]
fn read_leniently_what_does_not_hold_becomes_a_note_or_an_entry_that_cannot_start() {
    let text = GOOD
        .replace("timeout = 5", "timeout = \"soon\"\nfuture = 1")
        .replace("starts = \"efi\"", "starts = \"orbit\"")
        .replace("\nkernel = \"newest:/boot/vmlinuz-*\"", "");
    let (document, notes) = parse_leniently(&text);
    let document = document.unwrap();
    assert_eq!(document.settings.timeout, Timeout::Seconds(5));
    let broken: Vec<(&str, &str)> = document
        .entries
        .iter()
        .filter_map(|entry| match &entry.starts {
            Starts::Unknown { why } => Some((entry.id.as_str(), why.as_str())),
            _ => None,
        })
        .collect();
    assert_eq!(broken[0], ("larkspur", "entry larkspur has no kernel"));
    assert!(broken[1].0 == "tide" && broken[1].1.starts_with("starts is \"orbit\""), "{broken:?}");
    assert_eq!(notes.len(), 4, "{notes:?}");
    assert_eq!(parse_leniently("[menu").0, None);
    assert_eq!(parse_leniently(GOOD), (parse(GOOD).ok(), vec![]));
}

#[test]
fn a_file_that_is_too_long_is_refused() {
    let text = vec!['#'; MAX_LENGTH + 1].into_iter().collect::<String>();
    assert!(parse(&text).unwrap_err()[0].message.contains("65537 bytes"));
}

proptest! {
    #[test]
    fn random_text_never_panics(text: String) {
        if let Err(problems) = parse(&text) {
            prop_assert!(problems.iter().all(|problem| problem.line >= 1 && !problem.message.is_empty()));
        }
    }

    #[test]
    fn spoiled_files_never_panic(at in 0usize..800, cut in 0usize..40, put in "[a-z\"\\[\\]=#\n{}0-9]{0,6}") {
        let mut text = GOOD.to_string();
        let at = at.min(text.len());
        let end = (at + cut).min(text.len());
        text.replace_range(at..end, &put);
        match parse(&text) {
            Ok(document) => prop_assert!(document.entries.len() <= 5),
            Err(problems) => prop_assert!(!problems.is_empty()),
        }
    }
}
