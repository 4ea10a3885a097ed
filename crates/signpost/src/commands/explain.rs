use clap::Args;
use clap::builder::PossibleValuesParser;
use serde::Serialize;
use signpost_facts::Code;

use crate::app::{App, Outcome};
use crate::failure::Exit;
use crate::render::table::Table;

/// Say what a code means, and what to do
#[derive(Args)]
pub struct ExplainArgs {
    /// The code, as findings and refusals show it, or `why-this-kernel`; without one, all are listed
    #[arg(value_parser = PossibleValuesParser::new(Code::ALL.map(Code::word).into_iter().chain([KERNELS])), hide_possible_values = true)]
    code: Option<String>,
}

#[derive(Serialize)]
struct Explanation<'a> {
    code: &'a str,
    text: &'a str,
}

/// How a kernel, its initrd and its arguments are picked: a page of its own.
const KERNELS: &str = "why-this-kernel";
const KERNELS_PAGE: &str = include_str!("../../../../docs/layouts.md");

/// The page of all codes; each is a section of its own.
const PAGE: &str = include_str!("../../../../docs/problem-codes.md");

pub fn run(app: &App<'_>, args: &ExplainArgs) -> Outcome {
    let Some(code) = &args.code else { return list(app) };
    let text = match code.as_str() {
        KERNELS => KERNELS_PAGE.split_once('\n').map_or("", |(_, text)| text.trim()),
        code => section(code).unwrap_or_default(),
    };
    let explanation = Explanation { code, text };
    app.show(&explanation, || format!("{code}\n\n{text}\n"));
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct Codes {
    codes: Vec<CodeRow>,
}

#[derive(Serialize)]
struct CodeRow {
    code: &'static str,
    meaning: String,
}

fn list(app: &App<'_>) -> Outcome {
    let row = |code: Code| {
        let text = section(code.word()).unwrap_or_default().replace('\n', " ");
        let end = text.find(". ").map_or(text.len(), |end| end + 1);
        CodeRow { code: code.word(), meaning: text[..end].to_string() }
    };
    let all = Codes { codes: Code::ALL.map(row).into() };
    app.show(&all, || {
        let mut table = Table::new(&["code", "meaning"]);
        all.codes.iter().for_each(|row| table.row([row.code.to_string(), row.meaning.clone()]));
        table.text() + "\n`signpost explain CODE` shows what to do.\n"
    });
    Ok(Exit::Done)
}

/// What the page says of a code.
fn section(code: &str) -> Option<&'static str> {
    let (_, rest) = PAGE.split_once(&format!("\n### {code}\n"))?;
    let end = rest.find("\n#").unwrap_or(rest.len());
    rest.get(..end).map(str::trim)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_is_explained_and_every_explanation_has_a_code() {
        for code in Code::ALL {
            let text = section(code.word()).unwrap_or_default();
            assert!(text.len() > 60 && text.contains("\n\n*Do:* "), "{code}: {text}");
        }
        let sections = PAGE.lines().filter_map(|line| line.strip_prefix("### "));
        for word in sections {
            assert!(Code::parse(word).is_some(), "{word} is not a code");
        }
    }
}
