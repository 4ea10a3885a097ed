use clap::Args;
use clap_complete::engine::ArgValueCompleter;
use signpost_core::rehearse::{Choice, State, rehearse_state};
use signpost_facts::DiskNumber;
use signpost_menu::ids::EntryId;
use signpost_menu::nearest::nearest;

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
    /// What if the boot order were this: entries' numbers, in hexadecimal
    #[arg(long, value_name = "NUMBER", num_args = 1.., value_parser = entry_number)]
    order: Option<Vec<u16>>,
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
    let mut machine = app.uefi_machine()?;
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
    let mut boot = look.boot.clone();
    if let Some(order) = &args.order {
        boot.order.clone_from(order);
    }
    let state = State { boot: &boot, ..State::of(&look) };
    let rehearsal = rehearse_state(&look, state, args.choose.as_deref());
    if let (Some(Choice::NoEntry(ids)), Some(id)) = (&rehearsal.choice, &args.choose) {
        let near = nearest(id, ids.iter().map(EntryId::as_str)).map(|near| format!("; did you mean {near}?"));
        let all = || format!("; there are {}", ids.join(", "));
        return Err(Failure::Usage(format!("the active menu has no entry {id}{}", near.unwrap_or_else(all))));
    }
    app.show(&rehearsal, || render::rehearse::text(&rehearsal));
    let is_start = rehearsal.outcome.is_start() && rehearsal.choice.is_none();
    Ok(if is_start { Exit::Done } else { Exit::Problems })
}
