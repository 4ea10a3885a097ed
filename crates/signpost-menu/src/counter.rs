//! Counters of tries in the names of unified images and entry files, which the system takes away or counts down by renaming
//! (Boot Loader Specification, "Boot counting").

use alloc::string::String;

/// Where unified images stand.
pub(crate) const IMAGE_FOLDER: &str = "/EFI/Linux";
const SUFFIX: &str = ".efi";

/// A name without its counter, and whether all its tries are used up: `a+0-3.conf` is `a`, and its tries are.
pub(crate) fn without_counter(stem: &str) -> (&str, bool) {
    let Some((name, counter)) = stem.rsplit_once('+') else { return (stem, false) };
    let (left, done) = counter.split_once('-').map_or((counter, None), |(left, done)| (left, Some(done)));
    let is_number = |text: &str| !text.is_empty() && text.chars().all(|c| c.is_ascii_digit());
    if is_number(left) && done.is_none_or(is_number) {
        (name, left.chars().all(|c| c == '0'))
    } else {
        (stem, false)
    }
}

/// The name of a unified image, whatever its counter says now: `/EFI/Linux/a.efi` for `/EFI/Linux/a+3-1.efi`; `None` for a file
/// that is none.
pub fn lasting_path(path: &str) -> Option<String> {
    let (folder, name) = path.rsplit_once('/')?;
    let at = name.len().checked_sub(SUFFIX.len())?;
    let (stem, suffix) = name.split_at_checked(at)?;
    let is_image = folder.eq_ignore_ascii_case(IMAGE_FOLDER) && suffix.eq_ignore_ascii_case(SUFFIX);
    is_image.then(|| [folder, "/", without_counter(stem).0, suffix].concat())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counters_are_told_from_names_with_a_plus() {
        for (stem, expected) in [
            ("a+3", ("a", false)),
            ("a+0", ("a", true)),
            ("a+00-2", ("a", true)),
            ("a+2-1", ("a", false)),
            ("a+b", ("a+b", false)),
            ("a+", ("a+", false)),
            ("a+1-", ("a+1-", false)),
            ("a", ("a", false)),
        ] {
            assert_eq!(without_counter(stem), expected, "{stem}");
        }
    }

    #[test]
    fn a_unified_image_keeps_its_name_whatever_its_counter_says() {
        for (path, lasting) in [
            ("/EFI/Linux/a+3-1.efi", Some("/EFI/Linux/a.efi")),
            ("/efi/linux/a.EFI", Some("/efi/linux/a.EFI")),
            ("/EFI/larkspur/a+3.efi", None),
            ("/EFI/Linux/efi", None),
        ] {
            assert_eq!(lasting_path(path).as_deref(), lasting, "{path}");
        }
    }
}
