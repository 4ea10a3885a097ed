//! The prompt at boot: the machine as the firmware shows it, keys, and what comes of a line.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::prompt::{Prompt, PromptScreen, Then, saved};
use signpost_menu::{MenuDocument, ours};
use uefi::cstr16;

use crate::console::{Console, Input};
use crate::machine::Machine;
use crate::{power, save, start, variables};

/// How the prompt was left.
pub enum Left {
    /// To what stands behind it.
    Closed,
    /// By its word.
    Leave,
}

/// Serves the prompt until it is left.
pub fn serve(
    machine: &Machine,
    document: &MenuDocument,
    console: &mut Console,
    opening: Option<&str>,
) -> Left {
    let opening: Vec<String> = opening.map(ToString::to_string).into_iter().collect();
    let mut prompt = Prompt::new(document.clone());
    prompt.set_keyboard(console.keyboard());
    let mut screen = PromptScreen::new(prompt, &opening);
    loop {
        let (width, height) = console.size();
        console.paint(screen.draw(width, height));
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
                variables::set_text(ours::LOG, &format!("{title}: started from the prompt"));
                let why = start::start(machine, &target, None);
                console.clear();
                format!("{title}: {why}")
            }
            Then::Save { title, is_default, body } => match save::save(machine, &title, &body) {
                Ok((id, document)) => {
                    screen.prompt().take_menu(document);
                    let kept = is_default && variables::set_text(ours::KEPT, &id);
                    screen.say([saved(&id, kept)]);
                    "it is in the menu from the next start on".to_string()
                }
                Err(why) => format!("it was not saved: {why}"),
            },
            Then::Once(Some(id)) => refused(variables::set_text(ours::ONCE, &id)),
            Then::Once(None) => {
                variables::remove(ours::ONCE);
                String::new()
            }
            Then::NextBoot(number) => {
                refused(variables::set_global(cstr16!("BootNext"), &number.to_le_bytes()))
            }
            Then::First(number) => refused(put_first(machine, number)),
            Then::SetupScreen => power::setup_screen(),
            Then::Restart => power::restart(),
            Then::PowerOff => power::off(),
        };
        screen.say([said]);
    }
}

fn put_first(machine: &Machine, number: u16) -> bool {
    let others = machine.boot.order.iter().filter(|other| **other != number);
    let order: Vec<u8> =
        core::iter::once(&number).chain(others).flat_map(|number| number.to_le_bytes()).collect();
    variables::set_global(cstr16!("BootOrder"), &order)
}

fn refused(is_written: bool) -> String {
    if is_written { String::new() } else { "the firmware refused to store that".into() }
}
