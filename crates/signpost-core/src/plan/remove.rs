//! Taking what is ours off a machine: load options, boot programs and slots on every home, variables.

use signpost_facts::change::{Change, FileWrite, Write};
use signpost_facts::ours::OurVariables;
use signpost_facts::{FirmwareKind, OptionNumber, Result, VolumeNumber};
use signpost_firmware::boot_variables;
use signpost_firmware::variable::VariableName;
use signpost_menu::ours;
use signpost_menu::picture_place::PICTURE_PATH;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES};
use signpost_place::Look;

use super::planned::{Plan, ToKeep, state_after, words};
use super::{bios_menu, guards, leftovers, safe};
use crate::history::{self, History};
use crate::rehearse::{State, rehearse_state};
use crate::{home, ways};

/// Plans it. What started before our menu starts again.
///
/// # Errors
/// Where the variables, a home, or a first sector cannot be read.
pub fn remove(look: &Look, history: &History) -> Result<Plan> {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return bios_menu::remove(look, history);
    }
    let contents = super::whole_contents(look)?;
    let owned = history.owned();
    let is_ours = |number: &u16| {
        let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == *number);
        let target = entry.and_then(|entry| entry.target.as_ref());
        let file = target.and_then(|target| look.survey.boot_file(target.volume.index(), &target.file));
        let leads_to_us = file.is_some_and(|file| look.survey.boot_files[file].is_ours());
        let raw = look.boot.options.get(number).map(|option| &option.raw);
        leads_to_us || owned.get(number).is_some_and(|(data, _)| Some(data) == raw)
    };
    let removed: Vec<u16> = look.boot.options.keys().copied().filter(is_ours).collect();
    let order: Vec<u16> =
        look.boot.order.iter().copied().filter(|number| !removed.contains(number)).collect();
    let mut variables = Vec::new();
    if order != look.boot.order {
        let what = format!("boot order {}", words(&order));
        variables.push(Write::to(contents, boot_variables::boot_order(&order), what, None));
    }
    for number in &removed {
        let what = format!("remove entry {}, which is ours", OptionNumber(*number));
        variables.push(Write::removal(contents, VariableName::boot_option(*number), what));
    }
    if look.boot.next.is_some_and(|next| removed.contains(&next)) {
        let what = "clear the next boot, which goes to it".to_string();
        variables.push(Write::removal(contents, VariableName::global("BootNext"), what));
    }
    for name in [ours::ONCE, ours::KEPT, ours::LAST, ours::TRIES, ours::LOG] {
        let what = format!("remove our variable {name}");
        variables.push(Write::removal(contents, OurVariables::name(name), what));
    }
    variables.retain(|write| !write.is_done());
    let files = files(look)?;
    let after = state_after(look, contents, &variables)?;
    let state = after.state(&files);
    let outcome = rehearse_state(look, state, None).outcome;
    let mut refusals: Vec<_> = guards::nothing_starts(&outcome).into_iter().collect();
    refusals.extend(guards::started_from(look, &removed));
    refusals.extend(home::other_system(look, history, look.home));
    let way = "`signpost firmware add` gives it an entry of its own first";
    refusals.extend(ways::last_way(look, State::of(look), state, way));
    let mut writes: Vec<Change> = variables.into_iter().map(Change::Variable).collect();
    writes.extend(files.into_iter().map(Change::File));
    refusals.extend(safe::refusals(look, &writes));
    Ok(Plan {
        entries: Vec::new(),
        order_before: look.boot.order.iter().map(|number| OptionNumber(*number)).collect(),
        order_after: order.iter().map(|number| OptionNumber(*number)).collect(),
        timeout_before: look.boot.timeout,
        timeout_after: None,
        writes,
        home: None,
        second_home: None,
        left_out: Vec::new(),
        notes: vec!["units that run `signpost hold` are turned off by `systemctl disable`".into()],
        refusals,
        outcome,
        kept: ToKeep::default(),
    })
}

/// Every file of ours on the machine's own disks.
fn files(look: &Look) -> Result<Vec<FileWrite>> {
    let mut writes = Vec::new();
    for volume in look.fat_volumes() {
        if !look.survey.takes_part(VolumeNumber::of_index(volume)) && look.home != Some(volume) {
            continue;
        }
        let programs =
            look.survey.boot_files.iter().filter(|file| file.volume.index() == volume && file.is_ours());
        for path in programs.map(|file| file.path.clone()).collect::<Vec<_>>() {
            writes.extend(leftovers::removal(look, volume, &path, "the boot program")?);
        }
        for name in SLOT_NAMES {
            writes.extend(leftovers::removal(
                look,
                volume,
                &format!("{HOME_FOLDER}/{name}"),
                "the menu's slot",
            )?);
        }
        writes.extend(leftovers::removal(look, volume, PICTURE_PATH, "the picture")?);
        writes.extend(leftovers::removal(look, volume, &history::path(), "the copies of steps")?);
    }
    Ok(writes)
}
