use clap::{Args, Subcommand};
use signpost_core::edit::{self, NewEntry};
use signpost_menu::place::{Place, VolumeRef};

#[derive(Subcommand)]
pub enum New {
    /// An EFI program, on any volume
    Efi {
        /// Where it is, such as v4:/EFI/meridian/start.efi; the number becomes a name that holds
        #[arg(value_parser = Place::parse)]
        program: Place,
        #[command(flatten)]
        common: Common,
    },
    /// A Linux system: kernel, initrd, root and arguments are filled in
    Linux {
        /// The volume that its root is on, such as v3
        #[arg(long, value_name = "VOLUME", value_parser = volume)]
        on: VolumeRef,
        #[command(flatten)]
        common: Common,
    },
    /// A system inside an image file: looked into, its kernel and arguments by a recipe
    Image {
        /// Where the image is, such as v5:/systems/lantern.img
        #[arg(value_parser = Place::parse)]
        image: Place,
        #[command(flatten)]
        common: Common,
    },
    /// An entry that the firmware has
    FirmwareEntry {
        /// Its number or its label
        name: String,
        #[command(flatten)]
        titled: Titled,
    },
    /// A heading over other entries; `entry move X into GROUP` fills it
    Group {
        /// Its title
        title: String,
    },
    /// The firmware's own screen
    SetupScreen,
    /// A restart
    Restart,
    /// Power off
    PowerOff,
}

/// A volume, with or without the colon that parts it from a path.
fn volume(text: &str) -> Result<VolumeRef, String> {
    edit::volume_named(text).ok_or_else(|| format!("{text} names no volume; v3 or uuid:4F2A-11C9 does"))
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

impl New {
    /// What is wanted, with its title and whether it goes unchecked.
    pub fn wanted(&self) -> (NewEntry, Option<&str>, bool) {
        let plain = |starts, title| (NewEntry::Plain { starts, title }, None, false);
        match self {
            Self::Efi { program, common } => {
                let (program, recipe) = (program.clone(), common.recipe.clone());
                (NewEntry::Efi { program, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::Linux { on, common } => {
                let (on, recipe) = (on.clone(), common.recipe.clone());
                (NewEntry::Linux { on, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::Image { image, common } => {
                let (image, recipe) = (image.clone(), common.recipe.clone());
                (NewEntry::Image { image, recipe }, common.titled.title.as_deref(), common.unchecked)
            }
            Self::FirmwareEntry { name, titled } => {
                (NewEntry::FirmwareEntry { name: name.clone() }, titled.title.as_deref(), false)
            }
            Self::Group { title } => {
                (NewEntry::Plain { starts: "group", title: "Group" }, Some(title), false)
            }
            Self::SetupScreen => plain("setup-screen", "Firmware screen"),
            Self::Restart => plain("restart", "Restart"),
            Self::PowerOff => plain("power-off", "Power off"),
        }
    }
}
