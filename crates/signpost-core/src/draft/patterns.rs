//! Patterns that stand for a kernel and its initrds, whatever version comes.

use signpost_facts::Kernel;
use signpost_menu::layouts::{KernelName, is_microcode, last_part};

/// The pattern of a kernel's path and of its initrds', where both carry its version in their names: what
/// `newest:` and `{version}` are made of. Microcode is the same for all of them.
pub fn patterns(kernel: &Kernel) -> Option<(String, Vec<String>)> {
    let (folder, name) = kernel.path.rsplit_once('/')?;
    let KernelName { family, version } = KernelName::of(name).filter(|name| !name.version.is_empty())?;
    let starred = family.kernel.replace("{v}", "*");
    let initrds: Option<Vec<String>> =
        kernel.initrds.iter().map(|initrd| initrd_pattern(initrd, version)).collect();
    // Hashes differ with each version.
    (!starred.contains("{h}")).then_some((format!("newest:{folder}/{starred}"), initrds?))
}

fn initrd_pattern(initrd: &str, version: &str) -> Option<String> {
    let name = last_part(initrd);
    if is_microcode(name) {
        return Some(initrd.to_string());
    }
    let folder = initrd.strip_suffix(name)?;
    name.contains(version).then(|| format!("{folder}{}", name.replacen(version, "{version}", 1)))
}

#[cfg(test)]
mod tests {
    use signpost_facts::VolumeNumber;

    use super::*;

    fn pattern(path: &str, initrds: &[&str]) -> Option<(String, Vec<String>)> {
        patterns(&Kernel {
            volume: VolumeNumber::of_index(0),
            path: path.into(),
            version: "6.9.4".into(),
            architecture: "x86_64".into(),
            efi_stub: None,
            is_spare: false,
            initrds: initrds.iter().map(ToString::to_string).collect(),
            fallback: Vec::new(),
            arguments: None,
        })
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
}
