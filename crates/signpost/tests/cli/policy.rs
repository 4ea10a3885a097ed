//! One policy for many machines: what it says of a menu, and what of it fits nothing on one machine.

use serde_json::Value;
use signpost_demo::{StoreKind, tide};
use toml_edit::{DocumentMut, Table};

use crate::harness::TestMachine;

/// The demo's machine, and a policy beside its menu file, where the machine's own stands.
fn machine(policy: &str) -> (TestMachine, String) {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    machine.write("policy.toml", policy);
    let file = machine.path("policy.toml").display().to_string();
    (machine, file)
}

/// What a policy of every kind of key says.
const WHOLE: &str = "\
host = \"signpost\"
timeout = 12
default = \"Meridian Desktop 4\"
order = [\"Office\", \"tidewater\"]
hide = [\"larkspur-single\", \"larkspur-older\"]

[titles]
\"Meridian Desktop 4\" = \"Office\"

[kernel]
args = \"quiet\"
";

/// The ids and titles of a menu file's entries that stand at the top.
fn top(machine: &TestMachine) -> Vec<(String, String)> {
    let document: DocumentMut = machine.read("menu.toml").parse().unwrap();
    let entries = document["entry"].as_array_of_tables().unwrap().iter();
    let text = |entry: &Table, key: &str| entry[key].as_str().unwrap().to_string();
    let top = entries.filter(|entry| !entry.contains_key("in"));
    top.map(|entry| (text(entry, "id"), text(entry, "title"))).collect()
}

fn keys(differences: &Value) -> Vec<&str> {
    differences.as_array().unwrap().iter().map(|difference| difference["key"].as_str().unwrap()).collect()
}

#[test]
fn a_menu_is_made_as_the_policy_says_and_stays_so() {
    let (machine, file) = machine(&WHOLE.replace("hide =", "# hide ="));
    let first = machine.json(&["draft", "--from", &file]);
    assert_eq!(first["policy"]["notes"], Value::Null);
    let entries = top(&machine);
    let named: Vec<(&str, &str)> =
        entries.iter().take(3).map(|(id, title)| (id.as_str(), title.as_str())).collect();
    assert_eq!(
        named,
        [("meridian", "Office"), ("tidewater", "Tidewater RT 5"), ("larkspur", "Larkspur Linux 14")]
    );
    let text = machine.read("menu.toml");
    for line in ["host    = \"signpost\"", "default = \"meridian\"", "timeout = 12", "args = \"quiet\""] {
        assert!(text.contains(line), "{line}: {text}");
    }
    // A system that goes by another title now is found by its own.
    machine.ok(&["draft", "--from", &file]);
    machine.ok(&["tune", "--from", &file]);
    assert_eq!(machine.read("menu.toml"), text);
    assert_eq!(machine.json(&["policy"])["differences"], Value::Array(Vec::new()));
}

#[test]
fn a_menu_that_another_shows_then_has_no_comment_that_says_otherwise() {
    let (machine, file) = machine("host = \"signpost\"\n");
    machine.ok(&["draft"]);
    assert!(machine.read("menu.toml").contains("\"firmware\"  # the firmware's own list shows it\n"));
    machine.ok(&["draft", "--from", &file]);
    assert!(machine.read("menu.toml").contains("host    = \"signpost\"\n"), "{}", machine.read("menu.toml"));
    machine.ok(&["tune", "host=firmware"]);
    // What a person wrote there stays.
    machine
        .write("menu.toml", &machine.read("menu.toml").replace("\"firmware\"", "\"firmware\" # since May"));
    machine.ok(&["tune", "host=signpost"]);
    assert!(machine.read("menu.toml").contains("host    = \"signpost\" # since May\n"));
}

#[test]
fn a_system_in_an_image_file_is_added_by_its_title_once() {
    let (machine, file) =
        machine("host = \"signpost\"\nadd = [\"Lantern Live\", \"Larkspur Linux 14\", \"Skerry\"]\n");
    let drafted = machine.json(&["draft", "--from", &file]);
    assert_eq!(keys(&drafted["policy"]["entries"]), ["add"]);
    let notes = drafted["policy"]["notes"].as_array().unwrap();
    assert_eq!(notes, &[Value::from("add: no system and no entry here is called Skerry (line 2)")]);
    let text = machine.read("menu.toml");
    assert!(text.contains("starts  = \"image\"") && text.contains("/systems/lantern.img"), "{text}");
    machine.ok(&["draft", "--from", &file]);
    machine.ok(&["tune", "--from", &file]);
    assert_eq!(machine.read("menu.toml"), text);
}

#[test]
fn a_plan_with_a_policy_writes_nothing_and_tells_what_draft_then_writes() {
    let (machine, file) = machine(WHOLE);
    let before = machine.everything();
    let planned = machine.run(&["plan", "--from", &file, "--check", "--json"]);
    assert_eq!(planned.code, 1, "{}", planned.stderr);
    assert_eq!(machine.everything(), before);
    let planned: Value = serde_json::from_str(&planned.stdout).unwrap();
    let menu = &planned["result"]["menu_file"];
    machine.ok(&["draft", "--from", &file]);
    assert_eq!(menu["before"], Value::Null);
    assert_eq!(menu["after"].as_str().unwrap(), machine.read("menu.toml"));
    let applied = machine.json(&["apply", "--yes"]);
    assert_eq!(applied["plan"]["writes"], planned["result"]["writes"]);
    assert_eq!(machine.run(&["plan", "--from", &file, "--check"]).code, 0);
}

#[test]
fn a_menu_that_differs_is_told_in_policy_check_survey_and_report() {
    let (machine, file) = machine(&WHOLE.replace("hide =", "# hide ="));
    machine.ok(&["draft", "--from", &file]);
    machine.ok(&["tune", "timeout=5"]);
    machine.ok(&["entry", "rename", "meridian", "Meridian"]);
    machine.ok(&["entry", "move", "larkspur", "top"]);
    let run = machine.run(&["policy", "--json"]);
    assert_eq!(run.code, 1);
    let compared: Value = serde_json::from_str(&run.stdout).unwrap();
    let differences = &compared["result"]["differences"];
    assert_eq!(keys(differences), ["timeout", "titles.\"Meridian Desktop 4\"", "order"]);
    assert_eq!((&differences[0]["value"], &differences[0]["before"]), (&"12".into(), &"5".into()));
    for command in ["check", "survey"] {
        let run = machine.run(&[command, "--json"]);
        let document: Value = serde_json::from_str(&run.stdout).unwrap();
        assert_eq!(&document["result"]["policy"]["differences"], differences, "{command}");
        machine.write("saved.json", &run.stdout);
        let saved = machine.path("saved.json").display().to_string();
        let report = machine.ok(&["report", &saved]);
        assert!(report.contains("3 differences"), "{report}");
        assert!(report.contains("Policy: timeout: 5; the policy says 12"), "{report}");
    }
    let shown = machine.run(&["policy"]).stdout;
    assert!(shown.contains("differs from") && shown.contains("in 3 things"), "{shown}");
    assert!(machine.run(&["check"]).stdout.contains("in 3 things"));
    machine.ok(&["tune", "--from", &file]);
    assert_eq!(machine.run(&["policy"]).code, 0);
}

#[test]
fn what_fits_nothing_is_a_note_and_an_error_where_the_policy_is_strict() {
    let policy = "default = \"Skerry\"\norder = [\"meridian\", \"Skerry BSD 9\"]\nhide = [\"GaugeDOS 7\"]\n\
                  titles.gauge = \"Gauge\"\nlook.name = \"chalk\"\n";
    let (machine, file) = machine(policy);
    machine.ok(&["draft"]);
    let tuned = machine.json(&["tune", "--from", &file]);
    let notes: Vec<&str> =
        tuned["notes"].as_array().unwrap().iter().map(|note| note.as_str().unwrap()).collect();
    let expected = [
        "default: no system and no entry here is called Skerry (line 1)",
        "look.name: the firmware shows this menu, in a look of its own (line 5)",
        "hide: no system and no entry here is called GaugeDOS 7 (line 3)",
        "titles: no system and no entry here is called gauge (line 4)",
        "order: no system and no entry here is called Skerry BSD 9 (line 2)",
    ];
    assert_eq!(notes, expected);
    assert_eq!(top(&machine)[0].0, "meridian");
    let text = machine.read("menu.toml");
    machine.write("policy.toml", &format!("strict = true\n{policy}"));
    let error = machine.fails(1, &["tune", "--from", &file]);
    for place in ["line 2, column 1", "line 3, column 22", "line 4, column 9", "line 5, column 8", "line 6"] {
        assert!(error.contains(place), "{place}: {error}");
    }
    assert_eq!(machine.read("menu.toml"), text);
}

#[test]
fn a_policy_with_errors_is_told_all_at_once_with_line_and_column() {
    let policy = "strict = 1\norder = \"larkspur\"\nhide = [3, \"meridian\", \"meridian\"]\n\
                  titles = [\"x\"]\ntimeout = [5]\n";
    let (machine, file) = machine(policy);
    machine.ok(&["draft"]);
    let before = machine.everything();
    for command in [&["policy", &file][..], &["tune", "--from", &file], &["draft", "--from", &file]] {
        let error = machine.fails(1, command);
        let lines = ["line 1, column 1", "line 2, column 1", "line 3, column 9", "line 3, column 24"];
        for place in lines.into_iter().chain(["line 4, column 1", "line 5, column 1"]) {
            assert!(error.contains(place), "{place}: {error}");
        }
    }
    machine.write("policy.toml", "order = [\"meridian\"]\nhide = [\"meridian\"]\n");
    assert!(machine.fails(1, &["policy"]).contains("meridian stands in order and in hide"));
    machine.write("policy.toml", "titels.meridian = \"Office\"\nhides = []\nhide = []\ncolours = 3\n");
    let error = machine.fails(1, &["policy"]);
    assert!(error.contains("line 2, column 1: there is no key hides; did you mean hide?"), "{error}");
    machine.write("policy.toml", "titels.meridian = \"Office\"\nodrer = 1\ncolours = 3\n");
    let error = machine.fails(1, &["policy"]);
    for part in ["no key titels.meridian; `signpost policy --keys`", "no key odrer; did you mean order?"] {
        assert!(error.contains(part), "{part}: {error}");
    }
    machine.write("policy.toml", policy);
    let check = machine.run(&["check"]).stdout;
    assert!(check.contains("The policy cannot be followed:"), "{check}");
    assert_eq!(machine.everything(), before);
}

#[test]
fn a_hidden_system_goes_with_all_its_entries_and_the_default_never_does() {
    let (machine, file) = machine("host = \"signpost\"\nhide = [\"Larkspur Linux 14\"]\n");
    let error = machine.fails(1, &["draft", "--from", &file]);
    assert!(error.contains("line 2, column 9: hide: larkspur is the default"), "{error}");
    machine.write(
        "policy.toml",
        "host = \"signpost\"\ndefault = \"Meridian\"\nhide = [\"Larkspur Linux 14\"]\n",
    );
    machine.ok(&["draft", "--from", &file]);
    let ids: Vec<String> = top(&machine).into_iter().map(|(id, _)| id).collect();
    assert_eq!(ids, ["meridian", "tidewater", "tidewater-single"]);
    let text = machine.read("menu.toml");
    assert!(text.contains("[[hide]]\nsystem = \"Larkspur Linux 14\""), "{text}");
    machine.ok(&["draft", "--from", &file]);
    assert_eq!(machine.read("menu.toml"), text);
    machine.ok(&["entry", "reveal", "Larkspur Linux 14"]);
    machine.ok(&["draft"]);
    assert!(machine.read("menu.toml").contains("id      = \"larkspur\""));
}

#[test]
fn an_entry_that_alone_starts_a_system_is_not_hidden_by_its_own_name() {
    let (machine, file) = machine("hide = [\"night\"]\n");
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["entry", "edit", "tidewater", "id=night", "title=Night watch"]);
    machine.ok(&["entry", "remove", "tidewater-single-newest"]);
    let text = machine.read("menu.toml");
    let error = machine.fails(1, &["tune", "--from", &file]);
    assert!(error.contains("no other entry of the menu starts Tidewater RT 5"), "{error}");
    assert_eq!(machine.read("menu.toml"), text);
}
