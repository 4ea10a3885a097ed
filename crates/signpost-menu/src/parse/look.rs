//! `[look]`.

use alloc::format;
use alloc::vec::Vec;

use toml::de::DeValue;

use super::reader::{Reader, Section};
use crate::appearance::{
    Align, Appearance, Colour, Countdown, Detail, LookName, PictureFit, Role, Scale, ScreenMode, Turn, Width,
};
use crate::keys;

pub(super) fn look(reader: &mut Reader<'_>, mut section: Section<'_>) -> Appearance {
    let names = LookName::ALL.map(|name| (name.word(), name));
    let mut look = Appearance {
        name: reader.choice(&mut section, "name", &names).unwrap_or_default(),
        scale: word(reader, &mut section, "scale", &Scale::ALL, Scale::word),
        screen: reader.parsed(&mut section, "screen", ScreenMode::parse).unwrap_or_default(),
        turn: word(reader, &mut section, "turn", Turn::ALL, Turn::word),
        without_symbols: !reader.boolean(&mut section, "symbols").unwrap_or(true),
        detail: word(reader, &mut section, "detail", Detail::ALL, Detail::word),
        countdown: word(reader, &mut section, "countdown", Countdown::ALL, Countdown::word),
        clock: reader.boolean(&mut section, "clock").unwrap_or(false),
        announce: reader.boolean(&mut section, "announce").unwrap_or(false),
        closing: reader.string(&mut section, "closing").map(|found| found.value),
        picture: reader.string(&mut section, "picture").map(|found| found.value),
        picture_fit: word(reader, &mut section, "picture-fit", PictureFit::ALL, PictureFit::word),
        align: word(reader, &mut section, "align", Align::ALL, Align::word),
        width: word(reader, &mut section, "width", Width::ALL, Width::word),
        ..Appearance::default()
    };
    let mut places = Vec::new();
    for role in Role::ALL {
        let at = section.at(role.key());
        places.push(at);
        look.set(role, reader.parsed(&mut section, role.key(), Colour::parse));
    }
    if !reader.keeps_broken() {
        contrast(reader, &look, &places);
    }
    reader.no_more(section, &keys::of_table("look").collect::<Vec<_>>());
    look
}

/// Refuses colours that nobody could read. The boot program takes what it is given: a menu that is hard to read is better than none.
fn contrast(reader: &mut Reader<'_>, look: &Appearance, places: &[usize]) {
    let palette = look.palette();
    for pair in look.unreadable() {
        // At the one of the two that is set here.
        let set = if look.own(pair.role).is_some() { pair.role } else { pair.on };
        let place = Role::ALL.iter().position(|role| *role == set).and_then(|place| places.get(place));
        let (whole, hundredths) = (pair.contrast / 100, pair.contrast % 100);
        let message = format!(
            "{} {} on {} {} has a contrast of {whole}.{hundredths:02}; text can be read from 4.50 on, {} = \"{}\" would do",
            pair.role.key(),
            palette.of(pair.role),
            pair.on.key(),
            palette.of(pair.on),
            pair.role.key(),
            pair.would_do,
        );
        reader.problem(place.copied().unwrap_or_default(), message);
    }
}

/// One of several words, some of which are numbers: those may stand without quotes.
fn word<T: Copy + Default>(
    reader: &mut Reader<'_>,
    section: &mut Section<'_>,
    key: &str,
    all: &[T],
    word: impl Fn(T) -> &'static str,
) -> T {
    let words: Vec<&str> = all.iter().map(|choice| word(*choice)).collect();
    let right = words.join(", ");
    let found = reader.typed(section, key, &right, |value| {
        let written = match value.get_ref() {
            DeValue::String(text) => text.as_ref(),
            DeValue::Integer(number) => number.as_str(),
            DeValue::Float(number) => number.as_str(),
            _ => return None,
        };
        words.iter().position(|word| *word == written)
    });
    found.and_then(|found| all.get(found.value)).copied().unwrap_or_default()
}
