//! Opening a volume, with the crates that read it kept from taking the program down.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Once;

use signpost_disk::file_system::{FileSystem, VolumeError};
use signpost_disk::open;
use signpost_machine::live::mounted::MountedVolume;
use signpost_place::reader::{Fault, Names, VolumeReader};

use crate::disks::Source;

/// Opens a volume; `None` where it is not of a kind that is looked into, or is known to be broken.
pub(crate) fn open(source: &Source, names: Names) -> Result<Option<VolumeReader>, Fault> {
    let raw = || {
        let device = source.device.as_ref().filter(|_| !source.is_broken)?;
        let opened = guarded(|| open::file_system(device, &source.identity));
        opened.unwrap_or_else(|why| Some(Err(VolumeError::Corrupt(why))))
    };
    let fs: Option<Box<dyn FileSystem>> = if !source.mounts.is_empty() {
        let mounted = MountedVolume::open(&source.mounts, || raw()?.ok());
        mounted.map(|volume| Box::new(volume) as Box<dyn FileSystem>)
    } else if let Some(fat) = &source.fat {
        Some(Box::new(fat.clone()))
    } else {
        raw().transpose().map_err(Fault::of_all)?
    };
    Ok(fs.map(|fs| VolumeReader::new(fs, names, guard)))
}

thread_local! {
    static IN_GUARD: Cell<bool> = const { Cell::new(false) };
}

/// The same for a reader that is kept.
fn guard(call: &mut dyn FnMut()) -> Result<(), String> {
    guarded(call)
}

/// Runs a reader; a panic in it comes back as words, and is not printed.
pub(crate) fn guarded<T>(call: impl FnOnce() -> T) -> Result<T, String> {
    static QUIET: Once = Once::new();
    QUIET.call_once(|| {
        let loud = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            if !IN_GUARD.get() {
                loud(info);
            }
        }));
    });
    let before = IN_GUARD.replace(true);
    let result = catch_unwind(AssertUnwindSafe(call));
    IN_GUARD.set(before);
    result.map_err(|panic| {
        let text = panic.downcast_ref::<&str>().map(ToString::to_string);
        let text = text.or_else(|| panic.downcast_ref::<String>().cloned());
        format!("the reader of this file system gave up ({})", text.unwrap_or_else(|| "no reason".into()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_comes_back_as_words() {
        let result: Result<(), _> = guarded(|| panic!("sector {} lies", 7));
        assert_eq!(result, Err("the reader of this file system gave up (sector 7 lies)".to_string()));
        assert_eq!(guarded(|| 3), Ok(3));
    }
}
