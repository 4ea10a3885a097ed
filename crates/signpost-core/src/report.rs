//! Many machines on one page, from the documents that `survey --json` and `check --json` have printed on each.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use signpost_facts::cause::Effect;
use signpost_facts::{FirmwareKind, SCHEMA};

use crate::edit::Difference;

/// All of them.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Report {
    /// The machines, the worst first.
    pub machines: Vec<MachineRow>,
    /// Documents that tell of none.
    pub faults: Vec<Fault>,
}

/// A machine, as its document tells.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MachineRow {
    /// The file of the document.
    pub file: String,
    /// Its name; that of the file, where the document has none.
    pub name: String,
    /// Its firmware; `check` does not tell.
    pub firmware: Option<FirmwareKind>,
    /// Its systems' titles; `check` does not tell.
    pub systems: Vec<String>,
    /// What starts where nobody chooses.
    pub starts_next: String,
    /// What is wrong, the worst first.
    pub problems: Vec<Problem>,
    /// How its menu file stands to the policy there; nothing where it has none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub policy: Option<PolicyRow>,
}

/// How a machine's menu file stands to the policy there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PolicyRow {
    /// Where they differ.
    pub differences: Vec<Difference>,
    /// What of the policy fits nothing there.
    #[serde(default)]
    pub notes: Vec<String>,
    /// Why the two could not be compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

impl PolicyRow {
    /// Whether the menu file is as the policy says.
    pub fn is_followed(&self) -> bool {
        self.differences.is_empty() && self.fault.is_none()
    }
}

/// What is wrong with a machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// Its code.
    pub code: String,
    /// What it does to starting.
    pub severity: Effect,
    /// In a sentence.
    pub message: String,
}

/// A document that tells of no machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Fault {
    /// Its file.
    pub file: String,
    /// Why not, with line and column where it breaks.
    pub why: String,
}

impl MachineRow {
    /// The worst that is wrong.
    pub fn worst(&self) -> Option<Effect> {
        self.problems.first().map(|problem| problem.severity)
    }

    /// How many problems of this kind there are.
    pub fn count(&self, severity: Effect) -> usize {
        self.problems.iter().filter(|problem| problem.severity == severity).count()
    }
}

impl Report {
    /// What each of these files, or why it could not be read, tells.
    pub fn of(documents: impl IntoIterator<Item = (String, Result<String, String>)>) -> Self {
        let mut report = Self::default();
        for (file, text) in documents {
            match text.and_then(|text| row(&file, &text)) {
                Ok(row) => report.machines.push(row),
                Err(why) => report.faults.push(Fault { file, why }),
            }
        }
        report.tell_apart();
        // Machines with nothing wrong come last.
        let badness = |row: &MachineRow| (row.worst().is_none(), row.worst());
        report.machines.sort_by(|a, b| (badness(a), &a.name, &a.file).cmp(&(badness(b), &b.name, &b.file)));
        report
    }

    /// Machines of one name are told apart by their files.
    fn tell_apart(&mut self) {
        let mut counts: HashMap<String, usize> = HashMap::new();
        for row in &self.machines {
            *counts.entry(row.name.clone()).or_default() += 1;
        }
        for row in &mut self.machines {
            let own = stem(&row.file);
            if counts.get(&row.name).is_some_and(|count| *count > 1) && row.name != own {
                row.name = format!("{} ({own})", row.name);
            }
        }
    }
}

/// What of a document is read; it may have more.
#[derive(Deserialize)]
struct Document {
    command: String,
    result: Option<Told>,
    error: Option<Refused>,
}

#[derive(Deserialize)]
struct Refused {
    message: String,
}

/// Of a survey and of a check alike.
#[derive(Deserialize)]
struct Told {
    machine: Option<Named>,
    #[serde(default)]
    systems: Vec<Titled>,
    firmware: Option<Next>,
    starts_next: Option<String>,
    #[serde(default)]
    findings: Vec<Wrong>,
    #[serde(default)]
    causes: Vec<Wrong>,
    policy: Option<PolicyRow>,
}

#[derive(Deserialize)]
struct Named {
    name: Option<String>,
    firmware: FirmwareKind,
}

#[derive(Deserialize)]
struct Titled {
    title: String,
}

#[derive(Deserialize)]
struct Next {
    starts_next: Option<String>,
}

#[derive(Deserialize)]
struct Wrong {
    code: String,
    /// Nothing for a finding that does nothing to starting, which is no problem.
    #[serde(alias = "effect")]
    severity: Option<Effect>,
    message: String,
}

fn row(file: &str, text: &str) -> Result<MachineRow, String> {
    let envelope: Envelope = serde_json::from_str(text).map_err(|error| error.to_string())?;
    if envelope.schema != SCHEMA {
        return Err(format!("it is of schema {}; this program reads schema {SCHEMA}", envelope.schema));
    }
    let document: Document = serde_json::from_str(text).map_err(|error| error.to_string())?;
    let told = match (document.command.as_str(), document.result, document.error) {
        ("survey" | "check", Some(told), _) => told,
        ("survey" | "check", None, Some(refused)) => {
            return Err(format!("{} failed there: {}", document.command, refused.message));
        }
        (command, ..) => {
            return Err(format!(
                "it is what `{command}` printed; a report is made of `survey --json` or `check --json`"
            ));
        }
    };
    let mut problems: Vec<Problem> = told
        .findings
        .into_iter()
        .chain(told.causes)
        .filter_map(|wrong| {
            Some(Problem { code: wrong.code, severity: wrong.severity?, message: wrong.message })
        })
        .collect();
    problems.sort_by_key(|problem| problem.severity);
    let (name, firmware) = match told.machine {
        Some(machine) => (machine.name, Some(machine.firmware)),
        None => (None, None),
    };
    Ok(MachineRow {
        file: file.to_string(),
        name: name.unwrap_or_else(|| stem(file).to_string()),
        firmware,
        systems: told.systems.into_iter().map(|system| system.title).collect(),
        starts_next: told
            .starts_next
            .or(told.firmware.and_then(|firmware| firmware.starts_next))
            .unwrap_or_default(),
        problems,
        policy: told.policy,
    })
}

/// What tells a document of another schema before the rest of it is read.
#[derive(Deserialize)]
struct Envelope {
    schema: u32,
}

/// A file's name without its folders and its ending.
fn stem(file: &str) -> &str {
    let name = file.rsplit('/').next().unwrap_or(file);
    name.strip_suffix(".json").unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const SURVEY: &str = r#"{"schema":1,"command":"survey","result":{"machine":{"name":"Pier 1","firmware":"uefi","more":1},
        "systems":[{"title":"Larkspur Linux 14","id":"larkspur"}],"firmware":{"starts_next":"Larkspur Linux 14"},
        "findings":[{"code":"volume-unread","severity":null,"message":"d1p2"},{"code":"entry-stale","severity":"untidy","message":"entry 0000"},
        {"code":"loader-gone","severity":"system-lost","message":"a loader is gone"}]}}"#;
    const CHECK: &str =
        r#"{"schema":1,"command":"check","result":{"starts":true,"starts_next":"Meridian","causes":[]}}"#;

    fn of(documents: &[(&str, &str)]) -> Report {
        Report::of(documents.iter().map(|(file, text)| (file.to_string(), Ok(text.to_string()))))
    }

    #[test]
    fn the_worst_comes_first_and_each_tells_what_it_can() {
        let report = of(&[("saved/pier-2.json", CHECK), ("a.json", SURVEY)]);
        assert_eq!(report.faults, []);
        let names: Vec<&str> = report.machines.iter().map(|row| row.name.as_str()).collect();
        assert_eq!(names, ["Pier 1", "pier-2"]);
        let first = &report.machines[0];
        assert_eq!((first.worst(), first.count(Effect::Untidy)), (Some(Effect::SystemLost), 1));
        assert_eq!(
            (first.firmware, first.systems.as_slice()),
            (Some(FirmwareKind::Uefi), &["Larkspur Linux 14".to_string()][..])
        );
        assert_eq!((report.machines[1].starts_next.as_str(), report.machines[1].worst()), ("Meridian", None));
    }

    #[test]
    fn machines_of_one_name_are_told_apart_by_their_files() {
        let report = of(&[("saved/a.json", SURVEY), ("b.json", SURVEY), ("c.json", CHECK)]);
        let names: Vec<&str> = report.machines.iter().map(|row| row.name.as_str()).collect();
        assert_eq!(names, ["Pier 1 (a)", "Pier 1 (b)", "c"]);
    }

    #[test]
    fn what_tells_of_no_machine_is_named_and_the_others_are_reported() {
        let refused = r#"{"schema":1,"command":"check","error":{"code":"x","message":"this needs root"}}"#;
        let other = r#"{"schema":1,"command":"plan","result":{}}"#;
        let newer = r#"{"schema":9,"anything":[]}"#;
        let documents =
            [("cut", &SURVEY[..200]), ("r", refused), ("o", other), ("n", newer), ("e", ""), ("ok", SURVEY)];
        let report = of(&documents);
        assert_eq!(report.machines.len(), 1);
        let whys: Vec<&str> = report.faults.iter().map(|fault| fault.why.as_str()).collect();
        assert!(whys[0].starts_with("EOF while parsing") && whys[0].contains("line 2"), "{whys:?}");
        assert_eq!(whys[1], "check failed there: this needs root");
        assert!(whys[2].starts_with("it is what `plan` printed"), "{whys:?}");
        assert_eq!(whys[3], "it is of schema 9; this program reads schema 1");
        assert_eq!(report.faults.len(), 5);
    }

    proptest! {
        #[test]
        fn any_bytes_are_a_fault_or_a_machine(text in ".{0,200}", cut in 0..SURVEY.len()) {
            let cut: String = SURVEY.chars().take(cut).collect();
            let report = of(&[("a", &text), ("b", &cut)]);
            prop_assert_eq!(report.faults.len(), 2);
        }
    }
}
