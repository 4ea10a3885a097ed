//! The loop of a boot program: open the menu, take keys and time, carry out what comes of them. Written once, over the drivers of the
//! program that runs it.

mod drivers;
mod offer;
mod prompt;
mod save;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

pub use drivers::{Drivers, Input, Screen, without_picture};
use signpost_menu::picture_place::PicturePlace;
use signpost_menu::place::{VolumeRef, resolve as resolve_volume};
use signpost_menu::policy::{MENU, Situation, open};
use signpost_menu::resolve::{Fault, Firmware, ResolvedEntry, StartTarget, Surroundings, describe, resolve};
use signpost_menu::scene::scene;
use signpost_menu::session::{Request, Session};
use signpost_menu::slot::{SECTOR_SLOT_NAMES, SLOT_NAMES, SlotFault, Slots, newest};
use signpost_menu::tries::Unconfirmed;
use signpost_menu::{MenuDocument, include, ours, parse_leniently};

use crate::at_boot::BootMachine;
use crate::homes::{InForce, in_force};
use crate::surroundings;
use crate::volumes::Volumes;
use prompt::Left;

/// What the prompt opens with where there is no menu.
const NO_MENU: &str = "No menu was found here.";
/// The same, where there was one.
const DAMAGED: &str =
    "The menu on this disk is damaged: no copy of it can be read. `signpost apply` writes it again.";
/// What can be done then.
const WAYS: &str = "`volumes` shows what there is, `compose linux on d1p2` and `start` start a system, `save` keeps it. \
                    `entries` shows the programs that were found, `leave` goes on to the firmware's next entry.";

/// Shows the menu until something starts. It ends where a prompt that had no menu to go back to was left: the firmware then goes on.
pub fn run(drivers: &mut impl Drivers) {
    let mut machine = drivers.look();
    let source = read(drivers, &machine);
    let (mut document, has_menu) = match source.document {
        Some(document) => (document, true),
        None => (offer::document(&machine), false),
    };
    if has_menu && misses_a_volume(&machine, &document) && drivers.wake_disks() {
        machine = drivers.look();
    }
    let more = include::complete(&machine, machine.home, &mut document);
    let resolved = resolve(&machine, &document);
    let mut session = open_session(drivers, &machine, &document, &resolved);
    if session.note.is_none() {
        session.note = source.notes.iter().chain(&more).next().cloned().or_else(|| drivers.note());
    }
    let mut menu = Menu {
        machine: &machine,
        document: &document,
        resolved: &resolved,
        drivers,
        screen: None,
        picture: source.picture,
    };
    let lack = if source.is_damaged { DAMAGED } else { NO_MENU };
    // What gives up is not asked again.
    if has_menu || matches!(menu.prompt(&mut session, Some(&format!("{lack} {WAYS}"))), Left::Closed) {
        menu.serve(session);
    }
}

/// The active menu, and what is to be said of it.
struct Source {
    document: Option<MenuDocument>,
    /// Where the picture behind it lies, where that is not beside the program.
    picture: Option<PicturePlace>,
    /// What was skipped and why.
    notes: Vec<String>,
    /// Whether there is none since what is kept here is damaged.
    is_damaged: bool,
}

/// The slots where this program came from, and the menu that counts.
///
/// # Errors
/// Where it is not known where that is, or nothing can be read there, in words.
fn slots(drivers: &impl Drivers, machine: &BootMachine) -> Result<(Slots, Option<InForce>), String> {
    const EMPTY: Slots = [Err(SlotFault::Empty), Err(SlotFault::Empty)];
    let (own, others) = machine.homes().ok_or("the disk this program came from is not found")?;
    let slots = drivers.slots(machine, own.0)?;
    let read = |home| drivers.slots(machine, home).unwrap_or(EMPTY);
    let found = in_force(own, slots.clone(), &others, read);
    Ok((slots, found))
}

/// Reads the menu that counts.
fn read(drivers: &impl Drivers, machine: &BootMachine) -> Source {
    let without = |notes, is_damaged| Source { document: None, picture: None, notes, is_damaged };
    let (slots, found) = match slots(drivers, machine) {
        Ok(read) => read,
        Err(why) => return without(Vec::from([why]), false),
    };
    let names = match Surroundings::firmware(machine) {
        Firmware::Uefi => SLOT_NAMES,
        Firmware::Bios => SECTOR_SLOT_NAMES,
    };
    let mut notes: Vec<String> = names
        .iter()
        .zip(&slots)
        .filter_map(|(name, slot)| match slot {
            Err(SlotFault::Empty) | Ok(_) => None,
            Err(fault) => Some(format!("{name} is skipped: {fault}")),
        })
        .collect();
    let Some(found) = found else {
        let is_damaged = !notes.is_empty();
        if !is_damaged {
            notes.push("no menu was found here".to_string());
        }
        return without(notes, is_damaged);
    };
    if machine.homes().is_some_and(|(own, _)| own.0 != found.home) {
        let why = if newest(&slots).is_some() {
            "is newer than the one here"
        } else {
            "counts: none here can be read"
        };
        notes.insert(0, format!("the menu on {} {why}", machine.home_name(found.home)));
    }
    let (document, problems) = parse_leniently(&found.slot.text);
    notes.extend(problems.iter().map(|problem| format!("menu, {problem}")));
    Source { document, picture: found.slot.picture, notes, is_damaged: false }
}

/// The file of a picture.
///
/// # Errors
/// Why it cannot be read, in words.
fn read_picture(machine: &BootMachine, picture: &PicturePlace, most: usize) -> Result<Vec<u8>, String> {
    let volume = VolumeRef::parse(&picture.volume).map_err(|error| error.to_string())?;
    let index = resolve_volume(&volume, Volumes::identities(machine)).map_err(|error| error.to_string())?;
    let read = surroundings::reader(machine, index)?.read(&picture.path, most);
    read.map_err(|error| error.to_string())
}

/// Whether an entry's volume is not there yet: firmware in a hurry does not wake every disk.
fn misses_a_volume(machine: &BootMachine, document: &MenuDocument) -> bool {
    resolve(machine, document).iter().any(|entry| matches!(entry.target, Err(Fault::NoVolume { .. })))
}

fn open_session(
    drivers: &mut impl Drivers,
    machine: &BootMachine,
    document: &MenuDocument,
    resolved: &[ResolvedEntry<'_>],
) -> Session {
    let faults: Vec<Option<String>> =
        resolved.iter().map(|entry| entry.target.as_ref().err().map(ToString::to_string)).collect();
    let lines: Vec<String> = resolved.iter().map(|entry| describe(machine, entry)).collect();
    let once = drivers.remembered(ours::ONCE);
    if once.is_some() {
        drivers.forget(ours::ONCE);
    }
    let (kept, last) = (drivers.remembered(ours::KEPT), drivers.remembered(ours::LAST));
    let unconfirmed = unconfirmed(drivers);
    let opening = open(&Situation {
        document,
        faults: &faults,
        once: if drivers.is_menu_asked_for() { Some(MENU) } else { once.as_deref() },
        kept: kept.as_deref(),
        last_started: last.as_deref(),
        unconfirmed: &unconfirmed,
        failed: None,
    });
    Session::new((document, Surroundings::firmware(machine)), resolved, &lines, &opening)
}

/// How often entries were started without coming up.
fn unconfirmed(drivers: &impl Drivers) -> Unconfirmed {
    drivers.remembered(ours::TRIES).map(|text| Unconfirmed::parse(&text)).unwrap_or_default()
}

struct Menu<'a, D: Drivers> {
    machine: &'a BootMachine,
    document: &'a MenuDocument,
    resolved: &'a [ResolvedEntry<'a>],
    drivers: &'a mut D,
    /// Opened once there is something to show.
    screen: Option<D::Screen>,
    /// Where the picture behind it lies, until the screen has it.
    picture: Option<PicturePlace>,
}

impl<D: Drivers> Menu<'_, D> {
    fn serve(mut self, mut session: Session) -> ! {
        // A menu that is not shown starts without touching the screen.
        let mut request = if session.is_shown() { Request::None } else { session.tick(0) };
        loop {
            match request {
                Request::None => {}
                Request::Start { entry, args } => {
                    let why = self.start(entry, args.as_deref());
                    session.failed(why);
                }
                Request::SetupScreen => session.failed(self.drivers.open_setup()),
                Request::Restart => self.drivers.restart(),
                Request::PowerOff => session.failed(self.drivers.power_off()),
                Request::KeepDefault(entry) => session.note = Some(self.keep_default(entry)),
                Request::Prompt => {
                    self.prompt(&mut session, None);
                }
            }
            request = self.next(&mut session);
        }
    }

    fn next(&mut self, session: &mut Session) -> Request {
        if self.document.look.clock {
            session.time = self.drivers.time();
        }
        let screen = if session.is_shown() { self.screen_with_picture() } else { self.screen() };
        if session.is_shown() {
            screen.show(&mut |frame| scene(session, frame));
        }
        match screen.wait() {
            Input::Key(key) => session.key(key),
            Input::Tick(passed) => session.tick(passed),
        }
    }

    /// Starts an entry; comes back with the reason why it is not running.
    fn start(&mut self, index: usize, args: Option<&str>) -> String {
        let Some((entry, target)) =
            self.resolved.get(index).map(|resolved| (resolved.entry, &resolved.target))
        else {
            return "there is no such entry".into();
        };
        let target: &StartTarget = match target {
            Ok(target) => target,
            Err(why) => return format!("{} cannot start: {why}", entry.title),
        };
        if entry.starts.is_system() {
            self.drivers.remember(ours::LAST, &entry.id);
        }
        if entry.tries.is_some() {
            self.count_start(&entry.id);
        }
        let otherwise = self.screen.as_ref().and_then(Screen::otherwise);
        let otherwise = otherwise.map(|otherwise| format!("; {otherwise}")).unwrap_or_default();
        self.drivers.remember(ours::LOG, &format!("{}: started{otherwise}", entry.id));
        if let Some(screen) = &mut self.screen {
            screen.clear_for(&entry.title);
        }
        let why = self.drivers.start(self.machine, target, args);
        let log: String = format!("{}: {why}", entry.id).chars().take(ours::MAX_LOG / 4).collect();
        self.drivers.remember(ours::LOG, &log);
        format!("{}: {why}", entry.title)
    }

    /// Counts a start until the system says that it has come up; what other menus have left behind goes.
    fn count_start(&mut self, id: &str) {
        let has_tries = |id: &str| self.document.entry(id).is_some_and(|entry| entry.tries.is_some());
        let counted = unconfirmed(self.drivers).among(has_tries).with_one_more(id);
        self.drivers.remember(ours::TRIES, &counted.text());
    }

    /// The prompt, until it is left.
    fn prompt(&mut self, session: &mut Session, opening: Option<&str>) -> Left {
        let (machine, document) = (self.machine, self.document);
        session.stop();
        self.screen_with_picture().clear();
        let Some(screen) = &mut self.screen else { return Left::Closed };
        let left = prompt::serve((machine, document), self.drivers, screen, opening);
        screen.clear();
        left
    }

    /// The screen, on which something is shown.
    fn screen_with_picture(&mut self) -> &mut D::Screen {
        let (machine, picture) = (self.machine, self.picture.take());
        let screen = self.screen();
        if let Some(picture) = picture {
            screen.take_picture(&|most| read_picture(machine, &picture, most));
        }
        screen
    }

    fn screen(&mut self) -> &mut D::Screen {
        let (drivers, document) = (&mut *self.drivers, self.document);
        self.screen.get_or_insert_with(|| {
            let mut screen = drivers.open_screen(&document.look);
            screen.set_keyboard(document.settings.keyboard);
            if let Some(number) = document.settings.serial_port {
                screen.add_serial_port(number);
            }
            screen
        })
    }

    fn keep_default(&mut self, index: usize) -> String {
        let Some(entry) = self.document.entries.get(index) else {
            return "there is no such entry".to_string();
        };
        if self.drivers.remember(ours::KEPT, &entry.id) {
            format!("{} is now the default", entry.title)
        } else {
            "the firmware refused to store that".to_string()
        }
    }
}
