//! The firmware's entries, each with what it leads to.

use std::collections::BTreeMap;

use signpost_facts::{FirmwareEntry, FirmwareFacts, OptionNumber, Target, UnconfirmedStarts};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::start::{Kind, Verdict, locate, volume_path};
use signpost_place::Look;
use signpost_place::hardware::SurveyedHardware;

use super::said;

/// What comes of each option that is whole, by its number.
pub(crate) type Judged = BTreeMap<u16, Verdict>;

/// Follows every option to the file that it leads to: all of a survey asks this once.
pub(crate) fn judged(look: &Look) -> Judged {
    let hardware = SurveyedHardware::new(look);
    let whole = look.boot.options.iter();
    let whole = whole.filter_map(|(number, option)| Some((*number, option.decoded.as_ref().ok()?)));
    whole.map(|(number, option)| (number, locate(option, &hardware))).collect()
}

/// What the variables say; what starts next follows once all else is known.
pub(crate) fn facts(look: &Look, mut judged: Judged) -> FirmwareFacts {
    let boot = &look.boot;
    let mut numbers: Vec<u16> = Vec::new();
    for number in boot.order.iter().chain(boot.options.keys()) {
        if boot.options.contains_key(number) && !numbers.contains(number) {
            numbers.push(*number);
        }
    }
    FirmwareFacts {
        current: boot.current.map(OptionNumber),
        next: boot.next.map(OptionNumber),
        once: look.ours.once.clone(),
        order: boot.order.iter().copied().map(OptionNumber).collect(),
        timeout: boot.timeout,
        entries: numbers.into_iter().map(|number| entry(look, judged.remove(&number), number)).collect(),
        starts_next: String::new(),
        last_start: look.ours.log.clone(),
        unconfirmed: look
            .ours
            .unconfirmed
            .all()
            .map(|(entry, starts)| UnconfirmedStarts { entry: entry.into(), starts })
            .collect(),
    }
}

fn entry(look: &Look, judged: Option<Verdict>, number: u16) -> FirmwareEntry {
    let place = look.boot.order.iter().position(|other| *other == number).map(|index| index + 1);
    let mut facts = FirmwareEntry {
        number: OptionNumber(number),
        label: String::new(),
        is_active: false,
        place,
        is_made_by_firmware: false,
        path: String::new(),
        file: None,
        data_length: 0,
        target: None,
        finding: String::new(),
        verdict: Kind::Broken,
        judged: None,
        system: None,
        also: Vec::new(),
    };
    match look.boot.options.get(&number).map(|option| &option.decoded) {
        Some(Ok(option)) => fill(&mut facts, look, option, judged),
        Some(Err(fault)) => facts.finding = format!("broken: {fault}"),
        None => {}
    }
    facts
}

fn fill(facts: &mut FirmwareEntry, look: &Look, option: &LoadOption, judged: Option<Verdict>) {
    facts.label = said(&option.description.to_string());
    facts.is_active = option.is_active();
    facts.is_made_by_firmware = option.is_made_by_firmware();
    facts.path = said(&option.path.to_string());
    facts.file = option.path.file().map(|file| said(&volume_path(&file)));
    facts.data_length = option.optional_data.len();
    let Some(verdict) = judged else { return };
    facts.finding = said(&verdict.words(look));
    facts.verdict = verdict.kind();
    if let Some(target) = verdict.target() {
        let volume = &look.survey.volumes[target.partition];
        let file = said(&volume_path(&target.path));
        if let Some(known) = look.survey.boot_file(target.partition, &file) {
            let known = &look.survey.boot_files[known];
            (facts.system, facts.also) = (known.system.clone(), known.also.clone());
        }
        facts.target =
            Some(Target { volume: volume.number, disk: volume.disk, partition: volume.partition, file });
    }
    facts.judged = Some(verdict);
}
