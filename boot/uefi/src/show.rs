//! The loop: open the menu, take keys and time, carry out what comes of them.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::policy::{Situation, open};
use signpost_menu::resolve::{Fault, ResolvedEntry, StartTarget, describe, resolve};
use signpost_menu::screen::draw;
use signpost_menu::session::{Request, Session};
use signpost_menu::{MenuDocument, include, ours};
use uefi::proto::loaded_image::LoadedImage;
use uefi::{Handle, Status, boot};

use crate::console::{Console, Input, TICK};
use crate::machine::Machine;
use crate::prompt::Left;
use crate::{machine, offer, power, prompt, source, start, variables};

/// Shows the menu until something starts; what it returns goes to the firmware.
pub fn run() -> Status {
    let home = home_handle();
    let mut machine = machine::look(home);
    let source = source::read(&machine);
    let (mut document, has_menu) = match source.document {
        Some(document) => (document, true),
        None => (offer::document(&machine), false),
    };
    if has_menu && misses_a_volume(&machine, &document) {
        connect_everything();
        machine = machine::look(home);
    }
    let more = include::complete(&machine, machine.home, &mut document);
    let resolved = resolve(&machine, &document);
    let mut session = open_session(&machine, &document, &resolved);
    if session.note.is_none() {
        session.note = source.notes.iter().chain(&more).next().cloned();
    }
    let mut menu = Menu { machine: &machine, document: &document, resolved: &resolved, console: None };
    let lack = if source.is_damaged { DAMAGED } else { NO_MENU };
    if !has_menu && matches!(menu.prompt(&mut session, Some(&format!("{lack} {WAYS}"))), Left::Leave) {
        // What gives up is not asked again: the firmware goes on to its next entry.
        return Status::ABORTED;
    }
    menu.serve(session)
}

/// The volume that the firmware started us from.
fn home_handle() -> Option<Handle> {
    boot::open_protocol_exclusive::<LoadedImage>(boot::image_handle()).ok()?.device()
}

/// Whether an entry's volume is not there yet: firmware in a hurry does not wake every disk.
fn misses_a_volume(machine: &Machine, document: &MenuDocument) -> bool {
    resolve(machine, document).iter().any(|entry| matches!(entry.target, Err(Fault::NoVolume { .. })))
}

fn connect_everything() {
    for handle in
        boot::locate_handle_buffer(boot::SearchType::AllHandles).iter().flat_map(|handles| handles.iter())
    {
        let _ = boot::connect_controller(*handle, &[], None, true);
    }
}

fn open_session(machine: &Machine, document: &MenuDocument, resolved: &[ResolvedEntry<'_>]) -> Session {
    let faults: Vec<Option<String>> =
        resolved.iter().map(|entry| entry.target.as_ref().err().map(ToString::to_string)).collect();
    let lines: Vec<String> = resolved.iter().map(|entry| describe(machine, entry)).collect();
    let once = variables::text(ours::ONCE);
    if once.is_some() {
        variables::remove(ours::ONCE);
    }
    let (kept, last) = (variables::text(ours::KEPT), variables::text(ours::LAST));
    let opening = open(&Situation {
        document,
        faults: &faults,
        once: once.as_deref(),
        kept: kept.as_deref(),
        last_started: last.as_deref(),
        failed: None,
    });
    Session::new(document, resolved, &lines, &opening)
}

/// What the prompt opens with where there is no menu.
const NO_MENU: &str = "No menu was found here.";
/// The same, where there was one.
const DAMAGED: &str =
    "The menu on this disk is damaged: no copy of it can be read. `signpost apply` writes it again.";
/// What can be done then.
const WAYS: &str = "`volumes` shows what there is, `compose linux on d1p2` and `start` start a system, `save` keeps it. \
                    `entries` shows the programs that were found, `leave` goes on to the firmware's next entry.";

struct Menu<'a> {
    machine: &'a Machine,
    document: &'a MenuDocument,
    resolved: &'a [ResolvedEntry<'a>],
    /// Opened once there is something to show.
    console: Option<Console>,
}

impl Menu<'_> {
    fn serve(mut self, mut session: Session) -> Status {
        // A menu that is not shown starts without touching the screen.
        let mut request = if session.is_shown() { Request::None } else { session.tick(0) };
        loop {
            match request {
                Request::None => {}
                Request::Start { entry, args } => {
                    let why = self.start(entry, args.as_deref());
                    session.failed(why);
                }
                Request::SetupScreen => session.failed(power::setup_screen()),
                Request::Restart => power::restart(),
                Request::PowerOff => power::off(),
                Request::KeepDefault(entry) => session.note = Some(self.keep_default(entry)),
                Request::Prompt => {
                    self.prompt(&mut session, None);
                }
            }
            request = self.next(&mut session);
        }
    }

    fn next(&mut self, session: &mut Session) -> Request {
        let console = self.console();
        if session.is_shown() {
            let (width, height) = console.size();
            console.paint(draw(session, width, height));
        }
        match console.wait() {
            Input::Key(key) => session.key(key),
            Input::Tick => session.tick(TICK),
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
            variables::set_text(ours::LAST, &entry.id);
        }
        variables::set_text(ours::LOG, &format!("{}: started", entry.id));
        if let Some(console) = &mut self.console {
            console.clear_for(&entry.title);
        }
        let why = start::start(self.machine, target, args);
        let log: String = format!("{}: {why}", entry.id).chars().take(ours::MAX_LOG / 4).collect();
        variables::set_text(ours::LOG, &log);
        format!("{}: {why}", entry.title)
    }

    /// The prompt, until it is left.
    fn prompt(&mut self, session: &mut Session, opening: Option<&str>) -> Left {
        let (machine, document) = (self.machine, self.document);
        let console = self.console();
        session.stop();
        console.clear();
        let left = prompt::serve(machine, document, console, opening);
        console.clear();
        left
    }

    fn console(&mut self) -> &mut Console {
        let keyboard = self.document.settings.keyboard;
        self.console.get_or_insert_with(|| {
            let mut console = Console::open();
            console.set_keyboard(keyboard);
            console
        })
    }

    fn keep_default(&self, index: usize) -> String {
        let Some(entry) = self.document.entries.get(index) else {
            return "there is no such entry".to_string();
        };
        if variables::set_text(ours::KEPT, &entry.id) {
            format!("{} is now the default", entry.title)
        } else {
            "the firmware refused to store that".to_string()
        }
    }
}
