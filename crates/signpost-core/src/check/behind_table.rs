//! What became of what was applied, where nothing can be planned for it yet: a partition table comes first. Looked at as it lies
//! there.

use signpost_facts::cause::{Act, Cure, Effect};
use signpost_facts::{Code, Subject, VolumeNumber};
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::SlotFault;
use signpost_place::boot_program::BootProgram;
use signpost_place::home;

use super::{Found, Seen, cause};
use crate::hold::Held;

pub(super) fn find(seen: &Seen<'_>, held: &Held, found: &mut Found) {
    let starts_other = seen.effect(&[], true, Effect::StartsOther);
    let mut add = |code: Code, subject: Option<Subject>, message: String, what: &str| {
        let mut made = cause(code, starts_other, subject, message);
        made.cures.push(Cure { name: "hold", what: what.into(), acts: vec![Act::Hold] });
        found.add(made, &[]);
    };
    // Variables that cannot be read are out of reach, and nothing of them is gone.
    if seen.look.has_all_variables() {
        let owned = seen.case.history.owned();
        let is_there = |number: &u16| {
            let data = owned.get(number).map(|(data, _)| data);
            seen.boot().options.get(number).is_some_and(|option| Some(&option.raw) == data)
        };
        let is_first = seen.boot().order.first().is_some_and(|first| owned.contains_key(first));
        if !owned.is_empty() && !owned.keys().any(is_there) {
            let what = "make the entry again, first in the order";
            add(Code::EntryLost, None, "the firmware has lost the menu's entry".into(), what);
        } else if !owned.is_empty() && !is_first {
            let message = "the menu is not first in the boot order any more".into();
            add(Code::NotFirst, None, message, "put the menu first again");
        }
    }
    let volume = held.home().and_then(|home| VolumeRef::parse(home).ok());
    let Some(volume) = volume.and_then(|volume| seen.look.resolve(&volume).ok()) else { return };
    let Some(reader) = seen.look.reader(volume) else { return };
    let subject = Some(Subject::Volume(VolumeNumber::of_index(volume)));
    let name = seen.look.survey.name(VolumeNumber::of_index(volume));
    if let Some(path) = held.boot_program() {
        let is_whole = match reader.read(path, home::MAX_FILE) {
            Ok(bytes) => BootProgram::new(bytes).path() == path,
            // What is there, and cannot be read, is out of reach.
            Err(_) => reader.has_file(path),
        };
        if !is_whole {
            let message = format!("the boot program is gone or damaged: {name}:{path}");
            add(Code::BootProgramGone, subject.clone(), message, "write it again");
        }
    }
    let slots = home::slots(seen.look, volume);
    let is_damaged = slots.iter().any(|slot| slot.as_ref().is_err_and(SlotFault::is_damage));
    if is_damaged || slots.iter().all(Result::is_err) {
        let message = format!("the menu on {name} is damaged or gone");
        add(Code::MenuDamaged, subject, message, "write the menu that was applied again");
    }
}
