use std::fmt::Write;
use std::path::Path;

use signpost_core::report::{MachineRow, PolicyRow, Report};
use signpost_facts::cause::Effect;
use signpost_menu::text::shown;

use super::style;
use super::table::Table;

/// The machines in a table, then what is wrong with each, then what tells of none.
pub fn text(report: &Report, html: Option<&Path>) -> String {
    let has_policies = has_policies(report);
    let heads = ["machine", "starts next", "systems", "problems", "policy"];
    let mut table = Table::new(if has_policies { &heads } else { &heads[..4] });
    for row in &report.machines {
        let cells = [row.name.clone(), row.starts_next.clone(), row.systems.join(", "), counts(row)];
        let cells = cells.map(|cell| shown(&cell).into_owned());
        if has_policies {
            let [name, next, systems, problems] = cells;
            table.row([name, next, systems, problems, policy(row)]);
        } else {
            table.row(cells);
        }
    }
    let mut text = format!("{}\n\n{}", headline(report), table.text());
    let differs = |row: &MachineRow| row.policy.as_ref().is_some_and(|policy| !policy.is_followed());
    let is_felt = |row: &MachineRow| row.worst().is_some_and(|worst| worst < Effect::Untidy);
    for row in report.machines.iter().filter(|row| is_felt(row) || differs(row)) {
        let _ = writeln!(text, "\n{}", style::heading(&shown(&row.name)));
        for problem in row.problems.iter().filter(|problem| problem.severity < Effect::Untidy) {
            let _ = writeln!(text, "  {}: {}", problem.severity.words(), shown(&problem.message));
        }
        for line in policy_lines(row) {
            let _ = writeln!(text, "  Policy: {}", shown(&line));
        }
    }
    for fault in &report.faults {
        let _ = writeln!(text, "\n{} {}: {}", style::problem("Not read:"), fault.file, fault.why);
    }
    if let Some(html) = html {
        let _ = writeln!(text, "\n{}: the same for a browser", html.display());
    }
    text
}

/// Whether a machine tells of a policy.
fn has_policies(report: &Report) -> bool {
    report.machines.iter().any(|row| row.policy.is_some())
}

/// How a machine's menu file stands to its policy, in a few words.
fn policy(row: &MachineRow) -> String {
    match &row.policy {
        None => "none".into(),
        Some(PolicyRow { fault: Some(_), .. }) => "cannot be followed".into(),
        Some(policy) => match policy.differences.len() {
            0 => "followed".into(),
            1 => "1 difference".into(),
            count => format!("{count} differences"),
        },
    }
}

/// Where it differs, a line each.
fn policy_lines(row: &MachineRow) -> Vec<String> {
    let Some(policy) = &row.policy else { return Vec::new() };
    let differences = policy.differences.iter().map(|difference| {
        format!("{}: {}; the policy says {}", difference.key, difference.before, difference.value)
    });
    policy.fault.iter().cloned().chain(differences).collect()
}

/// How many machines there are, and how many of them want a look.
fn headline(report: &Report) -> String {
    let all = report.machines.len();
    let count = |is_one: fn(Effect) -> bool| {
        report.machines.iter().filter(|row| row.worst().is_some_and(is_one)).count()
    };
    let (felt, will_break) = (count(Effect::is_felt), count(|worst| worst == Effect::WillBreak));
    let machines = if all == 1 { "machine" } else { "machines" };
    let said = match (felt, will_break) {
        (0, 0) => "nothing keeps one from starting as it should".to_string(),
        (felt, 0) => format!("{felt} with a start that fails or is not the one wanted"),
        (0, will_break) => format!("{will_break} will break"),
        (felt, will_break) => {
            format!("{felt} with a start that fails or is not the one wanted, {will_break} more will break")
        }
    };
    format!("{all} {machines}: {said}")
}

/// Problems by what they do, the worst first.
fn counts(row: &MachineRow) -> String {
    let counted = Effect::ALL.into_iter().map(|effect| (effect, row.count(effect)));
    let words: Vec<String> = counted
        .filter(|(_, count)| *count > 0)
        .map(|(effect, count)| format!("{}: {count}", effect.words()))
        .collect();
    if words.is_empty() { "none".into() } else { words.join(", ") }
}

const STYLE: &str = "\
:root{color-scheme:light dark;--ground:#f6f4ef;--text:#2b3036;--faint:#5f6870;--line:#d9d5cb;--bad:#9a3f0c;--good:#2f6b4f}\
@media(prefers-color-scheme:dark){:root{--ground:#161e26;--text:#d9e0e6;--faint:#8fa3b3;--line:#2d3a46;--bad:#f2c14e;--good:#9fd3c7}}\
body{margin:2.5rem auto;max-width:76rem;padding:0 1.5rem;background:var(--ground);color:var(--text);font:1rem/1.5 system-ui,sans-serif}\
h1{font-size:1.5rem;margin:0 0 .25rem}p{color:var(--faint);margin:0 0 1.5rem}table{border-collapse:collapse;width:100%}\
th{text-align:left;font-weight:600;color:var(--faint)}th,td{padding:.6rem 1rem .6rem 0;border-bottom:1px solid var(--line);vertical-align:top}\
td:first-child,td:nth-child(3),td:nth-child(5){white-space:nowrap}td:nth-child(2){overflow-wrap:anywhere}summary{cursor:pointer}ul{margin:.4rem 0 0;padding-left:1.1rem}.bad{color:var(--bad);font-weight:600}.good{color:var(--good)}\
h2{font-size:1.1rem;margin:2rem 0 .5rem}";

/// The report as one file for a browser: no script, nothing from elsewhere.
pub fn html(report: &Report) -> String {
    let has_policies = has_policies(report);
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width\">\n\
         <title>Machines and what they start</title>\n<style>{STYLE}</style>\n<h1>Machines and what they start</h1>\n<p>{}.</p>\n\
         <table>\n<thead><tr><th>Machine<th>Starts next<th>Systems<th>Problems{}</thead>\n<tbody>\n",
        escaped(&headline(report)),
        if has_policies { "<th>Policy" } else { "" }
    );
    for row in &report.machines {
        let _ = writeln!(
            page,
            "<tr><td>{}<td>{}<td>{}<td>{}{}",
            escaped(&row.name),
            escaped(&row.starts_next),
            row.systems.iter().map(|title| escaped(title)).collect::<Vec<_>>().join("<br>"),
            problems(row),
            if has_policies { policy_cell(row) } else { String::new() }
        );
    }
    page.push_str("</tbody>\n</table>\n");
    if !report.faults.is_empty() {
        page.push_str("<h2>Not read</h2>\n<ul>\n");
        for fault in &report.faults {
            let _ = writeln!(page, "<li>{}: {}", escaped(&fault.file), escaped(&fault.why));
        }
        page.push_str("</ul>\n");
    }
    page + "</html>\n"
}

/// What is wrong, opened where somebody wants to read it.
fn problems(row: &MachineRow) -> String {
    let Some(worst) = row.worst() else { return "<span class=\"good\">none</span>".into() };
    let class = if worst < Effect::Untidy { " class=\"bad\"" } else { "" };
    let items = row
        .problems
        .iter()
        .map(|problem| format!("<li>{}: {}", problem.severity.words(), escaped(&problem.message)));
    format!(
        "<details><summary{class}>{}</summary><ul>{}</ul></details>",
        escaped(&counts(row)),
        items.collect::<String>()
    )
}

/// How the menu file stands to the policy, opened where somebody wants to read it.
fn policy_cell(row: &MachineRow) -> String {
    let (said, lines) = (escaped(&policy(row)), policy_lines(row));
    if lines.is_empty() {
        return format!("<td>{said}");
    }
    let items: String = lines.iter().map(|line| format!("<li>{}", escaped(line))).collect();
    format!("<td><details><summary class=\"bad\">{said}</summary><ul>{items}</ul></details>")
}

/// Text of others, as text of a page.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in shown(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c => out.push(c),
        }
    }
    out
}
