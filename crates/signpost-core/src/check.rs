//! What is wrong with a machine, by causes: whether and what it starts by itself, then each cause once, with what of it was seen,
//! what speaks for it, and what cures it. Nothing is changed.

mod active_menu;
mod applied;
mod behind_table;
mod bios;
mod bios_menu;
mod entries;
mod homes;
mod machine;
mod rest;
mod systems;
mod twins;

use std::path::Path;

use serde::Serialize;
use signpost_facts::cause::{Act, Cause, Cure, Effect};
use signpost_facts::{Code, Error, Finding, FirmwareKind, Subject, System};
use signpost_firmware::boot_variables::BootVariables;
use signpost_menu::MenuDocument;
use signpost_place::Look;
use signpost_place::boot_program::BootProgram;
use signpost_place::hardware::SurveyedHardware;

use crate::draft::Base;
use crate::history::History;
use crate::hold::{Held, Material, Pictures};
use crate::menu_file::MenuFile;
use crate::rehearse::{self, Outcome, Rehearsal, State};
use crate::ways;

/// All that a check goes by.
pub struct Case<'a> {
    /// The machine.
    pub look: &'a Look,
    /// What was done to it.
    pub history: &'a History,
    /// What was applied last, where that is known.
    pub held: Option<&'a Held>,
    /// Where the menu file stands.
    pub menu_path: &'a Path,
    /// The menu file, or what is wrong with it; `None` where there is none.
    pub menu: Option<Result<&'a MenuFile, &'a Error>>,
    /// What the last draft wrote into it.
    pub base: Base,
    /// The boot program that is installed beside this one.
    pub program: Option<BootProgram>,
    /// The copies of it among the sectors of disks, where BIOS starts them.
    pub copies: &'a [Vec<u8>],
    /// The picture of its look.
    pub picture: &'a Pictures<'a>,
}

impl Case<'_> {
    /// What there is to write again what was applied.
    pub(crate) fn material(&self) -> Material<'_> {
        Material { program: self.program.as_ref(), copies: self.copies, picture: self.picture }
    }
}

/// What a check found.
#[derive(Clone, Debug, Serialize)]
pub struct Check {
    /// Whether a system starts by itself, or by a key where that is asked for.
    pub starts: bool,
    /// What starts next, in words.
    pub starts_next: String,
    /// The causes, the worst first.
    pub causes: Vec<Cause>,
    /// What could not be looked at, and so is not in this picture.
    pub unseen: Vec<String>,
}

/// A finding of a survey with what a check makes of it.
#[derive(Clone, Debug, Serialize)]
pub struct Judged<'a> {
    #[serde(flatten)]
    finding: &'a Finding,
    /// What it does to starting; nothing where it does nothing.
    severity: Option<Effect>,
    /// The command that cures it, where one does.
    cure: Option<String>,
}

impl Check {
    /// The findings of a survey, each with its severity and the command that cures it.
    pub fn judged<'a>(&self, findings: &'a [Finding]) -> Vec<Judged<'a>> {
        let judge = |finding: &'a Finding| {
            let is_of = |cause: &&Cause| {
                let is_same =
                    |code, subject: &Option<Subject>| code == finding.code && *subject == finding.subject;
                is_same(cause.code, &cause.subject)
                    || cause.symptoms.iter().any(|symptom| is_same(symptom.code, &symptom.subject))
            };
            let cause = self.causes.iter().find(is_of);
            let cure = cause.filter(|cause| !cause.cures.is_empty());
            let cure = cure.map(|cause| format!("signpost mend {}", cause.code));
            Judged { finding, severity: cause.map(|cause| cause.effect), cure }
        };
        findings.iter().map(judge).collect()
    }

    /// Whether there is more to it than what is untidy.
    pub fn finds_problems(&self) -> bool {
        self.causes.iter().any(|cause| cause.effect != Effect::Untidy)
    }
}

/// What several causes are judged by.
struct Seen<'a> {
    case: &'a Case<'a>,
    look: &'a Look,
    rehearsal: Rehearsal,
    /// The ids of the systems that have a way.
    startable: Vec<String>,
    /// The menu that is active.
    menu: Option<(usize, MenuDocument)>,
}

impl<'a> Seen<'a> {
    fn of(case: &'a Case<'a>) -> Self {
        let look = case.look;
        let hardware = SurveyedHardware::new(look);
        let mut startable: Vec<String> =
            ways::ways(look, State::of(look)).into_iter().map(|way| way.system).collect();
        startable.dedup();
        Self {
            case,
            look,
            rehearsal: rehearse::rehearse(look),
            startable,
            menu: rehearse::active_menu(look, &look.boot, &hardware),
        }
    }

    fn outcome(&self) -> &Outcome {
        &self.rehearsal.outcome
    }

    fn boot(&self) -> &BootVariables {
        &self.look.boot
    }

    fn has_way(&self, id: &str) -> bool {
        self.startable.iter().any(|own| own == id)
    }

    /// What a cause does that keeps these systems from starting, where it is on the way that the machine starts by itself or not.
    fn effect(&self, systems: &[&System], is_on_the_way: bool, else_it_is: Effect) -> Effect {
        if is_on_the_way && !self.outcome().is_sound() {
            Effect::NothingStarts
        } else if !systems.is_empty() && systems.iter().any(|system| !self.has_way(&system.id)) {
            Effect::SystemLost
        } else {
            else_it_is
        }
    }
}

/// What `hold` writes again by itself.
fn hold_cure(what: &str) -> Cure {
    Cure { name: "hold", what: what.into(), acts: vec![Act::Hold] }
}

/// A cause without evidence, symptoms and cures yet.
fn cause(code: Code, effect: Effect, subject: Option<Subject>, message: String) -> Cause {
    Cause {
        code,
        effect,
        subject,
        systems: Vec::new(),
        message,
        evidence: Vec::new(),
        symptoms: Vec::new(),
        cures: Vec::new(),
        by_hand: None,
    }
}

fn ids(systems: &[&System]) -> Vec<String> {
    systems.iter().map(|system| system.id.clone()).collect()
}

/// The causes as they are gathered, and what of the findings they account for.
#[derive(Default)]
struct Found {
    causes: Vec<Cause>,
    /// Subjects whose findings of these codes belong to the cause at this index.
    explained: Vec<(usize, Code, Option<Subject>)>,
}

impl Found {
    /// Takes in a cause that accounts for findings of these codes about its subject.
    fn add(&mut self, cause: Cause, explains: &[Code]) -> usize {
        let index = self.causes.len();
        let subject = cause.subject.clone();
        self.causes.push(cause);
        for code in explains {
            self.explain(index, *code, subject.clone());
        }
        index
    }

    /// Notes that a cause accounts for findings of a code about something.
    fn explain(&mut self, index: usize, code: Code, subject: Option<Subject>) {
        self.explained.push((index, code, subject));
    }

    /// The cause of this code about this.
    fn of(&mut self, code: Code, subject: Option<&Subject>) -> Option<&mut Cause> {
        self.causes.iter_mut().find(|cause| cause.code == code && cause.subject.as_ref() == subject)
    }

    /// Hands each finding to the cause that accounts for it; those that none does.
    fn take(&mut self, findings: &[Finding]) -> Vec<Finding> {
        let mut rest = Vec::new();
        for finding in findings {
            let by = self.explained.iter().find(|(_, code, subject)| {
                *code == finding.code && (subject.is_none() || *subject == finding.subject)
            });
            match by.and_then(|(index, ..)| self.causes.get_mut(*index)) {
                Some(cause) => cause.symptoms.push(finding.clone()),
                None => rest.push(finding.clone()),
            }
        }
        rest
    }
}

/// Names what is wrong.
pub fn check(case: &Case<'_>) -> Check {
    let seen = Seen::of(case);
    let mut found = Found::default();
    machine::find(&seen, &mut found);
    if case.look.survey.machine.firmware == FirmwareKind::Uefi {
        applied::find(&seen, &mut found);
        entries::find(&seen, &mut found);
        active_menu::find(&seen, &mut found);
        systems::find(&seen, &mut found);
    }
    if case.look.survey.machine.firmware == FirmwareKind::Bios {
        bios_menu::find(&seen, &mut found);
        active_menu::find_in_sectors(&seen, &mut found);
        bios::find(&seen, &mut found);
    }
    let left = found.take(&case.look.survey.findings);
    rest::find(&seen, left, &mut found);
    let mut causes = found.causes;
    causes.sort_by_key(|cause| cause.effect);
    Check {
        starts: seen.outcome().is_sound(),
        starts_next: case.look.survey.firmware.starts_next.clone(),
        causes,
        unseen: machine::unseen(case.look),
    }
}
