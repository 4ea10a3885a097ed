//! A survey that was kept is read back, and decided on as the one that it was taken from.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use signpost_core::firmware;
use signpost_demo::{StoreKind, gauge, tide};
use signpost_facts::Survey;
use signpost_machine::Machine;
use signpost_place::{Look, home};
use signpost_survey::catalogue::Catalogue;
use signpost_upkeep::{Records, look};

/// What is decided on it: the firmware's entries, each with what can be done, and the home that would be chosen.
fn decided(machine: &Machine, look: &Look) -> (serde_json::Value, Option<(usize, &'static str)>) {
    let records = Records::of(machine, look).unwrap();
    let list = serde_json::to_value(firmware::list(look, records.history())).unwrap();
    (list, home::choose(look, None).ok().map(|home| (home.volume, home.why)))
}

#[test]
fn a_survey_that_was_kept_is_read_back_and_decided_on() {
    for name in ["tide", "gauge"] {
        let folder = tempfile::tempdir().unwrap();
        match name {
            "tide" => tide::bench(StoreKind::Folder).write(folder.path()).unwrap(),
            _ => gauge::write(folder.path()).unwrap(),
        }
        let machine = Machine::open_bench(folder.path()).unwrap();
        let seen = look(&machine, &Catalogue::built_in());
        let kept = serde_json::to_string(&seen.survey).unwrap();
        let read: Survey = serde_json::from_str(&kept).unwrap();
        assert_eq!(serde_json::to_string(&read).unwrap(), kept, "{name}");
        let mut recorded = Look::new(read, seen.contents.clone(), seen.architecture);
        (recorded.boot.current, recorded.running) = (seen.boot.current, seen.running);
        assert!(!recorded.survey.systems.is_empty() && recorded.volumes.is_empty(), "{name}");
        assert_eq!(decided(&machine, &recorded), decided(&machine, &seen), "{name}");
    }
}
