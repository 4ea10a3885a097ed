//! Work on the project itself: `cargo xtask --help`.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a tool for the terminal")]

mod bench;
mod bench_boot;
mod bench_large;
mod boot;
mod demo_assets;
mod dist;
mod figures;
mod fleet;
mod fuzz;
mod letters;
mod living;
mod packages;
mod run;
mod screenshots;
mod test;
mod tried;
mod vm;

use std::process::ExitCode;

use clap::Parser;

/// Work on the project itself.
#[derive(Parser)]
enum Task {
    /// Set up what the tests need, and run all of them (as root: installs Debian's packages).
    Test {
        /// Handed on to `cargo test`.
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        args: Vec<String>,
    },
    /// Build the boot programs into target/boot.
    Boot {
        /// As root, install Debian's toolchain where rustup has no target for it.
        #[arg(long)]
        install: bool,
    },
    /// Check the boot program as the other crates are checked: formatting and lints.
    LintBoot,
    /// Make what is handed to people: a folder, a Debian and an rpm package, below target/dist.
    Dist {
        /// With the program that tests run, which is larger and slower
        #[arg(long)]
        tested: bool,
    },
    /// Measure surveys and reading against plain reads and the usual tools.
    Bench {
        /// Only volumes that are larger than most
        #[arg(long)]
        large: bool,
    },
    /// Measure starts through our menu against the firmware's own, in a virtual machine.
    BenchBoot,
    /// Compare rehearsal and real firmware on machines made from seeds.
    Agreement {
        /// The seeds.
        #[arg(long, value_name = "FROM..TO", default_value = "0..200")]
        seeds: String,
    },
    /// Hurt machines made from seeds, name what is wrong, mend it, and start them on real firmware.
    Faults {
        /// The seeds.
        #[arg(long, value_name = "FROM..TO", default_value = "0..300")]
        seeds: String,
    },
    /// Fuzz every reader of bytes that others write, one after the other (with a nightly compiler and `cargo fuzz`).
    Fuzz {
        /// Minutes for each.
        #[arg(long, default_value_t = 10, value_parser = clap::value_parser!(u64).range(1..))]
        minutes: u64,
    },
    /// Pack the letters that the boot program draws with anew (as root: installs a font of Debian's).
    Letters,
    /// Live through a real Debian's life with the package, started through our menu (as root; some minutes).
    Living {
        /// Only what one system goes through by itself, as the tests do
        #[arg(long)]
        short: bool,
    },
    /// Start a bench in a virtual machine, its serial console on the terminal.
    Vm(vm::VmArgs),
    /// Take the pictures of docs/screenshots anew, from the demo's bench.
    Screenshots,
    /// Start the demo's menu on many kinds of virtual hardware, and write docs/tried.md.
    Tried,
    /// Print how long the program takes, beside one that does nothing.
    Figures,
    /// Make the packed volumes of the demo anew (as root: some file systems are filled by mounting them).
    DemoAssets,
}

fn main() -> ExitCode {
    let result = match Task::parse() {
        Task::Test { args } => test::run_all(&args),
        Task::Boot { install } => boot::build(install).map(|path| println!("{}", path.display())),
        Task::LintBoot => boot::lint(),
        Task::Dist { tested } => dist::make(if tested { dist::Build::Tested } else { dist::Build::Full }),
        Task::Bench { large: true } => {
            run::build_release().and_then(|program| bench_large::run_all(&program))
        }
        Task::Bench { large: false } => bench::run_all(),
        Task::BenchBoot => bench_boot::run(),
        Task::Agreement { seeds } => test::agreement(&seeds),
        Task::Faults { seeds } => test::faults(&seeds),
        Task::Fuzz { minutes } => fuzz::run_all(minutes),
        Task::Letters => letters::make(),
        Task::Living { short } => living::live(if short { living::Life::Short } else { living::Life::Whole }),
        Task::Vm(args) => vm::start(&args),
        Task::Screenshots => screenshots::take(),
        Task::Tried => tried::measure(),
        Task::Figures => figures::print(),
        Task::DemoAssets => demo_assets::make(),
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("xtask: {message}");
            ExitCode::FAILURE
        }
    }
}
