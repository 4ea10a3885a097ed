//! Packs the letters that the boot program draws with, from a font of Debian's.

use std::fs;
use std::path::Path;

use signpost_look::letters::MAGIC;

use crate::packages;
use crate::run::{Result, at, command, run, workspace};

/// The sizes: height in pixels, and the weight whose strokes are neither thin nor heavy at it.
const SIZES: [(u32, char); 3] = [(16, 'n'), (24, 'b'), (32, 'n')];

/// Writes the packed files anew.
pub fn make() -> Result<()> {
    packages::need(&["pcf2bdf", "xfonts-terminus"])?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    for (height, weight) in SIZES {
        let font = format!("/usr/share/fonts/X11/misc/ter-u{height}{weight}_unicode.pcf.gz");
        let text = work.path().join("font.bdf");
        run(command("sh").args(["-c", "zcat \"$0\" | pcf2bdf -o \"$1\""]).arg(&font).arg(&text))?;
        let text = fs::read_to_string(&text).map_err(at(Path::new(&font)))?;
        let packed = pack(&text).ok_or_else(|| format!("{font}: it is not as expected"))?;
        let file = workspace().join(format!("crates/signpost-look/letters/{height}.letters"));
        fs::write(&file, &packed).map_err(at(&file))?;
        println!("{}: {} bytes", file.display(), packed.len());
    }
    Ok(())
}

/// The letters of a font in the Glyph Bitmap Distribution Format 2.1, as the look's crate reads them.
fn pack(text: &str) -> Option<Vec<u8>> {
    let numbers =
        |line: &str| line.split(' ').skip(1).map(str::parse).collect::<std::result::Result<Vec<i64>, _>>();
    let box_line = text.lines().find(|line| line.starts_with("FONTBOUNDINGBOX"))?;
    let [width, height, ..] = numbers(box_line).ok()?[..] else { return None };
    let mut letters = Vec::new();
    for glyph in text.split("STARTCHAR").skip(1) {
        let line = glyph.lines().find(|line| line.starts_with("ENCODING"))?;
        let code = u16::try_from(*numbers(line).ok()?.first()?).ok()?;
        let rows = glyph.lines().skip_while(|line| *line != "BITMAP").skip(1);
        let rows: Vec<&str> = rows.take_while(|line| *line != "ENDCHAR").collect();
        let bytes = rows
            .iter()
            .map(|row| u32::from_str_radix(row, 16))
            .collect::<std::result::Result<Vec<_>, _>>()
            .ok()?;
        let length = rows.first()?.len() / 2;
        let row = |bits: &u32| bits.to_be_bytes()[4 - length..].to_vec();
        letters.push((code, bytes.iter().flat_map(row).collect::<Vec<u8>>()));
    }
    letters.retain(|(code, _)| !matches!(code, 0..0x20 | 0x2800..0x2900 | 0xe000..0xf000));
    letters.sort_unstable();
    let (width, height) = (u8::try_from(width).ok()?, u8::try_from(height).ok()?);
    let mut bytes =
        [&MAGIC[..], &[width, height], &u16::try_from(letters.len()).ok()?.to_le_bytes()].concat();
    bytes.extend(letters.iter().flat_map(|(code, _)| code.to_le_bytes()));
    bytes.extend(letters.iter().flat_map(|(_, rows)| rows));
    Some(miniz_oxide::deflate::compress_to_vec(&bytes, 10))
}
