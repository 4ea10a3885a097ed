use super::*;

/// Three entries: `a` and `b` start, `gone` does not; behind them a group, a restart, and entries with a fallback.
fn document(settings: &str) -> MenuDocument {
    let mut text = format!("format = 1\n[menu]\n{settings}\n");
    for id in ["a", "b", "gone"] {
        text.push_str(&format!("[[entry]]\nid = \"{id}\"\nstarts = \"firmware-entry\"\nlabel = \"{id}\"\n"));
    }
    for kind in ["group", "restart"] {
        text.push_str(&format!("[[entry]]\nid = \"{kind}\"\nstarts = \"{kind}\"\n"));
    }
    for (id, tries, fallback) in [
        ("tried", "tries = 2\n", "b"),
        ("twice", "tries = 1\n", "tried"),
        ("lost", "", "a"),
        ("worse", "", "gone"),
    ] {
        text.push_str(&format!(
            "[[entry]]\nid = \"{id}\"\nstarts = \"firmware-entry\"\nlabel = \"{id}\"\n{tries}fallback = \"{fallback}\"\n"
        ));
    }
    crate::parse_leniently(&text).0.unwrap()
}

struct Row {
    settings: &'static str,
    once: Option<&'static str>,
    kept: Option<&'static str>,
    last: Option<&'static str>,
    failed: Option<&'static str>,
    unconfirmed: &'static str,
    expected: (Shown, Option<usize>, &'static str),
}

const PLAIN: Row = Row {
    settings: "",
    once: None,
    kept: None,
    last: None,
    failed: None,
    unconfirmed: "",
    expected: (Shown::Counting(5), Some(0), ""),
};

fn rows() -> Vec<Row> {
    use Shown::{Counting, Hidden, OnKey, Waiting};
    let row = |settings, expected| Row { settings, expected, ..PLAIN };
    Vec::from([
        PLAIN,
        row("timeout = 9", (Counting(9), Some(0), "")),
        row("timeout = 0", (Hidden, Some(0), "")),
        row("timeout = \"never\"", (Waiting, Some(0), "")),
        row("show = \"on-key\"", (OnKey, Some(0), "")),
        row("show = \"on-key\"\ntimeout = 0", (OnKey, Some(0), "")),
        row("show = \"never\"", (Hidden, Some(0), "")),
        row("default = \"b\"", (Counting(5), Some(1), "")),
        row("default = \"first\"", (Counting(5), Some(0), "")),
        row("default = \"gone\"", (Waiting, Some(2), "gone cannot start: no file")),
        row("default = \"gone\"\nshow = \"never\"", (Waiting, Some(2), "gone cannot start: no file")),
        row("default = \"c\"", (Waiting, Some(0), "the default, c, is not an entry of the menu")),
        row("default = \"last-started\"", (Counting(5), Some(0), "")),
        Row { last: Some("b"), ..row("default = \"last-started\"", (Counting(5), Some(1), "")) },
        Row { last: Some("c"), ..row("default = \"last-started\"", (Counting(5), Some(0), "")) },
        Row { last: Some("b"), ..PLAIN },
        Row { kept: Some("b"), ..row("default = \"a\"", (Counting(5), Some(1), "")) },
        Row { kept: Some("c"), ..row("default = \"a\"", (Counting(5), Some(0), "")) },
        Row { once: Some("b"), kept: Some("a"), ..row("default = \"a\"", (Counting(5), Some(1), "")) },
        Row { once: Some("b"), ..row("show = \"never\"", (Hidden, Some(1), "")) },
        Row {
            once: Some("gone"),
            ..row("show = \"never\"", (Waiting, Some(2), "gone cannot start: no file"))
        },
        Row {
            once: Some("c"),
            ..row(
                "",
                (Waiting, Some(0), "c, which this start was to go to once, is not an entry of the menu"),
            )
        },
        Row { once: Some("menu"), ..row("show = \"never\"", (Waiting, Some(0), "")) },
        Row { once: Some("menu"), ..row("timeout = 0", (Waiting, Some(0), "")) },
        Row { failed: Some("a was refused"), ..row("timeout = 0", (Waiting, Some(0), "a was refused")) },
        Row {
            kept: Some("group"),
            ..row(
                "",
                (Waiting, Some(3), "group is what was kept as the default, and starts no system: group"),
            )
        },
        Row {
            once: Some("restart"),
            ..row(
                "timeout = 0",
                (
                    Waiting,
                    Some(4),
                    "restart is what this start was to go to once, and starts no system: restart",
                ),
            )
        },
        Row {
            last: Some("group"),
            ..row(
                "default = \"last-started\"",
                (Waiting, Some(3), "group is what was started last, and starts no system: group"),
            )
        },
        row(
            "default = \"restart\"",
            (Waiting, Some(4), "restart is the default, and starts no system: restart"),
        ),
        Row { kept: Some("gone"), ..row("timeout = 0", (Waiting, Some(2), "gone cannot start: no file")) },
        row("default = \"tried\"", (Counting(5), Some(5), "")),
        Row { unconfirmed: "tried=1", ..row("default = \"tried\"", (Counting(5), Some(5), "")) },
        Row {
            unconfirmed: "tried=2",
            ..row(
                "default = \"tried\"",
                (Counting(5), Some(1), "tried was started 2 times and did not come up; b starts instead"),
            )
        },
        Row {
            unconfirmed: "tried=3",
            kept: Some("tried"),
            ..row(
                "show = \"never\"",
                (Hidden, Some(1), "tried was started 3 times and did not come up; b starts instead"),
            )
        },
        Row { unconfirmed: "tried=2", once: Some("tried"), ..row("", (Counting(5), Some(5), "")) },
        Row {
            unconfirmed: "tried=2 twice=1",
            ..row(
                "default = \"twice\"",
                (
                    Counting(5),
                    Some(1),
                    "twice was started and did not come up; tried was started 2 times and did not come up; b starts instead",
                ),
            )
        },
        row("default = \"lost\"", (Counting(5), Some(0), "lost cannot start: no file; a starts instead")),
        row(
            "default = \"worse\"",
            (Waiting, Some(8), "worse cannot start: no file; gone cannot start: no file"),
        ),
        Row { failed: Some("x"), once: Some("b"), ..row("show = \"never\"", (Waiting, Some(1), "x")) },
    ])
}

#[test]
fn the_policy_row_by_row() {
    for (number, row) in rows().into_iter().enumerate() {
        let document = document(row.settings);
        let faults = ["", "", "no file", "", "", "", "", "no file", "no file"];
        let faults = faults.map(|fault| (!fault.is_empty()).then(|| fault.into()));
        let opening = open(&Situation {
            document: &document,
            faults: &faults,
            once: row.once,
            kept: row.kept,
            last_started: row.last,
            unconfirmed: &Unconfirmed::parse(row.unconfirmed),
            failed: row.failed,
        });
        let reason = opening.note(&document).unwrap_or_default();
        let found = (opening.shown, opening.chosen, reason.as_str());
        assert_eq!(found, row.expected, "row {number}: {}", row.settings);
    }
}

#[test]
fn a_menu_without_entries_waits() {
    let (document, faults) = (MenuDocument::default(), []);
    let situation = Situation {
        document: &document,
        faults: &faults,
        once: None,
        kept: None,
        last_started: None,
        unconfirmed: &Unconfirmed::default(),
        failed: None,
    };
    let opening = open(&situation);
    assert_eq!((opening.shown, opening.chosen), (Shown::Waiting, None));
    assert!(opening.reason.is_some());
}
