//! The manual held against the program: every `console` block of a page is typed, in a folder of the page's own, and prints what
//! the page says. With `UPDATE_DOCS=1` the pages are written as the program prints now.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;

use signpost_demo::program::Program;

use crate::bios_menu::bios_program;
use crate::harness::copy_program;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A folder in which a page's commands are typed, with the program and something that stands in for the boot program.
struct Terminal {
    folder: tempfile::TempDir,
}

impl Terminal {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for name in ["bin", "home"] {
            std::fs::create_dir(folder.path().join(name)).unwrap();
        }
        copy_program(&folder.path().join("bin/signpost"));
        let stand_in = Program::new("Signpost").boot_program().build();
        std::fs::write(folder.path().join("bin/signpost-x64.efi"), stand_in).unwrap();
        std::fs::write(folder.path().join("bin/signpost-bios.img"), bios_program(60_000)).unwrap();
        Self { folder }
    }

    /// What a command prints, both streams in the order in which it does.
    fn typed(&self, line: &str) -> String {
        let bin = self.folder.path().join("bin");
        let output = Command::new("sh")
            .args(["-c", &format!("exec 2>&1\n{line}")])
            .current_dir(self.folder.path().join("home"))
            .env_clear()
            .env("PATH", format!("{}:/usr/sbin:/usr/bin:/sbin:/bin", bin.display()))
            .env("COLUMNS", "90")
            .env("HOME", self.folder.path())
            .output()
            .unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let text = text.replace(&self.folder.path().display().to_string(), "");
        text.lines().map(|line| format!("{}\n", without_times(line).trim_end())).collect()
    }
}

/// A line whose times are all one: those of the page were others.
fn without_times(line: &str) -> String {
    let mut out = String::new();
    let mut rest = line;
    while let Some((at, length)) = time_in(rest) {
        out.push_str(&rest[..at]);
        out.push_str("2026-11-28 09:30:00"[..length.min(19)].trim());
        rest = &rest[at + length..];
    }
    out + rest
}

/// Where a time such as `2026-11-28 09:30` stands, and how long it is.
fn time_in(text: &str) -> Option<(usize, usize)> {
    let is_it = |at: usize, form: &str| {
        let found = text.as_bytes().get(at..at + form.len());
        found.is_some_and(|found| {
            found
                .iter()
                .zip(form.bytes())
                .all(|(c, form)| if form == b'0' { c.is_ascii_digit() } else { *c == form })
        })
    };
    (0..text.len()).find_map(|at| {
        let lengths = ["0000-00-00 00:00:00", "0000-00-00 00:00", "0000-00-00"];
        lengths.iter().find(|form| text.is_char_boundary(at) && is_it(at, form)).map(|form| (at, form.len()))
    })
}

/// Whether a command goes on in the next line, as a shell sees it.
fn is_open(command: &str) -> bool {
    command.ends_with('\\') || (command.contains("<<'END'") && !command.ends_with("\nEND"))
}

/// A page with the outputs that its commands have now.
fn as_it_is(page: &str) -> String {
    let terminal = Terminal::new();
    let mut out = String::new();
    let mut lines = page.lines().peekable();
    while let Some(line) = lines.next() {
        writeln!(out, "{line}").unwrap();
        if line != "```console" {
            continue;
        }
        let block: Vec<&str> = std::iter::from_fn(|| lines.next_if(|line| *line != "```")).collect();
        let mut command = String::new();
        for line in block {
            let goes_on = is_open(&command);
            let typed = if goes_on { line.strip_prefix("> ").or(Some("")) } else { line.strip_prefix("$ ") };
            let Some(typed) = typed else { continue };
            writeln!(out, "{line}").unwrap();
            command = if goes_on { format!("{command}\n{typed}") } else { typed.to_string() };
            if !is_open(&command) {
                out.push_str(&terminal.typed(&command));
            }
        }
    }
    out
}

fn held(name: &str) {
    let path = root().join(name);
    let page = std::fs::read_to_string(&path).unwrap();
    let now = as_it_is(&page);
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, &now).unwrap();
        return;
    }
    let differs = page.lines().zip(now.lines()).enumerate().find(|(_, (page, now))| page != now);
    if let Some((index, (page, now))) = differs {
        panic!("{name}, line {}: the page says\n  {page}\nand the program prints\n  {now}", index + 1);
    }
    assert_eq!(page.lines().count(), now.lines().count(), "{name}: the program prints more, or less");
}

/// Commands in `sh` blocks change the very PC that they are typed on: that they can be typed is seen by their help.
fn commands_are_there(name: &str) {
    let page = std::fs::read_to_string(root().join(name)).unwrap();
    let terminal = Terminal::new();
    let mut is_block = false;
    for line in page.lines() {
        match line {
            "```sh" => is_block = true,
            "```" => is_block = false,
            _ => {}
        }
        let typed = line.strip_prefix("sudo ").unwrap_or(line);
        let Some(words) = typed.strip_prefix("signpost ").filter(|_| is_block) else { continue };
        let is_word = |word: &&str| word.chars().all(|c| c.is_ascii_lowercase());
        let words: Vec<&str> = words.split(' ').take_while(is_word).take(1).collect();
        let said = terminal.typed(&format!("signpost {} --help", words.join(" ")));
        assert!(said.contains("Usage: signpost"), "{name}: {line}: {said}");
    }
}

/// Every page that is there.
fn pages() -> Vec<String> {
    let docs = std::fs::read_dir(root().join("docs")).unwrap().map(|entry| entry.unwrap().path());
    let docs = docs.filter(|path| path.extension().is_some_and(|kind| kind == "md"));
    let name = |path: PathBuf| format!("docs/{}", path.file_name().unwrap().to_str().unwrap());
    let mut pages: Vec<String> =
        docs.map(name).chain(["README.md".into(), "CONTRIBUTING.md".into()]).collect();
    pages.sort();
    pages
}

#[test]
fn every_page_prints_what_it_says() {
    let pages = pages();
    assert!(pages.len() > 12, "{pages:?}");
    std::thread::scope(|scope| {
        let running: Vec<_> = pages.iter().map(|page| scope.spawn(|| held(page))).collect();
        let faults: Vec<String> = running
            .into_iter()
            .filter_map(|page| page.join().err()?.downcast::<String>().ok().map(|fault| *fault))
            .collect();
        assert!(faults.is_empty(), "{}", faults.join("\n\n"));
    });
    pages.iter().for_each(|page| commands_are_there(page));
}

/// A link leads to a page, and to a heading of it, that is there.
#[test]
fn links_lead_somewhere() {
    let anchor = |heading: &str| -> String {
        let kept = |c: &char| c.is_alphanumeric() || matches!(c, ' ' | '-' | '_');
        heading.to_lowercase().chars().filter(kept).map(|c| if c == ' ' { '-' } else { c }).collect()
    };
    for name in pages() {
        let text = std::fs::read_to_string(root().join(&name)).unwrap();
        for link in text.split("](").skip(1).filter_map(|rest| rest.split_once(')')).map(|(link, _)| link) {
            if link.contains("://") {
                continue;
            }
            let (path, heading) = link.split_once('#').unwrap_or((link, ""));
            let target = match path {
                "" => root().join(&name),
                path => root().join(&name).parent().unwrap().join(path),
            };
            assert!(target.exists(), "{name}: {link} leads nowhere");
            if !heading.is_empty() {
                let target = std::fs::read_to_string(target).unwrap();
                let mut headings = target.lines().filter(|line| line.starts_with('#'));
                let found = headings.any(|line| anchor(line.trim_start_matches('#').trim()) == heading);
                assert!(found, "{name}: {link} names no heading of that page");
            }
        }
    }
}

/// Whether a document has this field, at any depth.
fn has_field(document: &serde_json::Value, field: &str) -> bool {
    match document {
        serde_json::Value::Object(fields) => {
            fields.contains_key(field) || fields.values().any(|value| has_field(value, field))
        }
        serde_json::Value::Array(items) => items.iter().any(|item| has_field(item, field)),
        _ => false,
    }
}

/// The fields that the page on JSON promises are there, and so is each kind of error.
#[test]
fn the_documents_have_the_fields_that_the_page_names() {
    let page = std::fs::read_to_string(root().join("docs/json.md")).unwrap();
    let (_, table) = page.split_once("| command | fields of `result` |").unwrap();
    let terminal = Terminal::new();
    terminal.typed("signpost demo --bench-only tide --quiet");
    terminal.typed("signpost --machine tide draft --quiet");
    let mut seen = 0;
    for row in table.lines().filter(|line| line.starts_with("| `")) {
        let (commands, fields) = row.trim_matches('|').split_once('|').unwrap();
        let words =
            |cell: &str| -> Vec<String> { cell.split('`').skip(1).step_by(2).map(str::to_string).collect() };
        for command in words(commands) {
            let typed = match command.as_str() {
                "apply" => "apply --dry-run",
                "draft" => "draft --dry-run",
                "entry" => "entry rename larkspur Lark --dry-run",
                other => other,
            };
            let text = terminal.typed(&format!("signpost --machine tide --json {typed}"));
            let document: serde_json::Value = serde_json::from_str(&text).unwrap();
            assert_eq!(document["schema"], 1, "{command}");
            // Two commands in a row of their own share a part of it each.
            let shared = command == "entry" || command == "draft";
            let of_entry = ["entries", "is_different", "is_written"];
            for field in words(fields) {
                let is_value = ["starts", "may-start", "waits", "nothing", "hangs"].contains(&field.as_str());
                if is_value && command == "rehearse" {
                    continue;
                }
                if shared && (command == "entry") != of_entry.contains(&field.as_str()) {
                    continue;
                }
                assert!(
                    has_field(&document["result"], &field),
                    "{command}: there is no field {field}: {text}"
                );
                seen += 1;
            }
        }
    }
    assert!(seen > 40, "{seen} fields were looked for");
    let code = |typed: &str| {
        let text =
            terminal.typed(&format!("signpost --machine tide --json {typed} | grep '\"code\"' | head -n 1"));
        text.trim().trim_matches(',').split('"').nth(3).unwrap_or_default().to_string()
    };
    assert_eq!(code("survey d9p9"), "wrong-use");
    assert_eq!(code("apply"), "unconfirmed");
    assert_eq!(code("tune timeout=soon"), "wrong-use");
    assert_eq!(code("--menu /nowhere/menu.toml menu"), "unusable");
}
