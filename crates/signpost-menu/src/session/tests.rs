use alloc::vec;

use proptest::prelude::*;

use super::*;
use crate::document::Entry;
use crate::document::Starts;
use crate::policy::ChosenBy;
use crate::resolve::StartTarget;
use crate::resolve::{Fault, Firmware};
use crate::screen::{Tone, draw};

fn menu(extra: &str) -> MenuDocument {
    let entries = "[[entry]]\nid = \"lark\"\ntitle = \"Larkspur Linux 14\"\nstarts = \"linux\"\nvolume = \"uuid:1\"\n\
                   kernel = \"/k\"\nargs = \"ro quiet\"\n\
                   [[entry]]\nid = \"meridian\"\ntitle = \"Meridian\"\nstarts = \"firmware-entry\"\nlabel = \"M\"\n\
                   [[entry]]\nid = \"more\"\ntitle = \"More\"\nstarts = \"group\"\n\
                   [[entry]]\nid = \"old\"\ntitle = \"Old\"\nstarts = \"firmware-entry\"\nlabel = \"O\"\nin = \"more\"\n\
                   [[entry]]\nid = \"gone\"\ntitle = \"Gone\"\nstarts = \"firmware-entry\"\nlabel = \"G\"\n";
    crate::parse(&format!("format = 1\n[menu]\nheading = \"Tide bench\"\n{extra}\n{entries}")).unwrap()
}

fn resolved(document: &MenuDocument) -> Vec<ResolvedEntry<'_>> {
    let target = |entry: &Entry| match (&entry.starts, entry.id.as_str()) {
        (Starts::Group, _) => Ok(StartTarget::Group),
        (Starts::Linux(linux), _) => Ok(StartTarget::Linux {
            volume: 0,
            kernel: "/k".into(),
            initrds: vec![],
            args: linux.args.clone(),
            root: None,
        }),
        (_, "gone") => Err(Fault::NoLoadOption("no such entry".into())),
        _ => Ok(StartTarget::FirmwareEntry { number: 1, handover: false }),
    };
    document
        .entries
        .iter()
        .map(|entry| ResolvedEntry { entry, target: target(entry), notes: vec![] })
        .collect()
}

fn session(shown: Shown, chosen: usize) -> Session {
    let document = menu("");
    let resolved = resolved(&document);
    let lines: Vec<String> = resolved
        .iter()
        .map(|r| r.target.as_ref().map_or_else(ToString::to_string, |_| "disk 1".into()))
        .collect();
    Session::new(
        (&document, Firmware::Uefi),
        &resolved,
        &lines,
        &Opening {
            shown,
            chosen: Some(chosen),
            by: ChosenBy::Default,
            reason: None,
            named: None,
            skipped: Vec::new(),
        },
    )
}

fn titles(session: &Session) -> Vec<&str> {
    session.visible().iter().map(|row| row.title.as_str()).collect()
}

fn start(entry: usize) -> Request {
    Request::Start { entry, args: None }
}

#[test]
fn the_countdown_starts_the_chosen_entry_and_any_key_stops_it() {
    let mut session = session(Shown::Counting(2), 1);
    assert_eq!((session.tick(1500), session.countdown()), (Request::None, Some(1)));
    assert_eq!(session.tick(500), start(1));
    let mut session = self::session(Shown::Counting(2), 1);
    assert_eq!(session.key(Key::Escape), Request::None);
    assert_eq!((session.countdown(), session.tick(9000)), (None, Request::None));
}

#[test]
fn a_hidden_menu_starts_by_itself_and_a_key_in_time_shows_it() {
    let mut hidden = session(Shown::OnKey, 0);
    assert!(!hidden.is_shown());
    assert_eq!((hidden.tick(700), hidden.tick(100)), (Request::None, start(0)));
    let mut shown = session(Shown::OnKey, 0);
    assert_eq!(shown.key(Key::Enter), Request::None, "the key that shows the menu does no more");
    assert!(shown.is_shown() && shown.tick(9000) == Request::None);
    assert_eq!(session(Shown::Hidden, 0).tick(0), start(0));
}

#[test]
fn a_pointer_chooses_what_it_comes_onto_and_a_press_starts_it() {
    let mut hidden = session(Shown::OnKey, 0);
    assert_eq!((hidden.key(Key::Point(1)), hidden.is_shown()), (Request::None, false), "it may have stirred");
    assert_eq!((hidden.key(Key::Press(Some(1))), hidden.is_shown()), (Request::None, true));
    let mut counting = session(Shown::Counting(2), 1);
    counting.key(Key::Point(1));
    assert_eq!(counting.countdown(), Some(2), "it lies where the mark is");
    counting.key(Key::Point(0));
    assert_eq!((counting.countdown(), counting.chosen()), (None, 0));
    assert_eq!(counting.key(Key::Press(Some(1))), start(1));
    let mut open = session(Shown::Waiting, 0);
    open.key(Key::Press(Some(2)));
    assert_eq!(open.open_group(), Some("More"));
    open.key(Key::Press(None));
    assert_eq!((open.open_group(), open.chosen()), (None, 2));
    open.key(Key::Char('?'));
    open.key(Key::Point(1));
    assert_eq!((&open.view, open.chosen()), (&View::Help, 2));
    open.key(Key::Press(Some(1)));
    assert_eq!(open.view, View::List);
}

#[test]
fn keys_move_jump_open_and_close() {
    let mut session = session(Shown::Waiting, 0);
    assert_eq!(
        titles(&session),
        ["Larkspur Linux 14", "Meridian", "More", "Gone", "Firmware setup", "Restart", "Power off"]
    );
    for (key, place) in [
        (Key::Down, 1),
        (Key::End, 6),
        (Key::Down, 6),
        (Key::Home, 0),
        (Key::Up, 0),
        (Key::PageDown, 6),
        (Key::PageUp, 0),
        (Key::Char('4'), 3),
        (Key::Char('9'), 3),
        (Key::Char('m'), 1),
        (Key::Char('m'), 2),
        (Key::Char('m'), 1),
        (Key::Char('x'), 1),
        (Key::Char('3'), 2),
    ] {
        assert_eq!((session.key(key), session.chosen()), (Request::None, place), "{key:?}");
    }
    assert_eq!(session.key(Key::Enter), Request::None);
    assert_eq!((titles(&session), session.open_group()), (vec!["Old"], Some("More")));
    assert_eq!(session.key(Key::Enter), start(3));
    session.key(Key::Escape);
    assert_eq!((session.open_group(), session.chosen()), (None, 2));
    session.key(Key::Char('f'));
    assert_eq!(session.key(Key::Enter), Request::SetupScreen);
    session.key(Key::Char('r'));
    assert_eq!(session.key(Key::Enter), Request::Restart);
    session.key(Key::Char('p'));
    assert_eq!(session.key(Key::Enter), Request::PowerOff);
}

#[test]
fn what_cannot_start_says_why() {
    let mut session = session(Shown::Waiting, 4);
    assert_eq!(session.key(Key::Enter), Request::None);
    assert_eq!(session.note.as_deref(), Some("Gone cannot start"));
    assert_eq!(session.key(Key::Char('*')), Request::None);
    session.key(Key::Home);
    assert_eq!(session.key(Key::Function(3)), Request::KeepDefault(0));
}

#[test]
fn arguments_are_changed_for_one_start() {
    let mut session = session(Shown::Waiting, 0);
    session.key(Key::Char('='));
    for key in [
        Key::Backspace,
        Key::Home,
        Key::Delete,
        Key::Char('X'),
        Key::Right,
        Key::Left,
        Key::End,
        Key::Char('!'),
    ] {
        assert_eq!(session.key(key), Request::None);
    }
    let grid = draw(&session, 80, 25);
    assert_eq!(grid.row_text(22), "  Xo quie!");
    assert_eq!(grid.cursor, Some((10, 22)));
    assert_eq!(session.key(Key::Enter), Request::Start { entry: 0, args: Some("Xo quie!".into()) });
    session.key(Key::Char('m'));
    session.key(Key::Function(2));
    assert_eq!(session.note.as_deref(), Some("only a Linux entry has arguments to change"));
}

#[test]
fn a_failed_start_comes_back_with_its_reason() {
    let mut session = session(Shown::Counting(1), 1);
    assert_eq!(session.tick(1000), start(1));
    session.failed("Meridian: refused by Secure Boot".into());
    assert_eq!(session.tick(60_000), Request::None);
    assert_eq!(draw(&session, 80, 25).row_text(21), "  Meridian: refused by Secure Boot");
    assert_eq!(draw(&session, 80, 25).row_text(22), "  Press : for the prompt, which starts it by hand.");
    session.key(Key::Up);
    assert_eq!(draw(&session, 80, 25).row_text(22), "");
}

#[test]
fn the_screen_says_what_is_needed_without_colour() {
    let session = session(Shown::Counting(5), 1);
    let grid = draw(&session, 80, 25);
    assert_eq!(grid.row_text(1), "  Tide bench");
    assert_eq!(grid.row_text(3), "    1  Larkspur Linux 14");
    assert_eq!(grid.row_text(4), "  > 2  Meridian");
    assert_eq!(grid.row_text(6), "    4  Gone (cannot start)");
    assert_eq!(grid.row_text(21), "  disk 1");
    assert_eq!(grid.row_text(22), "  Starts in 5 s. Press any key to stop.");
    assert_eq!(grid.row_text(24), "  Enter start   = arguments   * keep as default   : prompt   ? help");
    let tones: Vec<Tone> = grid.rows().map(|row| row[4].tone).collect();
    assert_eq!((tones[1], tones[4], tones[3]), (Tone::Heading, Tone::Chosen, Tone::Plain));
}

fn any_key() -> impl Strategy<Value = Key> {
    prop_oneof![
        any::<char>().prop_map(Key::Char),
        (0u8..13).prop_map(Key::Function),
        prop::sample::select(vec![
            Key::Up,
            Key::Down,
            Key::Left,
            Key::Right,
            Key::Home,
            Key::End,
            Key::PageUp,
            Key::PageDown,
            Key::Enter,
            Key::Escape,
            Key::Backspace,
            Key::Delete,
            Key::Other,
        ]),
    ]
}

proptest! {
    #[test]
    fn random_keys_on_screens_of_any_size(
        count in 0usize..200, title in "\\PC{0,60}", width in 1usize..300, height in 1usize..100,
        keys in prop::collection::vec(any_key(), 0..60)
    ) {
        let entry = |index: usize| Entry {
            symbol: None,
            tries: None,
            fallback: None,
            id: format!("e{index}").into(),
            title: title.clone(),
            starts: if index % 7 == 3 { Starts::Group } else { Starts::Restart },
            group: (index % 7 == 4).then(|| format!("e{}", index - 1).into()),
            line: 1,
        };
        let document = MenuDocument { entries: (0..count).map(entry).collect(), ..MenuDocument::default() };
        let resolved: Vec<ResolvedEntry<'_>> = document.entries.iter().map(|entry| ResolvedEntry {
            entry, target: if entry.starts == Starts::Group { Ok(StartTarget::Group) } else { Ok(StartTarget::BuiltIn) }, notes: vec![],
        }).collect();
        let lines = vec![title.clone(); count];
        let opening = Opening { shown: Shown::Counting(3), chosen: None, by: ChosenBy::Default, reason: None, named: None, skipped: Vec::new() };
        let mut session = Session::new((&document, Firmware::Uefi), &resolved, &lines, &opening);
        for key in keys {
            session.key(key);
            prop_assert!(session.chosen() < session.visible().len());
            let grid = draw(&session, width, height);
            prop_assert_eq!(grid.rows().count(), height);
            prop_assert!(grid.rows().all(|row| row.len() == width));
            prop_assert!(grid.cursor.is_none_or(|(column, row)| column < width && row < height));
            let marks = grid.rows().filter(|row| row.get(2).is_some_and(|cell| cell.symbol == '>')).count();
            prop_assert!(session.view != View::List || height < 2 || width < 8 || marks >= 1, "the mark is always seen");
        }
    }
}
