//! Patterns that stand for a kernel and its initrds, whatever version comes.

use signpost_facts::Kernel;
use signpost_menu::linux_files::version_in_name;

/// The pattern of a kernel's path and of its initrds', where both carry its version in their names: what
/// `newest:` and `{version}` are made of.
pub fn patterns(kernel: &Kernel) -> Option<(String, Vec<String>)> {
    let (folder, name) = kernel.path.rsplit_once('/')?;
    let version = version_in_name(name);
    let starred = name.strip_suffix(version).filter(|_| !version.is_empty())?;
    let initrds: Option<Vec<String>> = kernel
        .initrds
        .iter()
        .map(|initrd| initrd.contains(version).then(|| initrd.replacen(version, "{version}", 1)))
        .collect();
    Some((format!("newest:{folder}/{starred}*"), initrds?))
}

#[cfg(test)]
mod tests {
    use signpost_facts::VolumeNumber;

    use super::*;

    #[test]
    fn patterns_stand_for_the_version_in_both_names() {
        let kernel = |path: &str, initrds: &[&str]| Kernel {
            volume: VolumeNumber::of_index(0),
            path: path.into(),
            version: "6.9.4".into(),
            architecture: "x86_64".into(),
            efi_stub: None,
            is_spare: false,
            initrds: initrds.iter().map(ToString::to_string).collect(),
        };
        let (pattern, initrds) = patterns(&kernel("/boot/vmlinuz-6.9.4", &["/boot/initrd-6.9.4"])).unwrap();
        assert_eq!(
            (pattern.as_str(), initrds.as_slice()),
            ("newest:/boot/vmlinuz-*", &["/boot/initrd-{version}".to_string()][..])
        );
        assert_eq!(patterns(&kernel("/boot/vmlinuz", &[])), None);
        assert_eq!(patterns(&kernel("/boot/vmlinuz-6.9.4", &["/boot/microcode"])), None);
    }
}
