//! The order of kernels, and `newest:`: the newest of a pattern whose initrds are there too.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cmp::Ordering;
use core::fmt;

use crate::layouts::is_aside;
use crate::linux_files::version_in_name;
use crate::sorted::sorted;
use crate::text::acts;
use crate::version;

/// A pattern for kernels: a folder, and a file name in which one `*` stands for the version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Newest {
    /// The folder, without a slash at its end but for the root's.
    pub folder: String,
    before: String,
    after: String,
}

/// What a kernel's header says of it (the Linux x86 boot protocol, `kernel_version`).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct KernelHeader {
    /// Its version, up to the first blank.
    pub version: Option<String>,
}

impl KernelHeader {
    /// The version that orders a kernel of this file name: the header's, or where that tells none, the name's.
    pub fn version_of(&self, name: &str) -> String {
        self.version.clone().unwrap_or_else(|| version_in_name(name).to_string())
    }
}

/// A kernel's place in the order: its path and its version.
pub type Placed<'a> = (&'a str, &'a str);

/// The order of kernels, the newest first; rescue kernels and kept copies behind all others.
pub fn newest_first(left: Placed<'_>, right: Placed<'_>) -> Ordering {
    let is_rescue = |kernel: Placed<'_>| is_rescue(kernel.0.rsplit('/').next().unwrap_or_default());
    is_rescue(left)
        .cmp(&is_rescue(right))
        .then_with(|| version::compare(right.1, left.1))
        .then_with(|| left.0.cmp(right.0))
}

/// A kernel chosen by a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chosen {
    /// Its path.
    pub path: String,
    /// What stands in its file name where the pattern has its star: `{version}` of the initrds.
    pub star: String,
    /// Newer kernels that were skipped since their initrds are not all there.
    pub passed_over: Vec<String>,
}

/// Whether a kernel of this file name is for rescue, or one that was set aside: never the newest.
pub fn is_rescue(name: &str) -> bool {
    name.to_lowercase().contains("rescue") || is_aside(name)
}

impl Newest {
    /// Reads what follows `newest:`.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let split = text.strip_prefix('/').and_then(|rest| rest.rsplit_once('/').or(Some(("", rest))));
        let Some((folder, name)) = split else {
            return Err(format!("\"{text}\" is not a path that starts with /"));
        };
        match name.split_once('*') {
            Some((before, after)) if !folder.contains('*') && !after.contains('*') => Ok(Self {
                folder: format!("/{folder}"),
                before: before.to_string(),
                after: after.to_string(),
            }),
            _ => Err(format!("\"{text}\" needs one * in its last part, for the version")),
        }
    }

    /// The version that a file name carries, if it matches; rescue kernels and kept copies never do.
    pub fn version_in<'a>(&self, name: &'a str) -> Option<&'a str> {
        // No entry names a file whose name does something to a screen.
        if name.contains(acts) {
            return None;
        }
        let version = name.strip_prefix(self.before.as_str())?.strip_suffix(self.after.as_str())?;
        (!version.is_empty() && !is_rescue(name)).then_some(version)
    }

    /// Chooses among the names in the folder. `header` reads a kernel's header by its path, `None` where the file is no
    /// kernel; `is_complete` says whether the initrds are there of what stands for the star.
    ///
    /// # Errors
    /// The kernels whose initrds are not there, where that is all of them.
    pub fn choose<'a>(
        &self,
        names: impl IntoIterator<Item = &'a str>,
        header: impl Fn(&str) -> Option<KernelHeader>,
        is_complete: impl Fn(&str) -> bool,
    ) -> Result<Chosen, Vec<String>> {
        let kernel = |name: &'a str| {
            let star = self.version_in(name)?;
            let path = format!("{}/{name}", self.folder.trim_end_matches('/'));
            let version = header(&path)?.version_of(name);
            Some((path, version, star))
        };
        let kernels: Vec<(String, String, &str)> = names.into_iter().filter_map(kernel).collect();
        let mut passed_over = Vec::new();
        for (path, _, star) in sorted(kernels, |a, b| newest_first((&a.0, &a.1), (&b.0, &b.1))) {
            if is_complete(star) {
                return Ok(Chosen { path, star: star.to_string(), passed_over });
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

    /// A header that says nothing.
    fn silent(_: &str) -> Option<KernelHeader> {
        Some(KernelHeader::default())
    }

    #[test]
    fn the_newest_complete_pair_is_chosen_and_newer_ones_are_named() {
        let newest = Newest::parse("/boot/vmlinuz-*").unwrap();
        let chosen = newest.choose(NAMES, silent, |version| version != "6.10.2").unwrap();
        assert_eq!((chosen.path.as_str(), chosen.star.as_str()), ("/boot/vmlinuz-6.10.1", "6.10.1"));
        assert_eq!(chosen.passed_over, ["/boot/vmlinuz-6.10.2"]);
        assert_eq!(newest.choose(NAMES, silent, |_| false).unwrap_err().len(), 3);
        assert_eq!(newest.choose([], silent, |_| true), Err(Vec::new()));
        assert_eq!(newest.choose(NAMES, |_| None, |_| true), Err(Vec::new()), "none of them is a kernel");
    }

    #[test]
    fn flavours_are_ordered_by_their_headers() {
        let header = |path: &str| {
            let version = if path.ends_with("lts") { "6.6.31" } else { "6.9.4" };
            Some(KernelHeader { version: Some(version.to_string()) })
        };
        let newest = Newest::parse("/boot/vmlinuz-*").unwrap();
        let chosen = newest.choose(["vmlinuz-linux-lts", "vmlinuz-linux"], header, |_| true).unwrap();
        assert_eq!((chosen.path.as_str(), chosen.star.as_str()), ("/boot/vmlinuz-linux", "linux"));
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
