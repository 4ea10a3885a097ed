//! The firmware's load options as a menu sees them.

use alloc::string::ToString;
use alloc::vec::Vec;

use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{Hardware, Names, locate, volume_path};
use signpost_menu::resolve::LoadOptionSeen;
use signpost_menu::text::shown;

/// The options that these variables hold and that can be read, in the boot order first.
pub(crate) fn seen(
    boot: &BootVariables,
    hardware: &impl Hardware,
    names: &impl Names,
) -> Vec<LoadOptionSeen> {
    let mut numbers = boot.order.clone();
    numbers.extend(boot.options.keys().filter(|number| !boot.order.contains(number)));
    let seen = |number: u16| {
        let option = boot.options.get(&number)?.decoded.as_ref().ok()?;
        let verdict = locate(option, hardware);
        let target = verdict.target().map(|target| (target.partition, volume_path(&target.path)));
        let fault = verdict.starts_nothing().then(|| verdict.words(names));
        let label = shown(&option.description.to_string()).into_owned();
        Some(LoadOptionSeen { number, label, target, fault })
    };
    numbers.into_iter().filter_map(seen).collect()
}
