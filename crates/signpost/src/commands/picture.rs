//! The look's picture: of whatever people have, the one format that the boot program reads.

use std::io::Cursor;
use std::path::{Path, PathBuf};

use image::imageops::FilterType;
use image::{DynamicImage, ImageDecoder, ImageError, ImageReader, Limits};
use signpost_core::menu_file::MenuFile;
use signpost_facts::{Error, Result};
use signpost_look::Picture;
use signpost_look::picture::{LONGEST_SIDE, MOST_PIXELS};
use signpost_machine::files;
use signpost_machine::os_words;

/// Bytes of a file that is read: a photograph has ten million or so.
const LONGEST: u64 = 64 << 20;
/// Pixels to a side of a picture that is read, and bytes that reading it may take.
const LARGEST: u32 = 20_000;
const MOST_MEMORY: u64 = 512 << 20;

/// The picture of a menu's look, made as small as a picture at boot has to be; `None` where it has none.
///
/// # Errors
/// Where its file is not there, or is no picture: its name, and why.
pub fn of(menu: &MenuFile) -> Result<Option<Picture>> {
    let name = menu.document.look.picture.as_deref();
    name.map(|name| at(&beside(&menu.path, name))).transpose()
}

/// What the boot program reads of a picture that a menu file at this path names; `None` where it cannot be read.
pub fn encoded(menu: &Path, name: &str) -> Option<Vec<u8>> {
    at(&beside(menu, name)).ok().map(|picture| picture.encode())
}

fn at(path: &Path) -> Result<Picture> {
    let unusable = |why: String| Error::unusable(path.display(), why);
    let bytes = files::read(path, LONGEST).map_err(|error| unusable(os_words::words(&error)))?;
    let bytes = bytes.ok_or_else(|| unusable("there is no such file, and look.picture names it".into()))?;
    let picture =
        decoded(bytes).map_err(|error| unusable(format!("it is no picture that can be read: {error}")))?;
    let picture = small(picture).into_rgb8();
    let size = (picture.width() as usize, picture.height() as usize);
    Picture::new(size, picture.into_raw()).map_err(|fault| unusable(fault.to_string()))
}

/// Where it is: its path begins at the menu file's folder.
fn beside(menu: &Path, name: &str) -> PathBuf {
    menu.parent().unwrap_or(Path::new(".")).join(name)
}

/// The picture in a file, the way up that its camera says.
fn decoded(bytes: Vec<u8>) -> std::result::Result<DynamicImage, ImageError> {
    let mut reader =
        ImageReader::new(Cursor::new(bytes)).with_guessed_format().map_err(ImageError::IoError)?;
    let mut limits = Limits::default();
    limits.max_image_width = Some(LARGEST);
    limits.max_image_height = Some(LARGEST);
    limits.max_alloc = Some(MOST_MEMORY);
    reader.limits(limits.clone());
    let mut decoder = reader.into_decoder()?;
    // What the whole of it takes, before it is asked for: its head may say anything.
    limits.reserve(decoder.total_bytes())?;
    let orientation = decoder.orientation()?;
    let mut picture = DynamicImage::from_decoder(decoder)?;
    picture.apply_orientation(orientation);
    Ok(picture)
}

/// The same in fewer pixels, where it has more than a picture at boot may have.
fn small(picture: DynamicImage) -> DynamicImage {
    let (width, height) = (picture.width() as usize, picture.height() as usize);
    let is_small = width * height <= MOST_PIXELS && width.max(height) <= LONGEST_SIDE;
    if is_small {
        return picture;
    }
    // As many thousandths of each side as there may be.
    let of_pixels = (MOST_PIXELS * 1_000_000 / (width * height).max(1)).isqrt();
    let of_side = LONGEST_SIDE * 1000 / width.max(height).max(1);
    let part = of_pixels.min(of_side);
    let side = |side: usize| u32::try_from((side * part / 1000).max(1)).unwrap_or(1);
    picture.resize_exact(side(width), side(height), FilterType::CatmullRom)
}
