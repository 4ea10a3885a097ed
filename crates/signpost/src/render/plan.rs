use signpost_core::plan::Plan;
use signpost_core::rehearse::Outcome;
use signpost_core::undo::Undo;
use signpost_facts::Refusal;
use signpost_facts::change::Change;
use signpost_facts::number::joined;

use super::menu::left_out;
use super::rehearse::outcome;
use super::style;
use super::table::Table;
use super::width::hanging;

/// What a plan is for.
#[derive(Clone, Copy)]
pub enum Aim {
    /// The machine becomes what the menu says.
    Menu,
    /// What is ours goes.
    Removal,
}

impl Aim {
    /// How the machine is where there is nothing to do.
    fn reached(self) -> &'static str {
        match self {
            Self::Menu => "the machine is as the menu says",
            Self::Removal => "nothing of ours is on the machine",
        }
    }
}

pub fn text(plan: &Plan, aim: Aim) -> String {
    let home = plan.home.as_ref().map(|home| format!("{}  {home}\n", style::heading("Home")));
    let second = plan.second_home.as_ref().map_or_else(|| "\n".into(), |home| format!("      {home}\n\n"));
    let home = home.map(|home| home + &second).unwrap_or_default();
    let mut text = home + &entries(plan);
    text.push_str(&changes(plan));
    text.push_str(&notes(&plan.notes));
    text.push_str(&left_out("Not in the menu", &plan.left_out));
    text.push('\n');
    let writes: Vec<&str> = plan.writes.iter().map(Change::what).collect();
    text.push_str(&write_list(&writes, &format!("Nothing to write: {}.", aim.reached())));
    text.push_str(&refusals(&plan.refusals));
    text + "\n" + &outcome("Next start then", &plan.outcome)
}

/// Order and timeout of the firmware, now and then; nothing where it has no order.
fn changes(plan: &Plan) -> String {
    if plan.order_before.is_empty() && plan.order_after.is_empty() {
        return String::new();
    }
    let mut table = Table::new(&["", "now", "then"]);
    table.row(["boot order".into(), joined(&plan.order_before, " "), joined(&plan.order_after, " ")]);
    let now = plan.timeout_before.map_or_else(|| "not set".into(), seconds);
    if let Some(then) = plan.timeout_after {
        table.row(["timeout".into(), now, seconds(then)]);
    }
    format!("{}\n{}", style::heading("Changes"), table.text())
}

/// What becomes of each entry of the menu; nothing where the plan has none.
fn entries(plan: &Plan) -> String {
    if plan.entries.is_empty() {
        return String::new();
    }
    let mut table = Table::new(&["id", "title", "entry", "plan", "why"]);
    for entry in &plan.entries {
        table.row([
            entry.id.to_string(),
            entry.title.clone(),
            entry.number.map_or_else(|| "-".into(), String::from),
            entry.action.word().into(),
            entry.detail.clone(),
        ]);
    }
    format!("{}\n{}\n", style::heading("Entries"), table.text())
}

/// What was done; with the plan's notes, where nobody has read them before.
pub fn applied((plan, aim): (&Plan, Aim), record: Option<u32>, then: &Outcome, is_read: bool) -> String {
    let Some(record) = record else {
        let reached = style::sentence(aim.reached());
        // A menu's notes were read when it was applied.
        let ways = if matches!(aim, Aim::Removal) { notes(&plan.notes) } else { String::new() };
        return format!("{reached}; nothing was written.\n") + &ways + &outcome("Next start", then);
    };
    let mut text = String::new();
    for write in &plan.writes {
        text.push_str(&format!("  {}  {}\n", style::good("done"), write.what()));
    }
    let count = writes(plan.writes.len());
    let done = match aim {
        Aim::Menu => "Applied",
        Aim::Removal => "Removed",
    };
    let unread = if is_read { String::new() } else { notes(&plan.notes) };
    text + &format!("\n{done}: {count}, read back; record {record} of the history.\n")
        + &unread
        + &outcome("Next start", then)
}

pub fn undo(undo: &Undo, is_planned: bool) -> String {
    let mut text = format!("Record {} of {}", undo.of, undo.time);
    text.push_str(if is_planned { " would be undone\n\n" } else { " is undone\n\n" });
    let writes: Vec<&str> = undo.writes.iter().map(Change::what).collect();
    let nothing = "Nothing is left to undo.";
    if is_planned {
        text.push_str(&write_list(&writes, nothing));
    } else if writes.is_empty() {
        text.push_str(&format!("{nothing}\n"));
    } else {
        writes.iter().for_each(|what| text.push_str(&format!("  {}  {what}\n", style::good("done"))));
    }
    text.push_str(&notes(&undo.notes));
    text.push_str(&refusals(&undo.refusals));
    let word = if is_planned { "Next start then" } else { "Next start" };
    text + "\n" + &outcome(word, &undo.outcome)
}

fn seconds(timeout: u16) -> String {
    match timeout {
        u16::MAX => "none".into(),
        seconds => format!("{seconds} s"),
    }
}

pub fn writes(count: usize) -> String {
    if count == 1 { "1 write".into() } else { format!("{count} writes") }
}

pub fn write_list(list: &[&str], nothing: &str) -> String {
    if list.is_empty() {
        return format!("{nothing}\n");
    }
    let mut text = format!(
        "{}, in this order; the machine still starts after each\n",
        style::heading(&writes(list.len()))
    );
    for (index, what) in list.iter().enumerate() {
        text.push_str(&format!("  {}. {what}\n", index + 1));
    }
    text
}

pub fn notes(notes: &[String]) -> String {
    notes.iter().map(|note| hanging(&format!("{} {note}", style::problem("note:")), "  ")).collect()
}

pub fn refusals(refusals: &[Refusal]) -> String {
    let line = |refusal: &Refusal| {
        hanging(&format!("{} {}: {}", style::bad("refused"), refusal.code, refusal.message), "  ")
    };
    let lines: String = refusals.iter().map(line).collect();
    if lines.is_empty() { lines } else { format!("\n{lines}") }
}
