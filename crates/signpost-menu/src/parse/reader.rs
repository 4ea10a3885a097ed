//! Walking the parse tree: values taken out by key, errors gathered with their places.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::Problem;
use crate::nearest::nearest;
use crate::text::{acts, shown};

type Value<'a> = Spanned<DeValue<'a>>;
type Key<'a> = Spanned<Cow<'a, str>>;

/// A table from which keys are taken until none is left.
pub(super) struct Section<'a> {
    /// Where it starts, in bytes.
    pub(super) start: usize,
    values: Vec<(Key<'a>, Value<'a>)>,
}

impl<'a> Section<'a> {
    fn new(start: usize, table: DeTable<'a>) -> Self {
        Self { start, values: table.into_iter().collect() }
    }

    /// Whether it has this key.
    pub(super) fn has(&self, key: &str) -> bool {
        self.place(key).is_some()
    }

    /// Where a key's value stands, or the section where it has none.
    pub(super) fn at(&self, key: &str) -> usize {
        let value = self.place(key).and_then(|place| self.values.get(place));
        value.map_or(self.start, |(_, value)| value.span().start)
    }

    fn place(&self, key: &str) -> Option<usize> {
        self.values.iter().position(|(own, _)| own.get_ref() == key)
    }
}

/// A value and where it stands, in bytes.
pub(super) struct Found<T> {
    pub(super) value: T,
    pub(super) at: usize,
}

/// The file's text and what is wrong with it.
pub(super) struct Reader<'a> {
    text: &'a str,
    problems: Vec<(usize, String)>,
    remembered: Vec<(String, usize)>,
    /// Every id with its place and its entry's line, of entries that do not hold too.
    ids: Vec<(String, usize, usize)>,
    dropped: Vec<String>,
    keeps_broken: bool,
}

impl<'a> Reader<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self {
            text,
            problems: Vec::new(),
            ids: Vec::new(),
            remembered: Vec::new(),
            dropped: Vec::new(),
            keeps_broken: false,
        }
    }

    /// The file's top table; errors of the notation itself are noted.
    pub(super) fn root(&mut self, text: &'a str) -> Option<Section<'a>> {
        let (table, errors) = DeTable::parse_recoverable(text);
        for error in errors {
            self.problem(error.span().map_or(0, |span| span.start), error.message().to_string());
        }
        // What follows an error of the notation is guesswork: those come first, alone.
        (!self.has_problems()).then(|| Section::new(0, table.into_inner()))
    }

    pub(super) fn problem(&mut self, at: usize, message: String) {
        // In the file's order, and in the order noted where places are the same.
        let place = self.problems.partition_point(|(before, _)| *before <= at);
        self.problems.insert(place, (at, message));
    }

    pub(super) fn has_problems(&self) -> bool {
        !self.problems.is_empty()
    }

    /// Keeps a place for a later check.
    pub(super) fn remember(&mut self, name: &str, at: usize) {
        match self.place_of(name) {
            Ok(place) => self.remembered.splice(place..=place, [(name.to_string(), at)]).for_each(drop),
            Err(place) => self.remembered.insert(place, (name.to_string(), at)),
        }
    }

    pub(super) fn remembered(&self, name: &str) -> usize {
        let place = self.place_of(name).ok().and_then(|place| self.remembered.get(place));
        place.map_or(0, |(_, at)| *at)
    }

    fn place_of(&self, name: &str) -> Result<usize, usize> {
        self.remembered.binary_search_by(|(own, _)| own.as_str().cmp(name))
    }

    /// Keeps entries that do not hold, as entries that cannot start.
    pub(super) fn keep_broken_entries(&mut self) {
        self.keeps_broken = true;
    }

    pub(super) fn keeps_broken(&self) -> bool {
        self.keeps_broken
    }

    /// The first problem noted at or behind this byte.
    pub(super) fn problem_from(&self, at: usize) -> Option<&str> {
        let mut behind = self.problems.iter().filter(|(place, _)| *place >= at);
        behind.next().map(|(_, message)| message.as_str())
    }

    /// Notes an id, and where it stands.
    pub(super) fn note_id(&mut self, id: &str, at: usize, line: usize) {
        self.ids.push((id.to_string(), at, line));
    }

    /// Ids that stand a second time: each with its place, and the line of the entry that has it first.
    pub(super) fn doubled_ids(&self) -> Vec<(String, usize, usize)> {
        let first = |index: usize, id: &str| self.ids.iter().take(index).find(|(before, _, _)| before == id);
        let doubled = self.ids.iter().enumerate().filter_map(|(index, (id, at, _))| {
            let (_, _, line) = first(index, id)?;
            Some((id.clone(), *at, *line))
        });
        doubled.collect()
    }

    /// Notes the id of an entry that did not hold.
    pub(super) fn drop_entry(&mut self, id: String) {
        self.dropped.push(id);
    }

    pub(super) fn has_dropped_entry(&self, id: &str) -> bool {
        self.dropped.iter().any(|dropped| dropped == id)
    }

    /// The text at these bytes, as it was written.
    pub(super) fn source(&self, span: Range<usize>) -> &'a str {
        self.text.get(span).unwrap_or_default()
    }

    /// Line of this byte, from 1.
    pub(super) fn line(&self, at: usize) -> usize {
        self.text.get(..at).unwrap_or(self.text).matches('\n').count().saturating_add(1)
    }

    /// All problems, in the file's order.
    pub(super) fn finish(self) -> Result<(), Vec<Problem>> {
        let problems: Vec<Problem> = self
            .problems
            .iter()
            .map(|(at, message)| {
                let before = self.text.get(..*at).unwrap_or(self.text);
                let line_start =
                    before.rfind('\n').and_then(|at| before.get(at.saturating_add(1)..)).unwrap_or(before);
                Problem {
                    line: self.line(*at),
                    column: line_start.chars().count().saturating_add(1),
                    message: message.clone(),
                }
            })
            .collect();
        if problems.is_empty() { Ok(()) } else { Err(problems) }
    }

    /// Whatever stands under a key.
    pub(super) fn any<'s>(&mut self, section: &mut Section<'s>, key: &str) -> Option<Value<'s>> {
        let place = section.place(key)?;
        Some(section.values.remove(place).1)
    }

    pub(super) fn typed<T>(
        &mut self,
        section: &mut Section<'_>,
        key: &str,
        right: &str,
        take: impl FnOnce(&Value<'_>) -> Option<T>,
    ) -> Option<Found<T>> {
        let value = self.any(section, key)?;
        let at = value.span().start;
        let taken = take(&value);
        if taken.is_none() {
            let text = shortened(self.source(value.span()));
            self.problem(at, format!("{key} is {text}; it takes {right}"));
        }
        taken.map(|value| Found { value, at })
    }

    pub(super) fn string(&mut self, section: &mut Section<'_>, key: &str) -> Option<Found<String>> {
        let found = self.typed(section, key, "text in quotes", |value| match value.get_ref() {
            DeValue::String(text) => Some(text.to_string()),
            _ => None,
        })?;
        let value = self.plain(key, found.at, found.value);
        Some(Found { value, ..found })
    }

    /// A text without line ends and other characters that do something else than stand where they are: none of ours needs
    /// one, and a kernel or a screen takes them for something else.
    fn plain(&mut self, key: &str, at: usize, value: String) -> String {
        if let Some(c) = value.chars().find(|c| acts(*c)) {
            self.problem(
                at,
                format!("{key} holds the character U+{:04X}, which is not allowed there", u32::from(c)),
            );
            return shown(&value).into_owned();
        }
        value
    }

    pub(super) fn integer(&mut self, section: &mut Section<'_>, key: &str) -> Option<Found<i64>> {
        self.typed(section, key, "a whole number", integer_value)
    }

    pub(super) fn boolean(&mut self, section: &mut Section<'_>, key: &str) -> Option<bool> {
        let found = self.typed(section, key, "true or false", |value| match value.get_ref() {
            DeValue::Boolean(value) => Some(*value),
            _ => None,
        });
        found.map(|found| found.value)
    }

    /// A text or a list of texts.
    pub(super) fn strings(&mut self, section: &mut Section<'_>, key: &str) -> Option<Vec<String>> {
        let text = |value: &Value<'_>| match value.get_ref() {
            DeValue::String(text) => Some(text.to_string()),
            _ => None,
        };
        let found =
            self.typed(section, key, "a text in quotes, or a list of them", |value| match value.get_ref() {
                DeValue::String(text) => Some(Vec::from([text.to_string()])),
                DeValue::Array(values) => values.iter().map(text).collect(),
                _ => None,
            })?;
        Some(found.value.into_iter().map(|value| self.plain(key, found.at, value)).collect())
    }

    /// One of several words.
    pub(super) fn choice<T: Copy>(
        &mut self,
        section: &mut Section<'_>,
        key: &str,
        words: &[(&str, T)],
    ) -> Option<T> {
        let quoted: Vec<String> = words.iter().map(|(word, _)| format!("\"{word}\"")).collect();
        let right = quoted.join(", ");
        let found = self.typed(section, key, &right, |value| match value.get_ref() {
            DeValue::String(text) => words.iter().find(|(word, _)| word == text).map(|(_, choice)| *choice),
            _ => None,
        });
        found.map(|found| found.value)
    }

    /// A text that is read further.
    pub(super) fn parsed<T>(
        &mut self,
        section: &mut Section<'_>,
        key: &str,
        parse: impl FnOnce(&str) -> Result<T, String>,
    ) -> Option<T> {
        let found = self.string(section, key)?;
        match parse(&found.value) {
            Ok(value) => Some(value),
            Err(message) => {
                self.problem(found.at, format!("{key}: {message}"));
                None
            }
        }
    }

    pub(super) fn table<'s>(&mut self, section: &mut Section<'s>, key: &str) -> Option<Section<'s>> {
        let value = self.any(section, key)?;
        let span = value.span();
        match value.into_inner() {
            DeValue::Table(table) => Some(Section::new(span.start, table)),
            _ => {
                self.problem(span.start, format!("{key} is a section, written [{key}]"));
                None
            }
        }
    }

    pub(super) fn tables<'s>(&mut self, section: &mut Section<'s>, key: &str) -> Vec<Section<'s>> {
        let Some(value) = self.any(section, key) else { return Vec::new() };
        let at = value.span().start;
        let DeValue::Array(values) = value.into_inner() else {
            self.problem(at, format!("{key} is a list of sections, each written [[{key}]]"));
            return Vec::new();
        };
        let mut tables = Vec::new();
        for value in values {
            let at = value.span().start;
            match value.into_inner() {
                DeValue::Table(table) => tables.push(Section::new(at, table)),
                _ => self.problem(at, format!("{key} is a list of sections, each written [[{key}]]")),
            }
        }
        tables
    }

    /// Names every key that is left, with the nearest known one; whether none was.
    pub(super) fn no_more(&mut self, section: Section<'_>, known: &[&str]) -> bool {
        let is_clean = section.values.is_empty();
        for (key, _) in section.values {
            let name = key.get_ref();
            let hint = match nearest(name, known.iter().copied()) {
                Some(near) => format!("did you mean {near}?"),
                None if known.is_empty() => "this section has no keys yet".to_string(),
                None => format!("known here: {}", known.join(", ")),
            };
            self.problem(key.span().start, format!("unknown key {name}; {hint}"));
        }
        is_clean
    }
}

/// A whole number's value.
pub(super) fn integer_value(value: &Value<'_>) -> Option<i64> {
    match value.get_ref() {
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix()).ok(),
        _ => None,
    }
}

/// A value's text on one line, cut where it is long.
fn shortened(text: &str) -> String {
    let line = text.lines().next().unwrap_or_default();
    let short: String = line.chars().take(40).collect();
    if short.len() < text.len() { format!("{short}…") } else { short }
}
