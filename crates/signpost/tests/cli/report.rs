//! Many machines on one page.

use signpost_demo::{StoreKind, gauge, tide};

use crate::harness::TestMachine;

/// Saved documents of three machines: a survey and a check of the demo's, a survey of one with BIOS; and three files that are none.
fn saved() -> (TestMachine, Vec<String>) {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    let survey = machine.ok(&["survey", "--json"]);
    machine.write("tide.json", &survey);
    machine.write("by-check.json", &machine.run(&["check", "--json"]).stdout);
    let other = TestMachine::small();
    std::fs::remove_dir_all(other.folder()).unwrap();
    gauge::write(other.folder()).unwrap();
    machine.write("gauge.json", &other.ok(&["survey", "--json"]));
    machine.write("cut.json", &survey[..survey.len() / 2]);
    machine.write("other.json", &machine.run(&["plan", "--json"]).stdout);
    let names = ["tide.json", "by-check.json", "gauge.json", "cut.json", "other.json", "none.json"];
    let files = names.iter().map(|name| machine.path(name).display().to_string()).collect();
    (machine, files)
}

#[test]
fn machines_are_reported_the_worst_first_and_what_is_none_is_named() {
    let (machine, files) = saved();
    let files: Vec<&str> = files.iter().map(String::as_str).collect();
    let run = machine.run(&[&["report"], &files[..]].concat());
    assert_eq!(run.code, 1, "{}", run.stderr);
    assert!(run.stdout.starts_with("3 machines: "), "{}", run.stdout);
    for (file, why) in [
        ("cut.json", "EOF while parsing"),
        ("other.json", "what `plan` printed"),
        ("none.json", "there is no such file"),
    ] {
        let line = run.stdout.lines().find(|line| line.contains(file));
        assert!(line.is_some_and(|line| line.contains("Not read:") && line.contains(why)), "{}", run.stdout);
    }
    let run = machine.run(&[&["report", "--json"], &files[..3]].concat());
    assert_eq!(run.code, 0);
    let document: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    let machines = document["result"]["machines"].as_array().unwrap();
    let named = |name: &str| machines.iter().find(|row| row["name"] == name).unwrap();
    // A survey and a check of one machine agree on what starts.
    assert_eq!(named("Tide bench PC 2")["starts_next"], named("by-check")["starts_next"]);
    assert_eq!(named("Tide bench PC 2")["systems"].as_array().unwrap().len(), 4);
    assert_eq!(named("Gauge logger")["firmware"], "bios");
    assert_eq!(machine.run(&["report"]).code, 2);
}

#[test]
fn a_page_for_a_browser_needs_nothing_from_elsewhere_and_shows_names_as_text() {
    let (machine, files) = saved();
    let strange =
        machine.read("tide.json").replace("Tide bench PC 2", "<script>alert(1)</script> & \\\"Tide\\\"");
    machine.write("tide.json", &strange);
    let page = machine.path("page.html");
    let run = machine.run(&["report", "--html", page.to_str().unwrap(), &files[0], &files[3]]);
    assert_eq!(run.code, 1, "{}", run.stderr);
    let html = machine.read("page.html");
    assert!(html.contains("<td>&lt;script&gt;alert(1)&lt;/script&gt; &amp; &quot;Tide&quot;<td>"), "{html}");
    for foreign in ["<script", "http:", "https:", "src=", "@import", "url("] {
        assert!(!html.contains(foreign), "{foreign}: {html}");
    }
    assert!(
        html.contains("Larkspur Linux 14")
            && html.contains("<h2>Not read</h2>")
            && html.ends_with("</html>\n")
    );
}
