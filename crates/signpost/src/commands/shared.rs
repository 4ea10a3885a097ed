//! What several commands take.

use std::path::{Path, PathBuf};

use clap::Args;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap_complete::engine::ArgValueCompleter;
use signpost_core::menu_file::MenuFile;
use signpost_core::plan::{Wishes, pass};
use signpost_facts::{Code, FirmwareKind, Refusal};
use signpost_machine::{Machine, files};
use signpost_menu::document::Host;
use signpost_place::boot_program::BootProgram;

use super::picture;
use crate::complete;
use crate::failure::Failure;

/// What the boot program needs, for commands that apply it.
#[derive(Args)]
pub struct HomeArgs {
    /// The volume for boot program and menu, such as d1p1 or uuid:4F2A-11C9
    #[arg(long, value_name = "VOLUME", add = ArgValueCompleter::new(complete::volumes))]
    home: Option<String>,
    /// The volume for the second home, where the menu file says homes = 2
    #[arg(long, value_name = "VOLUME", add = ArgValueCompleter::new(complete::volumes), hide_short_help = true)]
    second_home: Option<String>,
    #[command(flatten)]
    program: ProgramArgs,
    /// Replace the menu of another system of this PC
    #[arg(long)]
    take_over: bool,
}

/// The same with the picture that a menu's look asks for, where the boot program shows the menu.
pub fn with_picture(wishes: &Wishes, menu: &MenuFile) -> signpost_facts::Result<Wishes> {
    let is_drawn = menu.document.settings.host == Host::Signpost;
    let picture = if is_drawn { picture::of(menu)? } else { None };
    Ok(Wishes { picture: picture.map(|picture| picture.encode()), ..wishes.clone() })
}

/// Which boot program is used.
#[derive(Args)]
pub struct ProgramArgs {
    /// The boot program, instead of the one that is found
    #[arg(long, value_name = "FILE")]
    boot_program: Option<PathBuf>,
}

impl ProgramArgs {
    /// The one that is named, else the one that is found.
    pub fn program(&self, machine: &Machine) -> Result<Option<BootProgram>, Failure> {
        let bytes = match &self.boot_program {
            Some(path) => Some(
                read_program(path)
                    .and_then(|bytes| bytes.ok_or_else(|| std::io::Error::other("there is no such file")))
                    .map_err(|error| Failure::Other(format!("{}: {error}", path.display())))?,
            ),
            None => found_beside_us(machine.firmware),
        };
        Ok(bytes.map(BootProgram::new))
    }
}

/// Where the boot program is looked for, seen from the folder of this program: beside it, in the usual library
/// folder, in the workspace's build folder.
const FOLDERS: [&str; 3] = [".", "../lib/signpost", "../boot"];

impl HomeArgs {
    /// What they ask for.
    pub fn wishes(&self, machine: &Machine) -> Result<Wishes, Failure> {
        Ok(Wishes {
            boot_program: self.program.program(machine)?,
            home: self.home.clone(),
            second_home: self.second_home.clone(),
            ..Wishes::default()
        })
    }

    /// The guards that they override, beside those that are named.
    pub fn passes(&self, despite: &Despite) -> impl Fn(&Refusal) -> bool {
        let take_over = self.take_over;
        move |refusal| despite.has(refusal) || (take_over && refusal.code == Code::OtherSystem)
    }
}

/// The boot program's bytes, where one is found by itself.
pub fn found_beside_us(firmware: FirmwareKind) -> Option<Vec<u8>> {
    let file = match firmware {
        FirmwareKind::Bios => "signpost-bios.img",
        _ => "signpost-x64.efi",
    };
    let program = std::env::current_exe().ok()?;
    let folder = program.parent()?;
    FOLDERS.iter().find_map(|path| read_program(&folder.join(path).join(file)).ok().flatten())
}

/// A boot program's bytes; no program that firmware starts is longer.
fn read_program(path: &Path) -> std::io::Result<Option<Vec<u8>>> {
    const MAX_PROGRAM: u64 = 64 << 20;
    files::read(path, MAX_PROGRAM)
}

/// The guards that somebody overrides.
#[derive(Args)]
pub struct Despite {
    /// Override these guards, by their codes
    #[arg(id = "despite", long, global = true, value_name = "CODE", value_delimiter = ',', value_parser = guard_codes(), hide_possible_values = true)]
    codes: Vec<Code>,
}

impl Despite {
    /// Whether this one is among them.
    pub fn has(&self, refusal: &Refusal) -> bool {
        self.codes.contains(&refusal.code)
    }

    /// Passes a guard, where it does not stand against it or is overridden.
    pub fn pass(&self, refusal: Option<Refusal>) -> Result<(), Failure> {
        let refusals: Vec<Refusal> = refusal.into_iter().collect();
        Ok(pass(&refusals, |refusal| self.has(refusal))?)
    }
}

/// Reads a guard's code.
fn guard_codes() -> impl TypedValueParser<Value = Code> {
    let words = Code::ALL.into_iter().filter(|code| code.is_guard()).map(Code::word);
    PossibleValuesParser::new(words).try_map(|word| Code::parse(&word).ok_or("no such code"))
}
