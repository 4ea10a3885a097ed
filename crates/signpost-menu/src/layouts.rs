//! How systems name their kernels and the initrds that go with them: families of names, as data. `docs/layouts.md` shows the
//! same table.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::text::acts;

/// A family of names. In its patterns `{v}` stands for what tells one kernel from others, a version or a flavour, and `{h}`
/// for a hash that each file has for itself.
#[derive(Debug, PartialEq, Eq)]
pub struct NameFamily {
    /// A kernel's file name.
    pub kernel: &'static str,
    /// Names of its initrd; the first that is there is the one.
    pub initrds: &'static [&'static str],
    /// Names of an initrd with all drivers, which is for when the other one fails.
    pub fallbacks: &'static [&'static str],
}

/// Initrds of a kernel that has a version or a flavour in its name.
const VERSIONED: &[&str] = &[
    "initrd.img-{v}",
    "initramfs-{v}.img",
    "initrd-{v}",
    "initramfs-{v}",
    "initrd-{v}.img",
    "initrd-{v}.gz",
];
const VERSIONED_FALLBACKS: &[&str] = &[
    "initramfs-{v}-fallback.img",
    "initrd-{v}-fallback.img",
    "initrd.img-{v}-fallback",
    "initramfs-{v}-fallback",
];
/// Initrds of a kernel that has none.
const PLAIN: &[&str] = &["initrd.img", "initrd", "initramfs.img", "initramfs", "initrd.gz", "initramfs.gz"];
const PLAIN_FALLBACKS: &[&str] = &["initramfs-fallback.img", "initrd-fallback.img"];

const fn versioned(kernel: &'static str) -> NameFamily {
    NameFamily { kernel, initrds: VERSIONED, fallbacks: VERSIONED_FALLBACKS }
}

const fn plain(kernel: &'static str) -> NameFamily {
    NameFamily { kernel, initrds: PLAIN, fallbacks: PLAIN_FALLBACKS }
}

/// All families. A name belongs to the first that it fits.
pub const FAMILIES: &[NameFamily] = &[
    NameFamily {
        kernel: "{h}-linux-{v}-bzImage.efi",
        initrds: &["{h}-initrd-linux-{v}-initrd.efi"],
        fallbacks: &[],
    },
    NameFamily { kernel: "{h}-linux-{v}-bzImage", initrds: &["{h}-initrd-linux-{v}-initrd"], fallbacks: &[] },
    versioned("vmlinuz-{v}"),
    versioned("vmlinux-{v}"),
    versioned("bzImage-{v}"),
    versioned("kernel-{v}"),
    versioned("linux-{v}"),
    versioned("Image-{v}"),
    plain("vmlinuz"),
    plain("vmlinuz.efi"),
    plain("vmlinux"),
    plain("bzImage"),
    plain("bzImage.efi"),
    plain("kernel"),
    plain("linux"),
    plain("Image"),
];

/// Images with microcode for processors, which go before every other initrd: the kernel takes what fits its processor.
pub const MICROCODE: &[&str] = &["ucode.img", "microcode.img", "microcode.cpio", "early_ucode.cpio"];

/// Ends of names that package managers and people give to files that are not kernels or initrds, or not yet or no longer.
pub const ASIDE: &[&str] = &[
    ".old",
    ".bak",
    ".orig",
    ".new",
    ".tmp",
    ".part",
    "~",
    ".dpkg-new",
    ".dpkg-old",
    ".dpkg-bak",
    ".dpkg-tmp",
    ".dpkg-dist",
    ".rpmnew",
    ".rpmsave",
    ".rpmorig",
    ".hmac",
    ".sig",
    ".asc",
    ".sha256",
    ".sha512",
];

/// A tool that makes initrds and wants to be told of the root in the arguments.
#[derive(Debug, PartialEq, Eq)]
pub struct InitrdMaker {
    /// Its settings on the system's root.
    pub file: &'static str,
    /// What it wants, `{type}` standing for the kind of the root's file system.
    pub arguments: &'static str,
}

/// All of them.
pub const INITRD_MAKERS: &[InitrdMaker] = &[InitrdMaker {
    file: "/etc/mkinitfs/mkinitfs.conf",
    arguments: "rootfstype={type} modules=sd-mod,usb-storage,nvme,virtio_blk,{type}",
}];

/// Letters that a hash has at least.
const HASH: usize = 16;

/// A kernel by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KernelName<'a> {
    /// Its family.
    pub family: &'static NameFamily,
    /// What stands for `{v}`: a version, a flavour, or nothing.
    pub version: &'a str,
}

/// What goes with a kernel.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Initrds {
    /// Its initrd with what goes before it, in the kernel's order; none where the initrd itself is not there.
    pub own: Vec<String>,
    /// The same with the initrd that has all drivers.
    pub fallback: Vec<String>,
}

impl<'a> KernelName<'a> {
    /// The kernel that a file of this name may be; its header decides.
    pub fn of(name: &'a str) -> Option<Self> {
        if is_aside(name) || name.contains(acts) {
            return None;
        }
        FAMILIES.iter().find_map(|family| Some(Self { family, version: fits(family.kernel, name)? }))
    }

    /// What of the files beside it goes with it. `has_bytes` says whether a file is not empty.
    pub fn initrds(&self, names: &[&str], has_bytes: impl Fn(&str) -> bool) -> Initrds {
        let first_of =
            |patterns: &[&str]| patterns.iter().find_map(|pattern| self.only(pattern, names, &has_bytes));
        let before =
            || names.iter().filter(|name| is_microcode(name) && has_bytes(name)).map(ToString::to_string);
        let with = |initrd: Option<String>| {
            initrd.map(|initrd| before().chain([initrd]).collect()).unwrap_or_default()
        };
        Initrds { own: with(first_of(self.family.initrds)), fallback: with(first_of(self.family.fallbacks)) }
    }

    /// The one file that fits a pattern; of several, told apart by hashes alone, nothing says which.
    fn only(&self, pattern: &str, names: &[&str], has_bytes: &impl Fn(&str) -> bool) -> Option<String> {
        let fits = |name: &&&str| {
            fits(pattern, name) == Some(self.version) && !is_aside(name) && !name.contains(acts)
        };
        let mut fitting = names.iter().filter(fits).filter(|name| has_bytes(name));
        fitting.next().filter(|_| fitting.next().is_none()).map(ToString::to_string)
    }
}

/// The pattern of a kernel's path and of its initrds', where both carry its version in their names: what `newest:` and
/// `{version}` are made of. Microcode is the same for all of them.
pub fn newest_pattern(kernel: &str, initrds: &[String]) -> Option<(String, Vec<String>)> {
    let (folder, name) = kernel.rsplit_once('/')?;
    let KernelName { family, version } = KernelName::of(name).filter(|name| !name.version.is_empty())?;
    let starred = family.kernel.replace("{v}", "*");
    let initrds: Option<Vec<String>> = initrds.iter().map(|initrd| initrd_pattern(initrd, version)).collect();
    // Hashes differ with each version.
    let initrds = initrds.filter(|_| !starred.contains("{h}"))?;
    Some((["newest:", folder, "/", &starred].concat(), initrds))
}

fn initrd_pattern(initrd: &str, version: &str) -> Option<String> {
    let name = last_part(initrd);
    if is_microcode(name) {
        return Some(initrd.to_string());
    }
    let folder = initrd.strip_suffix(name)?;
    name.contains(version).then(|| [folder, &name.replacen(version, "{version}", 1)].concat())
}

/// The last part of a path.
pub fn last_part(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or_default()
}

/// Whether a file is a kernel's or an initrd's only by the rest of its name.
pub fn is_aside(name: &str) -> bool {
    let lower = name.to_lowercase();
    ASIDE.iter().any(|end| lower.ends_with(end))
}

/// Whether a file of this name may be an initrd, or go before one.
pub fn may_be_initrd(name: &str) -> bool {
    name.contains("initr") || is_microcode(name)
}

/// Whether a file of this name holds microcode.
pub fn is_microcode(name: &str) -> bool {
    MICROCODE.iter().any(|end| name.ends_with(end))
}

/// What stands for `{v}` where a name fits a pattern; nothing, where the pattern has none.
fn fits<'a>(pattern: &str, name: &'a str) -> Option<&'a str> {
    // Nearly all names of all folders are of no kernel.
    let first = pattern.chars().next().filter(|first| *first != '{');
    if first.is_some() && first != name.chars().next() {
        return None;
    }
    let (pattern, name) = match pattern.strip_prefix("{h}") {
        Some(pattern) => {
            let hash = name.find(|c: char| !c.is_ascii_alphanumeric()).unwrap_or(name.len());
            (pattern, name.get(hash..).filter(|_| hash >= HASH)?)
        }
        None => (pattern, name),
    };
    match pattern.split_once("{v}") {
        Some((before, after)) => {
            name.strip_prefix(before)?.strip_suffix(after).filter(|version| !version.is_empty())
        }
        None => (name == pattern).then_some(""),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn pair(kernel: &str, names: &[&str], own: &[&str], fallback: &[&str]) {
        let found = KernelName::of(kernel).unwrap().initrds(names, |name| !name.contains("empty"));
        assert_eq!(
            (found.own, found.fallback),
            (
                own.iter().map(ToString::to_string).collect(),
                fallback.iter().map(ToString::to_string).collect()
            ),
            "{kernel}"
        );
    }

    #[test]
    fn each_kernel_has_the_initrd_of_its_own_family_version_and_flavour() {
        let names = [
            "initrd.img-6.9.4",
            "initrd.img-6.9.4.old",
            "initrd.img-6.9.40",
            "initrd.img-6.9.4-fallback",
            "initramfs-6.9.5.img",
            "initramfs-6.9.5-fallback.img",
            "initrd-6.9.6-default",
            "initramfs-lts",
            "initramfs-linux.img",
            "initramfs-linux-fallback.img",
            "initramfs-linux-lts.img",
            "initramfs-0-rescue-4be0.img",
            "initramfs-tool-6.8.img",
            "initrd",
            "initrd-6.7.dpkg-new",
        ];
        pair("vmlinuz-6.9.4", &names, &["initrd.img-6.9.4"], &["initrd.img-6.9.4-fallback"]);
        pair("vmlinuz-6.9.5", &names, &["initramfs-6.9.5.img"], &["initramfs-6.9.5-fallback.img"]);
        pair("vmlinuz-6.9.6-default", &names, &["initrd-6.9.6-default"], &[]);
        pair("vmlinuz-lts", &names, &["initramfs-lts"], &[]);
        pair("vmlinuz-linux", &names, &["initramfs-linux.img"], &["initramfs-linux-fallback.img"]);
        pair("vmlinuz-linux-lts", &names, &["initramfs-linux-lts.img"], &[]);
        pair("vmlinuz-0-rescue-4be0", &names, &["initramfs-0-rescue-4be0.img"], &[]);
        pair("kernel-tool-6.8", &names, &["initramfs-tool-6.8.img"], &[]);
        pair("vmlinuz", &names, &["initrd"], &[]);
        pair("vmlinuz-6.7", &names, &[], &[]);
    }

    #[test]
    fn microcode_goes_first_and_an_empty_initrd_is_none() {
        let names = ["initramfs-linux.img", "a-ucode.img", "b-ucode.img", "initrd-empty"];
        pair("vmlinuz-linux", &names, &["a-ucode.img", "b-ucode.img", "initramfs-linux.img"], &[]);
        pair("vmlinuz-empty", &names, &[], &[]);
    }

    #[test]
    fn of_files_with_hashes_one_alone_is_the_pair() {
        let (one, two) =
            ("0123456789abcdefghij-initrd-linux-6.9-initrd", "zyxwvutsrqponmlkjihg-initrd-linux-6.9-initrd");
        pair("00001111222233334444-linux-6.9-bzImage", &[one], &[one], &[]);
        pair("00001111222233334444-linux-6.9-bzImage", &[one, two], &[], &[]);
    }

    /// Names as the page has them.
    fn listed(names: &[&str]) -> String {
        let names: Vec<String> = names.iter().map(|name| alloc::format!("`{name}`")).collect();
        if names.is_empty() { "none".into() } else { names.join(", ") }
    }

    #[test]
    fn the_page_of_layouts_has_the_same_table() {
        extern crate std;
        let page = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/layouts.md");
        let page = std::fs::read_to_string(page).unwrap();
        let row = |family: &NameFamily| {
            let (initrds, fallbacks) = (listed(family.initrds), listed(family.fallbacks));
            alloc::format!("| `{}` | {initrds} | {fallbacks} |", family.kernel)
        };
        let rows: Vec<String> = FAMILIES.iter().map(row).collect();
        let on_page: Vec<&str> = page.lines().filter(|line| line.starts_with("| `")).collect();
        assert_eq!(on_page, rows);
        let packed = page.split_whitespace().collect::<Vec<_>>().join(" ");
        for names in [MICROCODE, ASIDE] {
            assert!(packed.contains(&listed(names)), "{}", listed(names));
        }
        for maker in INITRD_MAKERS {
            assert!(packed.contains(&alloc::format!("`{}` adds `{}`", maker.file, maker.arguments)));
        }
    }

    fn pattern(kernel: &str, initrds: &[&str]) -> Option<(String, Vec<String>)> {
        newest_pattern(kernel, &initrds.iter().map(ToString::to_string).collect::<Vec<_>>())
    }

    #[test]
    fn patterns_stand_for_the_version_in_both_names() {
        for (kernel, initrds, starred, patterned) in [
            (
                "/boot/vmlinuz-6.9.4",
                &["/boot/initrd-6.9.4"][..],
                "newest:/boot/vmlinuz-*",
                &["/boot/initrd-{version}"][..],
            ),
            (
                "/EFI/linux/vmlinuz-linux",
                &["/EFI/linux/a-ucode.img", "/EFI/linux/initramfs-linux.img"],
                "newest:/EFI/linux/vmlinuz-*",
                &["/EFI/linux/a-ucode.img", "/EFI/linux/initramfs-{version}.img"],
            ),
        ] {
            let patterned: Vec<String> = patterned.iter().map(ToString::to_string).collect();
            assert_eq!(pattern(kernel, initrds), Some((starred.into(), patterned)));
        }
        assert_eq!(pattern("/boot/vmlinuz", &[]), None);
        assert_eq!(pattern("/boot/vmlinuz-6.9.4", &["/boot/other"]), None);
        assert_eq!(pattern("/kernels/0123456789abcdef-linux-6.9.4-bzImage", &[]), None);
    }

    #[test]
    fn files_set_aside_are_no_kernels() {
        for name in [
            "vmlinuz.old",
            "vmlinuz-6.9.dpkg-new",
            "vmlinuz-6.9.bak",
            "vmlinuz-6.9~",
            "vmlinuzed",
            "initrd",
            "vmlinuz-",
        ] {
            assert_eq!(KernelName::of(name), None, "{name}");
        }
        for (name, version) in [("vmlinuz-6.9", "6.9"), ("bzImage", ""), ("linux", ""), ("linux-6.9", "6.9")]
        {
            assert_eq!(KernelName::of(name).unwrap().version, version);
        }
    }
}
