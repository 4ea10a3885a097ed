use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCompleter;
use signpost_core::edit::{Kernel, NewEntry};
use signpost_facts::Volume;
use signpost_menu::place::Place;
use signpost_place::Look;

use crate::complete;
use crate::failure::Failure;

#[derive(Subcommand)]
pub enum New {
    /// An EFI program, on any volume
    Efi {
        /// Where it is, such as d2p1:/EFI/meridian/start.efi; it becomes a stable name
        #[arg(value_name = "PLACE", add = ArgValueCompleter::new(complete::places))]
        program: String,
        #[command(flatten)]
        common: Common,
    },
    /// A Linux system, with kernel, initrd, root and arguments filled in; or a kernel by itself
    Linux {
        /// A kernel on any volume, such as d1p1:/tools/vmlinuz
        #[arg(value_name = "PLACE", add = ArgValueCompleter::new(complete::places), required_unless_present = "on")]
        kernel: Option<String>,
        /// The volume that the system's root is on, such as d1p2, or the system's id
        #[arg(long, value_name = "VOLUME", conflicts_with = "kernel", add = ArgValueCompleter::new(complete::volumes))]
        on: Option<String>,
        /// An initrd for the kernel, on its volume (can be repeated)
        #[arg(long, value_name = "PLACE", requires = "kernel", add = ArgValueCompleter::new(complete::places))]
        initrd: Vec<String>,
        /// Arguments for the kernel
        #[arg(long, value_name = "TEXT", requires = "kernel", allow_hyphen_values = true)]
        args: Option<String>,
        #[command(flatten)]
        common: Common,
    },
    /// A system inside an image file: looked into, its kernel and arguments by a recipe
    Image {
        /// Where the image is, such as d3p2:/systems/lantern.img
        #[arg(value_name = "PLACE", add = ArgValueCompleter::new(complete::places))]
        image: String,
        #[command(flatten)]
        common: Common,
    },
    /// A boot sector, on a PC with BIOS firmware: of a volume, or in a file
    Sector {
        /// The volume, such as d1p1, or the file, such as d1p5:/old/dos.bin
        #[arg(value_name = "PLACE", add = ArgValueCompleter::new(complete::places))]
        place: String,
        #[command(flatten)]
        titled: Titled,
        /// Do not look whether it starts something
        #[arg(long)]
        unchecked: bool,
    },
    /// An entry that the firmware has
    FirmwareEntry {
        /// Its number or its label
        name: String,
        #[command(flatten)]
        titled: Titled,
    },
    /// A group of other entries; `entry move X into GROUP` fills it
    Group {
        /// Its title
        title: String,
    },
    /// Firmware setup
    SetupScreen,
    /// A restart
    Restart,
    /// Power off
    PowerOff,
}

#[derive(Args)]
pub struct Titled {
    /// Its title, instead of the one that is found
    #[arg(long, value_name = "TEXT")]
    title: Option<String>,
}

#[derive(Args)]
pub struct Common {
    #[command(flatten)]
    titled: Titled,
    /// The recipe for it, instead of the first that fits; `entry recipes` lists them
    #[arg(long, value_name = "ID")]
    recipe: Option<String>,
    /// Do not look whether its files are there
    #[arg(long)]
    unchecked: bool,
}

/// A partition that holds slices is no volume by itself: the slice that its boot sector starts is meant.
fn sector_place(look: &Look, text: &str) -> Option<Place> {
    let survey = &look.survey;
    let sector = survey.boot_sectors.partitions.iter().find(|sector| sector.name == text)?;
    let is_started =
        |volume: &&Volume| survey.boot_sector_of(volume.number).is_some_and(|own| own.name == sector.name);
    let volume = survey.volumes.iter().find(is_started)?;
    Some(Place { volume: look.stable_name(volume.number.index()).ok()?, path: String::new() })
}

impl New {
    /// What is wanted, with its title and whether it goes unchecked.
    ///
    /// # Errors
    /// Where a place that was typed is none.
    pub fn wanted(&self, look: &Look) -> Result<(NewEntry, Option<&str>, bool), Failure> {
        let plain = |starts, title| (NewEntry::Plain { starts, title }, None, false);
        let place = |text: &str| look.typed(text).map_err(|error| Failure::Usage(error.to_string()));
        Ok(match self {
            Self::Efi { program, common } => {
                let (program, recipe) = (place(program)?, common.recipe.clone());
                (NewEntry::Efi { program, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::Linux { kernel: Some(kernel), initrd, args, common, .. } => {
                let kernel = Kernel {
                    kernel: place(kernel)?,
                    initrds: initrd.iter().map(|initrd| place(initrd)).collect::<Result<_, _>>()?,
                    args: args.clone(),
                };
                let recipe = common.recipe.clone();
                (NewEntry::Kernel { kernel, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::Linux { on, common, .. } => {
                let on = place(on.as_deref().unwrap_or_default())?.volume;
                let recipe = common.recipe.clone();
                (NewEntry::Linux { on, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::Image { image, common } => {
                let (image, recipe) = (place(image)?, common.recipe.clone());
                (NewEntry::Image { image, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::Sector { place: text, titled, unchecked } => {
                let place = sector_place(look, text).map_or_else(|| place(text), Ok)?;
                (NewEntry::Sector { place }, titled.title.as_deref(), *unchecked)
            }
            Self::FirmwareEntry { name, titled } => {
                (NewEntry::FirmwareEntry { name: name.clone() }, titled.title.as_deref(), false)
            }
            Self::Group { title } => {
                (NewEntry::Plain { starts: "group", title: "Group" }, Some(title), false)
            }
            Self::SetupScreen => plain("setup-screen", "Firmware setup"),
            Self::Restart => plain("restart", "Restart"),
            Self::PowerOff => plain("power-off", "Power off"),
        })
    }
}
