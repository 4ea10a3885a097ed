//! Pictures of the main commands: a terminal in a window of 1280 by 800, on a display of its own.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use signpost_demo::{StoreKind, gauge, tide};
use signpost_vm::Spec;

use crate::run::{Result, at, build_release, command, run, workspace};
use crate::{boot, packages, vm};

/// The pictures: file, commands before it that are not shown, the command, its font size in points.
const PICTURES: [(&str, &[&str], &str, &str); 10] = [
    ("first", &[], "", "12"),
    ("survey", &[], "survey", "7"),
    ("check", &[], "check", "12"),
    ("mend", &[], "mend --dry-run", "12"),
    ("firmware", &[], "firmware list", "12"),
    ("menu", &["draft"], "menu", "12"),
    ("tune", &[], "tune", "12"),
    ("plan", &[], "plan", "12"),
    ("rehearse", &["apply --yes"], "rehearse", "12"),
    ("prompt", &[], "prompt --do volumes --do firmware --do help", "10"),
];

/// Takes them all.
pub fn take() -> Result<()> {
    packages::need(&packages::FOR_PICTURES)?;
    let program = build_release()?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    tide::bench(StoreKind::Fd).write(&work.path().join("tide")).map_err(|error| error.to_string())?;
    let folder = workspace().join("docs/screenshots");
    fs::create_dir_all(&folder).map_err(at(&folder))?;
    let display = Display::start()?;
    for (name, before, shown, size) in PICTURES {
        for typed in before {
            run(Command::new(&program)
                .current_dir(work.path())
                .args(["--machine", "tide", "--quiet"])
                .args(typed.split(' ')))?;
        }
        let picture = folder.join(format!("{name}.png"));
        display.picture(&program, work.path(), (&format!("tide {shown}"), size), &picture)?;
        println!("{}", picture.display());
    }
    gauge::write(&work.path().join("gauge")).map_err(|error| error.to_string())?;
    let picture = folder.join("gauge.png");
    display.picture(&program, work.path(), ("gauge survey", "12"), &picture)?;
    println!("{}", picture.display());
    look_pictures(&program, work.path())?;
    boot_screens(&program, work.path(), &folder)?;
    bios_screen(&program, work.path(), &folder)?;
    report_page(&program, work.path(), &folder)
}

/// The pictures of docs/look.md: file, keys that are set, further arguments of `preview`.
const LOOKS: [(&str, &[&str], &[&str]); 10] = [
    ("dusk", &[], &[]),
    ("chalk", &["look=chalk"], &[]),
    ("contrast", &["look=contrast"], &[]),
    ("scale", &["look.scale=2"], &[]),
    ("detail", &["look.detail=full"], &[]),
    ("symbols", &["look.symbols=false"], &[]),
    (
        "countdown",
        &["look.countdown=bar", "look.clock=true", "look.closing=Help: Wendel Okoro, extension 12"],
        &[],
    ),
    (
        "colours",
        &["look.ground=#2b1b2e", "look.chosen=#f4b9a7", "look.chosen-text=#2b1b2e", "look.accent=#e07a5f"],
        &[],
    ),
    ("arguments", &[], &["--arguments"]),
    ("picture", &["look.picture=harbour.png", "look.align=left", "look.width=narrow"], &[]),
];

/// Symbols of one's own, as docs/look.md has them.
const OWN_SYMBOLS: [(&str, &str); 2] = [
    ("larkspur", "ring 12 12 9, line 12 3 12 21, dot 12 12 3"),
    (
        "tidewater",
        "line 2 18 8 14, line 8 14 16 18, line 16 18 22 14, line 2 12 8 8, line 8 8 16 12, line 16 12 22 8",
    ),
];

/// A made-up harbour in the evening: colours, and shapes as ImageMagick draws them.
const HARBOUR: [(&str, &[&str]); 9] = [
    ("#f2cf9a", &["circle 980,560 980,512"]),
    ("#4b4a58", &["polygon 0,590 180,540 380,575 620,520 840,570 1060,535 1280,580 1280,800 0,800"]),
    ("#2f3a48", &["polygon 0,650 1280,622 1280,800 0,800"]),
    ("#3a4a58", &["rectangle 930,668 1030,671", "rectangle 905,690 1060,693", "rectangle 880,716 1090,720"]),
    ("#1b242e", &["polygon 1100,800 1150,640 1280,610 1280,800"]),
    ("#efe3d0", &["polygon 1178,620 1186,440 1214,440 1222,620"]),
    ("#b4573f", &["polygon 1180,560 1182,500 1218,500 1220,560"]),
    ("#1b242e", &["rectangle 1180,430 1220,440", "polygon 1184,404 1200,384 1216,404"]),
    ("#ffe9b0", &["rectangle 1188,404 1212,430"]),
];

/// Draws the demo's menu in every look.
fn look_pictures(program: &Path, work: &Path) -> Result<()> {
    let (bench, folder) = (work.join("looks"), workspace().join("docs/look"));
    tide::bench(StoreKind::Folder).write(&bench).map_err(|error| error.to_string())?;
    fs::create_dir_all(&folder).map_err(at(&folder))?;
    let signpost =
        |args: &[&str]| run(Command::new(program).arg("--machine").arg(&bench).arg("--quiet").args(args));
    signpost(&["draft", "--host", "signpost"])?;
    signpost(&["tune", "heading=Tide bench PC 2"])?;
    let menu = bench.join("menu.toml");
    let plain = fs::read_to_string(&menu).map_err(at(&menu))?;
    let mut draw = command("convert");
    draw.args(["-size", "1280x800", "gradient:#16202c-#d9a178"]);
    for (colour, shapes) in HARBOUR {
        draw.args(["-fill", colour]).args(shapes.iter().flat_map(|shape| ["-draw", shape]));
    }
    run(draw.arg(bench.join("harbour.png")))?;
    for (name, keys, state) in LOOKS {
        fs::write(&menu, &plain).map_err(at(&menu))?;
        if !keys.is_empty() {
            signpost(&[&["tune"], keys].concat())?;
        }
        let picture = folder.join(format!("{name}.png"));
        let file = picture.to_str().ok_or("the workspace's path is not text")?;
        signpost(&[&["preview", "--size", "960x600", "--png", file], state].concat())?;
        println!("{file}");
    }
    fs::write(&menu, &plain).map_err(at(&menu))?;
    for (entry, symbol) in OWN_SYMBOLS {
        signpost(&["entry", "edit", entry, &format!("symbol={symbol}")])?;
    }
    let picture = folder.join("own-symbols.png");
    let file = picture.to_str().ok_or("the workspace's path is not text")?;
    signpost(&["preview", "--size", "960x600", "--png", file])?;
    println!("{file}");
    Ok(())
}

/// The page of several machines, in a browser; one of them has lost its first partition, one is not as its policy says, one document is
/// cut off.
fn report_page(program: &Path, work: &Path, folder: &Path) -> Result<()> {
    let saved = work.join("saved");
    fs::create_dir_all(&saved).map_err(at(&saved))?;
    let hurt = work.join("hurt");
    let mut spec = tide::bench(StoreKind::Folder);
    spec.name = "Harbour desk PC".into();
    spec.disks[0].partitions.remove(0);
    spec.write(&hurt).map_err(|error| error.to_string())?;
    for (bench, policy) in [("tide", "timeout = 10\n"), ("lathe", "show = \"always\"\n")] {
        let file = work.join(bench).join("policy.toml");
        fs::write(&file, policy).map_err(at(&file))?;
    }
    let mut files = Vec::new();
    for bench in ["tide", "gauge", "lathe", "hurt"] {
        let survey =
            Command::new(program).arg("--machine").arg(work.join(bench)).args(["survey", "--json"]).output();
        let mut document = survey.map_err(|error| error.to_string())?.stdout;
        let file = saved.join(format!("{bench}.json"));
        fs::write(&file, &document).map_err(at(&file))?;
        files.push(format!("{bench}.json"));
        if bench == "tide" {
            document.truncate(3000);
            let file = saved.join("pier-4.json");
            fs::write(&file, &document).map_err(at(&file))?;
            files.push("pier-4.json".into());
        }
    }
    // It ends with 1, since one document is cut off.
    let made = Command::new(program)
        .current_dir(&saved)
        .args(["report", "--html", "page.html"])
        .args(&files)
        .output();
    made.map_err(|error| error.to_string())?;
    let picture = folder.join("report.png");
    run(command("chromium")
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
        .arg(format!("--user-data-dir={}", work.join("browser").display()))
        .arg("--window-size=1280,800")
        .arg(format!("--screenshot={}", picture.display()))
        .arg(format!("file://{}", saved.join("page.html").display())))?;
    println!("{}", picture.display());
    Ok(())
}

/// The picture of the boot program for BIOS. Its firmware has a screen for that, and writes on the serial line beside it.
fn bios_screen(program: &Path, work: &Path, folder: &Path) -> Result<()> {
    let (bench, port) = (work.join("lathe"), work.join("serial-port"));
    gauge::write_lathe(&bench).map_err(|error| error.to_string())?;
    for args in [&["draft", "--host", "signpost"][..], &["tune", "timeout=never"], &["apply", "--yes"]] {
        run(Command::new(program).arg("--machine").arg(&bench).arg("--quiet").args(args))?;
    }
    fs::write(&port, 0x3f8u16.to_le_bytes()).map_err(at(&port))?;
    let mut spec = Spec::of_bios([bench.join("gauge.img")]);
    let screen = format!("name=etc/sercon-port,file={}", port.display());
    spec.devices = ["-machine", "graphics=on", "-fw_cfg", &screen].map(String::from).to_vec();
    let picture = folder.join("boot-bios.png");
    vm::screen(&spec, None, work, &picture)?;
    println!("{}", picture.display());
    Ok(())
}

/// Pictures of the boot program on real firmware: file, keys typed, what is set before.
const BOOT_SCREENS: [(&str, Option<&str>, &[&str]); 6] = [
    ("boot-menu", None, &[]),
    ("boot-prompt", Some(":who d1p2\rcompose linux on d1p2\r"), &[]),
    ("boot-error", Some("o\r"), &[]),
    ("boot-chalk", None, &["look=chalk", "look.countdown=bar"]),
    ("boot-contrast", None, &["look=contrast", "look.detail=full"]),
    ("boot-large", None, &["look.screen=3840x2160", "look.closing=Help: Wendel Okoro, extension 12"]),
];

fn boot_screens(program: &Path, work: &Path, folder: &Path) -> Result<()> {
    boot::build(true)?;
    let bench = work.join("booted");
    tide::bench(StoreKind::Fd).write(&bench).map_err(|error| error.to_string())?;
    let signpost = |bench: &Path, args: &[&str]| {
        run(Command::new(program).arg("--machine").arg(bench).arg("--quiet").args(args))
    };
    signpost(&bench, &["draft", "--host", "signpost"])?;
    signpost(&bench, &["tune", "heading=Tide bench PC 2"])?;
    let menu = bench.join("menu.toml");
    let mut text = fs::read_to_string(&menu).map_err(at(&menu))?;
    text.push_str(OLD_ENTRY);
    fs::write(&menu, text).map_err(at(&menu))?;
    for (name, keys, set) in BOOT_SCREENS {
        let copy = work.join(name);
        run(command("cp").args(["-r", "--sparse=always"]).arg(&bench).arg(&copy))?;
        if !set.is_empty() {
            signpost(&copy, &[&["tune"], set].concat())?;
        }
        signpost(&copy, &["apply", "--yes"])?;
        let mut spec = Spec::of_bench(&copy, &["disk1.img", "disk2.img", "disk3.img"]);
        // Memory for the largest of the screens.
        spec.devices = ["-vga", "none", "-device", "VGA,vgamem_mb=64"].map(String::from).to_vec();
        let picture = folder.join(format!("{name}.png"));
        vm::screen(&spec, keys, work, &picture)?;
        // One size for all: a large screen is shown smaller.
        run(command("convert").arg(&picture).args(["-resize", "1280x800>"]).arg(&picture))?;
        fs::remove_file(work.join("monitor")).ok();
        println!("{}", picture.display());
    }
    Ok(())
}

/// An entry whose file is long gone.
const OLD_ENTRY: &str = "\n[[entry]]\nid = \"old\"\ntitle = \"Old Larkspur 12\"\nstarts = \"efi\"\n\
                         program = \"uuid:4F2A-11C9/EFI/larkspur12/lkload.efi\"\n";

/// A display that nobody sees.
struct Display {
    server: Child,
    number: String,
}

impl Display {
    fn start() -> Result<Self> {
        // The server says its number on the descriptor it is given, once it takes clients.
        let mut server = command("Xvfb")
            .args(["-displayfd", "1", "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .map_err(|error| format!("Xvfb: {error}"))?;
        let mut number = String::new();
        if let Some(output) = server.stdout.take() {
            BufReader::new(output).read_line(&mut number).map_err(|error| error.to_string())?;
        }
        match number.trim() {
            "" => Err("Xvfb gave no display".into()),
            number => Ok(Self { server, number: format!(":{number}") }),
        }
    }

    /// Runs a command in a terminal, and takes the screen once the terminal has shown all of it.
    fn picture(&self, program: &Path, work: &Path, (shown, size): (&str, &str), file: &Path) -> Result<()> {
        let script = work.join("show.sh");
        let bin = program.parent().unwrap_or(program);
        // The terminal's answer to the question where its cursor is comes after all text before it.
        let text = format!(
            "export PATH='{}':$PATH\ncd '{}'\nprintf '\\033[2m$ signpost --machine {shown}\\033[m\\n\\n'\n\
             signpost --machine {shown}\nprintf '\\033[?25l'\nIFS=R read -rs -d R -p $'\\033[6n' _\n\
             import -window root '{}'\n",
            bin.display(),
            work.display(),
            file.display()
        );
        fs::write(&script, text).map_err(at(&script))?;
        run(command("xterm")
            .env("DISPLAY", &self.number)
            .env("LC_ALL", "C.UTF-8")
            .args(["-u8", "-fa", "DejaVu Sans Mono", "-fs", size, "-geometry", geometry(size), "-b", "16"])
            .args([
                "-bg",
                "#10151c",
                "-fg",
                "#d7dde4",
                "-xrm",
                "xterm*color2: #7fc97f",
                "-xrm",
                "xterm*color1: #f08a7b",
            ])
            .args(["+sb", "-e", "bash"])
            .arg(&script))
    }
}

/// As many columns as the window has at a font of this size, so that the program fits its lines to it.
fn geometry(size: &str) -> &'static str {
    match size {
        "7" => "200x100+0+0",
        "10" => "155x100+0+0",
        _ => "124x100+0+0",
    }
}

impl Drop for Display {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
