//! Benches started in a virtual machine, on the terminal or for a picture.

use std::fs;
use std::path::{Path, PathBuf};

use clap::Args;
use signpost_vm::{Disk, Monitor, Spec, VARIABLES, Vm};

use crate::packages;
use crate::run::{Result, at, command, run};

/// What stands under every menu.
const MENU_STANDS: &str = "? help";

#[derive(Args)]
pub struct VmArgs {
    /// The bench's folder
    bench: PathBuf,
    /// Use the bench's own disks and variables instead of copies
    #[arg(long)]
    keep: bool,
    /// Take the screen into this file once the menu stands, then end
    #[arg(long, value_name = "FILE.png")]
    screen: Option<PathBuf>,
    /// Type these keys once the menu stands; \r is Enter
    #[arg(long, value_name = "KEYS")]
    keys: Option<String>,
}

/// Starts a bench.
pub fn start(args: &VmArgs) -> Result<()> {
    packages::need(&["ovmf", "qemu-system-x86"])?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let folder = if args.keep { args.bench.clone() } else { copy(&args.bench, work.path())? };
    let spec = spec(&folder, work.path())?;
    let keys = args.keys.as_ref().map(|keys| keys.replace("\\r", "\r"));
    match (&args.screen, keys) {
        (Some(picture), keys) => screen(&spec, keys.as_deref(), work.path(), picture),
        (None, Some(keys)) => {
            let mut vm = Vm::start(&spec, None)?;
            vm.wait_for(MENU_STANDS)?;
            vm.type_keys(&keys)?;
            println!("{}", vm.until_it_ends()?);
            Ok(())
        }
        (None, None) => {
            // Ctrl-A X ends it.
            let mut terminal = spec.command()?;
            terminal.args(["-display", "none", "-serial", "mon:stdio"]).stdin(std::process::Stdio::inherit());
            run(&mut terminal)
        }
    }
}

/// Takes the screen of a machine once its menu stands and these keys were typed.
pub fn screen(spec: &Spec, keys: Option<&str>, work: &Path, picture: &Path) -> Result<()> {
    packages::need(&["imagemagick"])?;
    let socket = work.join("monitor");
    let mut vm = Vm::start(spec, Some(&socket))?;
    vm.wait_for(MENU_STANDS)?;
    if let Some(keys) = keys {
        vm.type_keys(keys)?;
        vm.settle();
    }
    let dump = work.join("screen.ppm");
    Monitor::connect(&socket)?.say(&format!("screendump {}", dump.display()))?;
    run(command("convert").arg(&dump).arg(picture))
}

/// Copies of a bench's files, sparse as they are.
fn copy(bench: &Path, work: &Path) -> Result<PathBuf> {
    let folder = work.join("bench");
    run(command("cp").args(["-r", "--sparse=always"]).arg(bench).arg(&folder))?;
    Ok(folder)
}

/// The disks that a bench's `machine.toml` lists, and its variables; a folder of variables starts as an empty store.
fn spec(folder: &Path, work: &Path) -> Result<Spec> {
    let description = folder.join("machine.toml");
    let text = fs::read_to_string(&description).map_err(at(&description))?;
    let values = |key: &str| {
        let lines = text.lines().filter_map(|line| line.split_once('='));
        let lines = lines
            .filter(|(name, _)| name.trim() == key)
            .map(|(_, value)| value.trim().trim_matches('"').to_string());
        lines.collect::<Vec<String>>()
    };
    let images = values("image");
    let mut variables = folder.join(values("variables").first().ok_or("machine.toml names no variables")?);
    if variables.is_dir() {
        println!("variables in a folder cannot be given to the firmware: it starts with an empty store");
        let empty = work.join("variables.fd");
        fs::copy(VARIABLES, &empty).map_err(at(Path::new(VARIABLES)))?;
        variables = empty;
    }
    Ok(Spec {
        variables,
        disks: images.iter().map(|image| Disk::plain(folder.join(image))).collect(),
        memory: 256,
        is_bios: false,
        secure_boot: false,
        devices: Vec::new(),
    })
}
