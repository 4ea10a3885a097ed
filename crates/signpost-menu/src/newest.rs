//! `newest:` kernels: the newest of a pattern whose initrds are there too.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use crate::version;

/// A pattern for kernels: a folder, and a file name in which one `*` stands for the version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Newest {
    /// The folder, without a slash at its end but for the root's.
    pub folder: String,
    before: String,
    after: String,
}

/// A kernel chosen by a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chosen {
    /// Its path.
    pub path: String,
    /// Its version, as the file name gives it.
    pub version: String,
    /// Newer kernels that were passed over since their initrds are not all there.
    pub passed_over: Vec<String>,
}

/// Whether a kernel of this file name is for rescue, or a copy that somebody kept: never the newest.
pub fn is_spare(name: &str) -> bool {
    let lower = name.to_lowercase();
    lower.contains("rescue") || lower.ends_with(".old") || lower.ends_with(".bak")
}

impl Newest {
    /// Reads what follows `newest:`.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let split = text.strip_prefix('/').and_then(|rest| rest.rsplit_once('/').or(Some(("", rest))));
        let Some((folder, name)) = split else {
            return Err(format!("\"{text}\" is no path that starts with /"));
        };
        match name.split_once('*') {
            Some((before, after)) if !folder.contains('*') && !after.contains('*') => Ok(Self {
                folder: format!("/{folder}"),
                before: before.to_string(),
                after: after.to_string(),
            }),
            _ => Err(format!("\"{text}\" needs one * in its last part, where the version stands")),
        }
    }

    /// The version that a file name carries, if it matches; rescue kernels and kept copies never do.
    pub fn version_in<'a>(&self, name: &'a str) -> Option<&'a str> {
        let version = name.strip_prefix(self.before.as_str())?.strip_suffix(self.after.as_str())?;
        (!version.is_empty() && !is_spare(name)).then_some(version)
    }

    /// Chooses among the names in the folder; `is_complete` says whether a version's initrds are there.
    pub fn choose<'a>(
        &self,
        names: impl IntoIterator<Item = &'a str>,
        is_complete: impl Fn(&str) -> bool,
    ) -> Result<Chosen, Vec<String>> {
        let mut kernels: Vec<(&str, &str)> =
            names.into_iter().filter_map(|name| Some((self.version_in(name)?, name))).collect();
        kernels.sort_unstable_by(|a, b| version::compare(b.0, a.0).then_with(|| b.1.cmp(a.1)));
        let mut passed_over = Vec::new();
        for (version, name) in kernels {
            let path = format!("{}/{name}", self.folder.trim_end_matches('/'));
            if is_complete(version) {
                return Ok(Chosen { path, version: version.to_string(), passed_over });
            }
            passed_over.push(path);
        }
        Err(passed_over)
    }
}

impl fmt::Display for Newest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "newest:{}/{}*{}", self.folder.trim_end_matches('/'), self.before, self.after)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NAMES: [&str; 6] = [
        "vmlinuz-6.9.4",
        "vmlinuz-6.10.1",
        "vmlinuz-6.10.2",
        "vmlinuz-6.11.0.old",
        "vmlinuz-0-rescue-1f",
        "initrd-6.10.1",
    ];

    #[test]
    fn the_newest_complete_pair_is_chosen_and_newer_ones_are_named() {
        let newest = Newest::parse("/boot/vmlinuz-*").unwrap();
        let chosen = newest.choose(NAMES, |version| version != "6.10.2").unwrap();
        assert_eq!((chosen.path.as_str(), chosen.version.as_str()), ("/boot/vmlinuz-6.10.1", "6.10.1"));
        assert_eq!(chosen.passed_over, ["/boot/vmlinuz-6.10.2"]);
        assert_eq!(newest.choose(NAMES, |_| false).unwrap_err().len(), 3);
        assert_eq!(newest.choose([], |_| true), Err(Vec::new()));
    }

    #[test]
    fn patterns_need_one_star_in_their_last_part() {
        for good in ["/vmlinuz-*", "/boot/vmlinuz-*.efi"] {
            assert_eq!(Newest::parse(good).unwrap().to_string(), format!("newest:{good}"));
        }
        for bad in ["", "boot/vmlinuz-*", "/boot/vmlinuz", "/b*/vmlinuz-*", "/boot/*-*"] {
            assert!(Newest::parse(bad).is_err(), "{bad}");
        }
    }
}
