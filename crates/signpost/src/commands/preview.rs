use std::path::{Path, PathBuf};

use clap::{ArgGroup, Args};
use clap_complete::engine::ArgValueCompleter;
use serde::Serialize;
use signpost_core::menu_file::MenuFile;
use signpost_core::named;
use signpost_core::plan::without_place;
use signpost_core::preview::{Asked, Preview, State, preview, signs_without_letters};
use signpost_look::Painter;
use signpost_look::letters::{Letters, Size};
use signpost_look::turned::picture_of;
use signpost_menu::MenuDocument;
use signpost_menu::resolve::{Firmware, Surroundings};
use signpost_menu::scene::Frame;
use signpost_menu::screen::paint;
use signpost_menu::terminal;
use signpost_menu::text::shown;
use signpost_place::Look;
use signpost_upkeep::menu_file;

use super::picture;
use crate::app::{App, Outcome};
use crate::failure::{Exit, Failure};
use crate::render::out;
use crate::render::preview::Depth;
use crate::{complete, render};

/// Show the boot screen as the boot program would draw it
///
/// On the terminal it is what a text console shows. `--png` writes the picture that the boot program draws on a screen, pixel for pixel.
#[derive(Args)]
#[command(group = ArgGroup::new("state").args(["keys", "open", "arguments", "error", "prompt"]))]
pub struct PreviewArgs {
    /// Size of the screen: columns and rows, or pixels with --png [default: 80x25, or 1280x800 with --png]
    #[arg(long, value_name = "WIDTHxHEIGHT", value_parser = size)]
    size: Option<(usize, usize)>,
    /// How high the screen is, in millimetres, as its display tells firmware: on small ones letters are larger
    #[arg(long, value_name = "NUMBER", hide_short_help = true, value_parser = clap::value_parser!(u16).range(1..))]
    millimetres: Option<u16>,
    /// Write a picture of the screen to this file
    #[arg(long, value_name = "FILE")]
    png: Option<PathBuf>,
    /// Show that picture here, on a terminal that shows pictures as sixels
    #[arg(long, conflicts_with_all = ["png", "spoken"])]
    picture: bool,
    /// Show what a serial line gets: letters in sixteen colours, or plain lines with look.announce=true
    #[arg(long, conflicts_with_all = ["png", "picture", "size", "spoken"], hide_short_help = true)]
    serial: bool,
    /// Show the plain lines that a screen reader gets with look.announce=true
    #[arg(long, conflicts_with_all = ["png", "size"])]
    spoken: bool,
    /// With this entry chosen
    #[arg(long, value_name = "ENTRY", conflicts_with_all = ["keys", "prompt"], add = ArgValueCompleter::new(complete::ids))]
    choose: Option<String>,
    /// Show the help instead of the list
    #[arg(long)]
    keys: bool,
    /// Show this group, opened
    #[arg(long, value_name = "GROUP", add = ArgValueCompleter::new(complete::ids))]
    open: Option<String>,
    /// Show the chosen entry's kernel arguments being changed
    #[arg(long)]
    arguments: bool,
    /// Show what stands there after the chosen entry has failed to start
    #[arg(long)]
    error: bool,
    /// Show the prompt after these lines, which may be empty (can be repeated)
    #[arg(long, value_name = "LINE")]
    prompt: Vec<String>,
}

/// Largest screen of pixels.
const LARGEST: (usize, usize) = (7680, 4320);
/// Most columns and rows of a screen of cells.
const MOST_CELLS: usize = 500;

fn size(text: &str) -> Result<(usize, usize), String> {
    let numbers =
        text.split_once('x').and_then(|(width, height)| Some((width.parse().ok()?, height.parse().ok()?)));
    numbers
        .filter(|(width, height)| (1..=LARGEST.0).contains(width) && (1..=LARGEST.1).contains(height))
        .ok_or_else(|| {
            "two whole numbers joined by a small x, such as 80x25, or 1280x800 with --png".to_string()
        })
}

#[derive(Serialize)]
struct Shown<'a> {
    rows: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    png: Option<&'a Path>,
    notes: &'a [String],
}

pub fn run(app: &App<'_>, args: &PreviewArgs) -> Outcome {
    let machine = app.uefi_or_bios_machine()?;
    let menu = menu_file::load(&app.menu_file(&machine))?;
    let look = app.look(&machine)?;
    let mut preview = preview(&look, &menu.document, &asked(args, &menu.document)?)?;
    let is_drawn = !args.serial && menu.document.look.screen.is_drawn(look.firmware());
    let letters = Letters::of(Size::Small);
    let is_terminal = args.serial && look.firmware() == Firmware::Bios;
    let has = |c: char| if is_drawn { letters.has(c) } else { is_terminal || u32::from(c) <= 0xff };
    preview.notes.extend(signs_without_letters(&menu.document, is_drawn, has));
    if args.spoken || (args.serial && menu.document.look.announce) {
        let rows = preview.scene(Frame::cells(80, 25)).spoken;
        let lines = rows.iter().map(|line| format!("{}\n", shown(line))).collect::<String>();
        let text = || lines + &render::plan::notes(&preview.notes);
        app.show(&Shown { rows: rows.clone(), png: None, notes: &preview.notes }, text);
        return Ok(Exit::Done);
    }
    if (args.png.is_some() || args.picture) && !is_drawn {
        preview.notes.push(
            "this machine's menu is in firmware's own letters: look.screen=native, or a size, has it drawn as this picture".into(),
        );
    }
    match &args.png {
        Some(file) => {
            let panel = (args.size.unwrap_or((1280, 800)), args.millimetres);
            written(app, &look, &mut preview, &menu, (file, panel))
        }
        None if args.picture => {
            let panel = (args.size.unwrap_or((960, 600)), args.millimetres);
            let (pixels, size) = drawn(&look, &mut preview, &menu, panel)?;
            if !app.is_json() {
                out::picture(&render::sixel::sixels(&pixels, size));
            }
            let text = || render::plan::notes(&preview.notes);
            app.show(&Shown { rows: Vec::new(), png: None, notes: &preview.notes }, text);
            Ok(Exit::Done)
        }
        // By UEFI firmware's console, or by a port of our own.
        None if args.serial => {
            let size = if is_terminal { terminal::SIZE } else { (80, 25) };
            cells(app, &mut preview, &menu.document, size, Depth::Sixteen)
        }
        None => cells(app, &mut preview, &menu.document, args.size.unwrap_or((80, 25)), Depth::of_terminal()),
    }
}

fn asked(args: &PreviewArgs, document: &MenuDocument) -> Result<Asked, Failure> {
    let chosen = args.choose.as_ref().map(|name| named::find(document, name)).transpose()?;
    let state = match &args.open {
        Some(group) => State::Group(named::find_group(document, group)?),
        None if args.keys => State::Help,
        None if args.arguments => State::Arguments,
        None if args.error => State::Error,
        None if !args.prompt.is_empty() => {
            State::Prompt(args.prompt.iter().filter(|line| !line.is_empty()).cloned().collect())
        }
        None => State::List,
    };
    Ok(Asked { chosen, state })
}

fn cells(
    app: &App<'_>,
    preview: &mut Preview,
    document: &MenuDocument,
    (width, height): (usize, usize),
    depth: Depth,
) -> Outcome {
    if width.max(height) > MOST_CELLS {
        let message = format!(
            "--size is {width}x{height}; a screen of cells has at most {MOST_CELLS} columns and rows"
        );
        return Err(Failure::Usage(message));
    }
    let grid = paint(&preview.scene(Frame::cells(width, height)));
    let rows = (0..height).map(|row| grid.row_text(row)).collect();
    let palette = document.look.palette();
    let text = || render::preview::text(&grid, &palette, depth) + &render::plan::notes(&preview.notes);
    app.show(&Shown { rows, png: None, notes: &preview.notes }, text);
    Ok(Exit::Done)
}

/// A screen's width and height in pixels, and its height in millimetres as it is seen, where that is known.
type Panel = ((usize, usize), Option<u16>);

/// The screen's pixels, and its width and height as it is seen.
fn drawn(
    look: &Look,
    preview: &mut Preview,
    menu: &MenuFile,
    (panel, millimetres): Panel,
) -> Result<(Vec<u32>, (usize, usize)), Failure> {
    // As it is seen: on a panel that is built in sideways, the other way round.
    let appearance = &menu.document.look;
    let size = picture_of(panel, appearance.turn);
    let mut painter = Painter::new(size, millimetres.map(usize::from), appearance);
    if let Some(picture) = picture::of(menu)? {
        match without_place(look, picture.encode().len()) {
            None => painter = painter.with_picture(picture, appearance.picture_fit),
            Some(why) => preview.notes.push(why.into()),
        }
    }
    let scene = preview.scene(painter.metrics.frame);
    let mut pixels = vec![0; size.0 * size.1];
    painter.paint(&scene, 0, &mut pixels);
    Ok((pixels, size))
}

fn written(
    app: &App<'_>,
    look: &Look,
    preview: &mut Preview,
    menu: &MenuFile,
    (file, panel): (&Path, Panel),
) -> Outcome {
    let (pixels, size) = drawn(look, preview, menu, panel)?;
    std::fs::write(file, render::preview::png(&pixels, size)).map_err(|error| {
        Failure::Other(format!("{}: {}", file.display(), signpost_machine::os_words::words(&error)))
    })?;
    let text = || {
        format!("{}: {} by {} pixels\n", file.display(), size.0, size.1)
            + &render::plan::notes(&preview.notes)
    };
    app.show(&Shown { rows: Vec::new(), png: Some(file), notes: &preview.notes }, text);
    Ok(Exit::Done)
}
