use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use signpost_core::bios::rehearse_entry;
use signpost_core::rehearse::rehearse_in_order;
use signpost_core::rehearse::{Choice, State, rehearse_state};
use signpost_core::resolve::resolve;
use signpost_facts::{DiskNumber, FirmwareKind};
use signpost_machine::Machine;
use signpost_menu::ids::EntryId;
use signpost_menu::nearest::nearest;
use signpost_place::Look;
use signpost_upkeep::menu_file;

use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::{complete, render};

/// Follow a start from power-on to a system, without a reboot
///
/// Ends with 1 where nothing starts by itself.
#[derive(Args)]
pub struct RehearseArgs {
    /// What if this entry of our menu were chosen
    #[arg(long, value_name = "ENTRY", add = ArgValueCompleter::new(complete::ids))]
    choose: Option<String>,
    /// What if this disk, by its number, were not there (can be repeated)
    #[arg(long, value_name = "DISK")]
    without: Vec<DiskNumber>,
    /// What if the boot order were this: entries' numbers, in hexadecimal; with BIOS firmware disks, such as d2 d1
    #[arg(long, value_name = "NUMBER", num_args = 1..)]
    order: Option<Vec<String>>,
    /// What if Secure Boot were on, or off
    #[arg(long, value_name = "on|off", value_parser = ["on", "off"])]
    secure_boot: Option<String>,
}

fn entry_number(text: &str) -> Result<u16, String> {
    let digits = text.strip_prefix("Boot").unwrap_or(text);
    u16::from_str_radix(digits, 16)
        .map_err(|_| "an entry's number has four hexadecimal digits, such as 0003".into())
}

pub fn run(app: &App<'_>, args: &RehearseArgs) -> Outcome {
    let mut machine = app.uefi_or_bios_machine()?;
    for disk in &args.without {
        if !machine.take_out(*disk) {
            let numbers: Vec<String> = machine.disks.iter().map(|disk| disk.number.to_string()).collect();
            return Err(Failure::Other(format!("there is no disk {disk}; there are {}", numbers.join(", "))));
        }
    }
    let mut look = app.look(&machine)?;
    if let Some(state) = &args.secure_boot {
        look.survey.machine.secure_boot = Some(state == "on");
    }
    if machine.firmware == FirmwareKind::Bios {
        return by_bios(app, &machine, &look, args);
    }
    let mut boot = look.boot.clone();
    if let Some(order) = &args.order {
        boot.order =
            order.iter().map(|text| entry_number(text)).collect::<Result<_, _>>().map_err(Failure::Usage)?;
    }
    let state = State { boot: &boot, ..State::of(&look) };
    let rehearsal = rehearse_state(&look, state, args.choose.as_deref());
    if let (Some(Choice::NoEntry(ids)), Some(id)) = (&rehearsal.choice, &args.choose) {
        return Err(Failure::Usage(no_entry("the active menu", id, ids.iter())));
    }
    app.show(&rehearsal, || render::rehearse::text(&rehearsal));
    let is_start = rehearsal.outcome.is_start() && rehearsal.choice.is_none();
    Ok(if is_start { Exit::Done } else { Exit::Problems })
}

/// That a menu has no such entry, and which it has.
fn no_entry<'i>(menu: &str, id: &str, ids: impl Iterator<Item = &'i EntryId> + Clone) -> String {
    let near = nearest(id, ids.clone().map(EntryId::as_str)).map(|near| format!("; did you mean {near}?"));
    let all = || format!("; there are {}", ids.map(EntryId::as_str).collect::<Vec<_>>().join(", "));
    format!("{menu} has no entry {id}{}", near.unwrap_or_else(all))
}

/// What the first sector of the first disk leads to.
fn by_bios(app: &App<'_>, machine: &Machine, look: &Look, args: &RehearseArgs) -> Outcome {
    if args.secure_boot.is_some() {
        return Err(Failure::Usage("BIOS firmware knows no Secure Boot".into()));
    }
    let disk = |text: &String| {
        let number = text.strip_prefix('d').unwrap_or(text).parse().ok().map(DiskNumber);
        let number = number.filter(|number| look.survey.disk(*number).is_some());
        let all: Vec<String> = look.survey.disks.iter().map(|disk| format!("d{}", disk.number)).collect();
        number.ok_or_else(|| Failure::Usage(format!("there is no disk {text}; there are {}", all.join(", "))))
    };
    let without = |number: &DiskNumber| !args.without.contains(number);
    let order = match &args.order {
        Some(order) => order.iter().map(disk).collect::<Result<Vec<_>, _>>()?,
        None => look.survey.boot_sectors.order.iter().copied().filter(without).collect(),
    };
    let rehearsal = match &args.choose {
        None => rehearse_in_order(look, &order, &[], None),
        // Our menu, where it is what starts.
        Some(id) if look.survey.boot_sectors.home().is_some() => {
            let rehearsal = rehearse_in_order(look, &order, &[], Some(id));
            if let Some(Choice::NoEntry(ids)) = &rehearsal.choice {
                return Err(Failure::Usage(no_entry("the active menu", id, ids.iter())));
            }
            rehearsal
        }
        Some(id) => {
            let menu = menu_file::load(&app.menu_file(machine))?;
            let entries = resolve(look, &menu.document);
            let ids = entries.iter().map(|entry| &entry.entry.id);
            let entry = entries.iter().find(|entry| entry.entry.id == *id);
            let entry = entry.ok_or_else(|| Failure::Usage(no_entry("the menu file", id, ids)))?;
            let cannot = |why| Failure::Usage(format!("{id} cannot be what starts: {why}"));
            rehearse_entry(look, &order, entry).map_err(cannot)?
        }
    };
    app.show(&rehearsal, || render::rehearse::text(&rehearsal));
    Ok(if rehearsal.outcome.is_start() { Exit::Done } else { Exit::Problems })
}
