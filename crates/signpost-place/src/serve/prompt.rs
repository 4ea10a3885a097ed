//! The prompt at boot: the machine as the firmware shows it, keys, and what comes of a line.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::prompt::{Prompt, PromptScreen, Then, saved};
use signpost_menu::{MenuDocument, ours};

use super::{Drivers, Input, Screen, save};
use crate::at_boot::BootMachine;

/// How the prompt was left.
pub enum Left {
    /// To what stands behind it.
    Closed,
    /// By its word.
    Leave,
}

/// Serves the prompt until it is left.
pub fn serve<D: Drivers>(
    (machine, document): (&BootMachine, &MenuDocument),
    drivers: &mut D,
    console: &mut D::Screen,
    opening: Option<&str>,
) -> Left {
    let opening: Vec<String> = opening.map(ToString::to_string).into_iter().collect();
    let mut prompt = Prompt::new(document.clone());
    prompt.set_keyboard(console.keyboard());
    let mut screen = PromptScreen::new(prompt, &opening);
    loop {
        console.show(&mut |frame| screen.scene(frame));
        // A tick changes nothing here, so nothing is painted for it.
        let key = loop {
            if let Input::Key(key) = console.wait() {
                break key;
            }
        };
        let said = match screen.key(key, machine) {
            Then::Nothing => continue,
            Then::Close => return Left::Closed,
            Then::Leave => return Left::Leave,
            Then::Keyboard(keyboard) => {
                console.set_keyboard(keyboard);
                continue;
            }
            Then::Start { title, target } => {
                console.clear_for(&title);
                drivers.remember(ours::LOG, &format!("{title}: started from the prompt"));
                let why = drivers.start(machine, &target, None);
                console.clear();
                format!("{title}: {why}")
            }
            Then::Save { title, is_default, body } => match save::save(drivers, machine, &title, &body) {
                Ok((id, document)) => {
                    screen.prompt().take_menu(document);
                    let kept = is_default && drivers.remember(ours::KEPT, &id);
                    screen.say([saved(&id, kept)]);
                    "it is in the menu from the next start on".to_string()
                }
                Err(why) => format!("it was not saved: {why}"),
            },
            Then::Once(Some(id)) => refused(drivers.remember(ours::ONCE, &id)),
            Then::Once(None) => {
                drivers.forget(ours::ONCE);
                String::new()
            }
            Then::NextBoot(number) => refused(drivers.set_next_boot(number)),
            Then::First(number) => refused(drivers.put_first(machine, number)),
            Then::SetupScreen => drivers.open_setup(),
            Then::Restart => drivers.restart(),
            Then::PowerOff => drivers.power_off(),
        };
        screen.say([said]);
    }
}

fn refused(is_written: bool) -> String {
    if is_written { String::new() } else { "the firmware refused to store that".into() }
}
