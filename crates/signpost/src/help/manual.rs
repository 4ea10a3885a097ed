//! The manual pages: one per command, in section 1, and the menu file's in section 5.

use std::io::{self, Write};
use std::path::Path;

use clap::Command;
use clap_mangen::Man;
use roff::{Inline, Roff, bold, roman};

use super::pages::{self, PAGES};

/// The page on the menu file; its parts are those of the document.
const MENU_FILE: &str = include_str!("../../../../docs/menu-file.md");
const MENU_FILE_PAGE: &str = "signpost-menu-file.5";

/// What is read and written on a live machine.
const FILES: [(&str, &str); 4] = [
    ("/etc/signpost/menu.toml", "the menu file, see signpost-menu-file(5)"),
    (
        "/etc/signpost/catalogue, /etc/signpost/recipes",
        "further rows by which systems are recognised and started",
    ),
    ("/var/lib/signpost", "the history, and what was seen and drafted last"),
    (
        "EFI/signpost on the home volume",
        "the boot program and the active menu, where the boot program shows it",
    ),
];

/// Writes all pages of a command line into the folders `man1` and `man5` below a folder, and gives their names.
pub fn write(plain: Command, folder: &Path) -> io::Result<Vec<String>> {
    let mut names = Vec::new();
    let mut page = |section: &str, name: String, bytes: &[u8]| -> io::Result<()> {
        let folder = folder.join(section);
        std::fs::create_dir_all(&folder)?;
        std::fs::write(folder.join(&name), bytes)?;
        names.push(name);
        Ok(())
    };
    let mut command = plain.disable_help_subcommand(true);
    command.build();
    for command in with_inner(&command) {
        let man = Man::new(command.clone());
        page("man1", man.get_filename(), &of_command(&man, command)?)?;
    }
    page("man5", MENU_FILE_PAGE.into(), &of_menu_file()?)?;
    names.sort();
    Ok(names)
}

/// A command, and those in it.
fn with_inner(command: &Command) -> Vec<&Command> {
    let inner = command.get_subcommands().flat_map(with_inner);
    std::iter::once(command).chain(inner).collect()
}

fn of_command(man: &Man, command: &Command) -> io::Result<Vec<u8>> {
    let mut text = Vec::new();
    man.render_title(&mut text)?;
    man.render_name_section(&mut text)?;
    man.render_synopsis_section(&mut text)?;
    man.render_description_section(&mut text)?;
    man.render_options_section(&mut text)?;
    if command.has_subcommands() {
        man.render_subcommands_section(&mut text)?;
    }
    let display = command.get_display_name().unwrap_or("signpost");
    let top = display.split('-').nth(1).unwrap_or_default();
    let page = PAGES.iter().find(|page| page.command == top);
    let mut roff = Roff::new();
    roff.control("SH", ["EXAMPLES"]);
    for (typed, does) in page.map_or(&pages::FIRST[..], |page| &page.examples) {
        roff.control("TP", []).text([bold(*typed)]).text([roman(*does)]);
    }
    roff.control("SH", ["EXIT STATUS"]);
    let codes = match page {
        Some(page) => pages::codes(page.problems, page.is_guarded),
        None => pages::codes(Some("problems were found, or nothing starts by itself"), true),
    };
    for line in codes.lines().skip(1) {
        let (code, meaning) = line.trim().split_once("  ").unwrap_or((line, ""));
        roff.control("TP", []).text([bold(code)]).text([roman(meaning)]);
    }
    roff.control("SH", ["FILES"]);
    for (path, what) in FILES {
        roff.control("TP", []).text([bold(path)]).text([roman(what)]);
    }
    roff.control("SH", ["SEE ALSO"]);
    let mut others: Vec<String> = PAGES.iter().map(|page| format!("signpost-{}(1)", page.command)).collect();
    others.retain(|other| *other != format!("{display}(1)"));
    let first = if display == "signpost" { "" } else { "signpost(1), " };
    roff.text([roman(format!("{first}{}, signpost-menu-file(5)", others.join(", ")))]);
    roff.to_writer(&mut text)?;
    Ok(text)
}

/// The document on the menu file as a manual page.
fn of_menu_file() -> io::Result<Vec<u8>> {
    let mut roff = Roff::new();
    roff.control("TH", ["signpost-menu-file", "5"]);
    roff.control("SH", ["NAME"]).text([roman("signpost-menu-file - the boot menu of a machine")]);
    roff.control("SH", ["DESCRIPTION"]);
    let body = MENU_FILE.split_once('\n').map_or("", |(_, body)| body);
    let mut is_code = false;
    let mut is_table = false;
    for line in body.lines() {
        if line.starts_with("```") {
            is_code = !is_code;
            roff.control(if is_code { "EX" } else { "EE" }, []);
        } else if is_code {
            roff.text([roman(line)]);
        } else if let Some(heading) = line.strip_prefix("## ") {
            roff.control("SH", [heading.to_uppercase().as_str()]);
        } else if line.starts_with('|') {
            row(&mut roff, line, is_table);
        } else if let Some(item) = line.strip_prefix("- ") {
            roff.control("IP", ["\\(bu", "2"]).text(inline(item));
        } else if line.is_empty() {
            roff.control("PP", []);
        } else {
            roff.text(inline(line.trim_start()));
        }
        is_table = line.starts_with('|');
    }
    roff.control("SH", ["SEE ALSO"])
        .text([roman("signpost(1), signpost-draft(1), signpost-tune(1), signpost-entry(1)")]);
    let mut text = Vec::new();
    roff.to_writer(&mut text)?;
    text.flush()?;
    Ok(text)
}

/// A row of a table as an item: the first cell, and the others below. Head and rule are left out.
fn row(roff: &mut Roff, line: &str, is_table: bool) {
    let cells: Vec<&str> =
        line.trim_matches('|').split('|').map(str::trim).filter(|cell| !cell.is_empty()).collect();
    let is_rule = cells.iter().all(|cell| cell.trim_matches('-').is_empty());
    if let ([first, others @ ..], true, false) = (cells.as_slice(), is_table, is_rule) {
        roff.control("TP", []).text(inline(first)).text(inline(&others.join("; ")));
    }
}

/// Words between backquotes in bold; links as their words.
fn inline(text: &str) -> Vec<Inline> {
    let mut parts = Vec::new();
    for (index, part) in text.split('`').enumerate() {
        parts.push(if index % 2 == 1 { bold(part) } else { roman(without_links(part)) });
    }
    parts
}

fn without_links(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, link)) = rest.split_once("](") {
        out.push_str(&before.replace('[', ""));
        rest = link.split_once(')').map_or("", |(_, rest)| rest);
    }
    out + &rest.replace('[', "")
}
