//! Mending: the cures of causes made into one plan, which goes through the one way in which a machine is changed.

mod acts;

use serde::Serialize;
use signpost_facts::cause::{Act, Cause, Cure};
use signpost_facts::change::{Change, FileWrite, SectorWrite, Write};
use signpost_facts::{Code, Error, Refusal, Result};

use crate::check::{Case, Check};
use crate::menu_file::MenuFile;
use crate::plan::{Plan, guards, safe, state_after};
use crate::rehearse::{Outcome, State, rehearse, rehearse_state};
use crate::ways;
use acts::Work;

/// What would be mended.
#[derive(Clone, Debug, Serialize)]
pub struct Mend {
    /// What is cured, and how, in the order of what it does to starting.
    pub cured: Vec<Cured>,
    /// What is not: a person has to do something, or it was not asked for.
    pub left: Vec<Left>,
    /// What would be written, in this order.
    pub writes: Vec<Change>,
    /// What stands against it.
    pub refusals: Vec<Refusal>,
    /// What starts without it.
    pub found: String,
    /// What starts then, rehearsed.
    pub outcome: Outcome,
    /// The menu file's text then, where it changes.
    #[serde(skip)]
    pub menu: Option<MenuFile>,
    /// The plan of that menu, where it is applied.
    #[serde(skip)]
    pub plan: Option<Plan>,
    /// Whether some of it can only be planned once the rest is done: a table comes before what lies behind it.
    pub goes_on: bool,
}

/// A cause that is cured.
#[derive(Clone, Debug, Serialize)]
pub struct Cured {
    /// Its code.
    pub code: Code,
    /// The cause.
    pub cause: String,
    /// The cure's name.
    pub by: &'static str,
    /// What it does.
    pub what: String,
    /// The names of what would cure it too.
    pub others: Vec<&'static str>,
}

impl Cured {
    fn of(cause: &Cause, cure: &Cure) -> Self {
        let names = cause.cures.iter().map(|cure| cure.name);
        Self {
            code: cause.code,
            cause: cause.message.clone(),
            by: cure.name,
            what: cure.what.clone(),
            others: names.filter(|name| *name != cure.name).collect(),
        }
    }
}

/// A cause that is left.
#[derive(Clone, Debug, Serialize)]
pub struct Left {
    /// Its code.
    pub code: Code,
    /// The cause.
    pub cause: String,
    /// What to do about it.
    pub what: String,
}

/// What is asked for.
#[derive(Clone, Debug, Default)]
pub struct Asked {
    /// Causes of these codes; without any, all that keep the machine or a system from starting.
    pub codes: Vec<Code>,
    /// The cure by its name, where another than the best is wanted.
    pub by: Option<String>,
}

impl Asked {
    fn wants(&self, cause: &Cause) -> bool {
        if self.codes.is_empty() { cause.effect.is_felt() } else { self.codes.contains(&cause.code) }
    }

    /// The same; but nothing is written behind a broken table, so who asks for all asks for that too.
    fn wants_among(&self, cause: &Cause, check: &Check) -> bool {
        let is_felt = || check.causes.iter().any(|cause| cause.effect.is_felt() && !cause.cures.is_empty());
        let is_of_a_table = || cause.cures.first().is_some_and(is_of_a_table);
        self.wants(cause) || self.codes.is_empty() && is_of_a_table() && is_felt()
    }

    /// Whether each code that is asked for is wrong with the machine, and one of the causes has the cure that is named.
    fn is_there(&self, check: &Check, wanted: &[&Cause]) -> Result<()> {
        if let Some(code) = self.codes.iter().find(|code| !wanted.iter().any(|cause| cause.code == **code)) {
            let there: Vec<String> = check.causes.iter().map(|cause| cause.code.to_string()).collect();
            let there = match there.is_empty() {
                true => "nothing is wrong".into(),
                false => format!("there is {}", there.join(", ")),
            };
            return Err(Error::WrongUse(format!("{code} is not wrong with this machine; {there}")));
        }
        if let Some(name) =
            self.by.as_ref().filter(|_| !wanted.iter().any(|cause| self.cure(cause).is_some()))
        {
            let names: Vec<&str> =
                wanted.iter().flat_map(|cause| &cause.cures).map(|cure| cure.name).collect();
            return Err(Error::WrongUse(format!("there is no cure {name}; there is {}", names.join(", "))));
        }
        Ok(())
    }

    fn cure<'c>(&self, cause: &'c Cause) -> Option<&'c Cure> {
        match &self.by {
            None => cause.cures.first(),
            Some(name) => cause.cures.iter().find(|cure| cure.name == name),
        }
    }
}

/// Plans to mend what a check found.
///
/// # Errors
/// Where a code that was asked for is not among the causes, no cause has the cure that was named, or what it needs cannot be read.
pub fn mend(case: &Case<'_>, check: &Check, asked: &Asked) -> Result<Mend> {
    let wants = |cause: &Cause| asked.wants_among(cause, check);
    let wanted: Vec<&Cause> = check.causes.iter().filter(|cause| wants(cause)).collect();
    asked.is_there(check, &wanted)?;
    let look = case.look;
    let contents = look.contents()?;
    let mut work = Work::new(case, contents);
    let (mut cured, mut left) = (Vec::new(), Vec::new());
    let has_tables = wanted.iter().any(|cause| asked.cure(cause).is_some_and(is_of_a_table));
    let mut is_put_off = false;
    for cause in &check.causes {
        let cure = asked.cure(cause).filter(|_| wants(cause));
        // What lies behind a table is planned, and guarded, once the table is whole.
        if has_tables && cure.is_some_and(|cure| !is_of_a_table(cure)) {
            is_put_off = true;
            continue;
        }
        match cure {
            Some(cure) => {
                cure.acts.iter().try_for_each(|act| work.act(act))?;
                cured.push(Cured::of(cause, cure));
            }
            None => left.push(left_over(cause)),
        }
    }
    let done = work.finish()?;
    let files: Vec<FileWrite> = done.writes.iter().filter_map(Change::file).cloned().collect();
    let variables: Vec<Write> = done.writes.iter().filter_map(Change::variable).cloned().collect();
    let after = state_after(look, contents, &variables)?;
    let sectors: Vec<SectorWrite> = done.writes.iter().filter_map(Change::sectors).cloned().collect();
    let state = State { tables: &done.tables, sectors: &sectors, ..after.state(&files) };
    let (before, outcome) = (rehearse(look).outcome, rehearse_state(look, state, None).outcome);
    let mut refusals = done.refusals;
    let way = "`signpost check` names other cures: `signpost mend CODE --by NAME`";
    refusals.extend(ways::last_way(look, State::of(look), state, way));
    // Where nothing starts as it is, what is mended is not the worse for that.
    if guards::nothing_starts(&before).is_none() {
        refusals.extend(guards::nothing_starts(&outcome));
    }
    refusals.extend(safe::refusals(look, &done.writes));
    refusals.dedup_by(|one, other| one.code == other.code && one.message == other.message);
    Ok(Mend {
        cured,
        left,
        writes: done.writes,
        refusals,
        found: before.text,
        outcome,
        menu: done.menu,
        plan: done.plan,
        goes_on: done.goes_on || is_put_off,
    })
}

fn left_over(cause: &Cause) -> Left {
    let by_name = cause.cures.first().map(|_| format!("`signpost mend {}` cures it", cause.code));
    let what = by_name.or_else(|| cause.by_hand.clone()).unwrap_or_default();
    Left { code: cause.code, cause: cause.message.clone(), what }
}

/// Whether a cure writes a disk's table.
fn is_of_a_table(cure: &Cure) -> bool {
    cure.acts.iter().any(|act| matches!(act, Act::Table(_)))
}

/// Whether an act changes the menu that is active.
fn applies_a_menu(act: &Act) -> bool {
    matches!(act, Act::Reapply | Act::Redraft | Act::TakeSaved | Act::Default(_) | Act::Show)
}
