use alloc::vec;

use proptest::prelude::*;

use super::*;
use crate::kernels::KernelHeader;
use crate::place::VolumeIdentity;
use crate::resolve::{LoadOptionSeen, UnifiedImage, describe};

/// A home volume with these files; every program and kernel is there.
struct Home(Vec<(&'static str, String)>, Vec<VolumeIdentity>);

impl Home {
    fn new(files: &[(&'static str, &str)]) -> Self {
        let identity = VolumeIdentity { name: "d1p1".into(), ..VolumeIdentity::default() };
        Self(files.iter().map(|(path, text)| (*path, (*text).to_string())).collect(), vec![identity])
    }
}

impl Surroundings for Home {
    fn first_sector(&self, _: usize) -> Result<String, String> {
        Err("no disk has a first sector here".into())
    }

    fn volumes(&self) -> &[VolumeIdentity] {
        &self.1
    }
    fn whereabouts(&self, _: usize) -> String {
        "d1p1".into()
    }
    fn files(&self, _: Within<'_>, folder: &str) -> Result<Option<Vec<String>>, String> {
        let below = format!("{folder}/");
        let names = self.0.iter().filter_map(|(path, _)| path.strip_prefix(&below)).map(ToString::to_string);
        Ok(Some(names.collect()))
    }
    fn has_file(&self, _: Within<'_>, path: &str) -> Result<bool, String> {
        Ok(!path.contains("gone"))
    }
    fn size(&self, _: Within<'_>, path: &str) -> Option<u64> {
        (!path.contains("gone")).then_some(1)
    }
    fn kernel_header(&self, _: Within<'_>, _: &str) -> Option<KernelHeader> {
        Some(KernelHeader::default())
    }
    fn boot_sector(&self, _: usize, _: Option<&str>) -> Result<String, String> {
        Err("it has no boot sector".into())
    }
    fn has_closed_volumes(&self) -> bool {
        false
    }
    fn text(&self, _: usize, path: &str) -> Option<String> {
        self.0.iter().find(|(own, _)| *own == path).map(|(_, text)| text.clone())
    }
    fn unified_image(&self, _: usize, path: &str) -> Option<UnifiedImage> {
        let os_release = self.text(0, path)?;
        Some(UnifiedImage { os_release, version: Some("6.9".into()) })
    }
    fn load_options(&self) -> Vec<LoadOptionSeen> {
        Vec::new()
    }
    fn include_from(&self, _: usize) -> Vec<usize> {
        vec![0]
    }
    fn architecture(&self) -> &str {
        "x64"
    }
}

fn completed(home: &Home, entries: &str) -> (MenuDocument, Vec<String>) {
    let text = format!("format = 1\n[include]\nbls = true\n{entries}");
    let mut document = crate::parse(&text).unwrap();
    let notes = complete(home, Some(0), &mut document);
    (document, notes)
}

fn titles(document: &MenuDocument) -> Vec<&str> {
    document.entries.iter().map(|entry| entry.title.as_str()).collect()
}

#[test]
fn keys_are_read_and_options_joined() {
    let text = "# written by a tool\ntitle\tLarkspur Linux 14\nversion 6.9\nmachine-id abc\nlinux /vmlinuz-6.9\n\
                initrd initrd-6.9\ninitrd /microcode\noptions root=UUID=x\noptions  quiet\nfancy yes\n";
    let entry = EntryFile::parse(text);
    assert_eq!(entry.title.as_deref(), Some("Larkspur Linux 14"));
    assert_eq!(entry.program().map(String::as_str), Some("/vmlinuz-6.9"));
    assert_eq!(entry.initrds, ["/initrd-6.9", "/microcode"]);
    assert_eq!(entry.options, "root=UUID=x quiet");
}

#[test]
fn entry_files_and_images_stand_behind_the_files_entries_in_the_specifications_order() {
    let home = Home::new(&[
        ("/loader/entries/a-6.9.conf", "title Lark\nsort-key lark\nversion 6.9\nlinux /k-6.9\noptions ro"),
        ("/loader/entries/a-6.10.conf", "title Lark\nsort-key lark\nversion 6.10\nlinux /k-6.10"),
        ("/loader/entries/a-6.11+0-3.conf", "title Lark\nsort-key lark\nversion 6.11\nlinux /k-6.11"),
        ("/loader/entries/z.conf", "title Plain\nefi /EFI/z.efi"),
        ("/loader/entries/arm.conf", "title Other\narchitecture AA64\nlinux /k"),
        ("/loader/entries/empty.conf", "title Empty"),
        ("/loader/entries/readme.txt", "title No\nlinux /k"),
        ("/EFI/Linux/Tide-7+3.efi", "PRETTY_NAME=\"Tidewater RT 5\"\n"),
    ]);
    let (document, notes) = completed(&home, "[[entry]]\nid = \"own\"\nstarts = \"restart\"\n");
    assert_eq!(
        titles(&document),
        ["own", "Lark, 6.10", "Lark, 6.9", "Plain", "Tidewater RT 5", "Lark, 6.11, failed before"]
    );
    let ids: Vec<&str> = document.entries.iter().map(|entry| entry.id.as_str()).collect();
    assert_eq!(ids, ["own", "a-6.10", "a-6.9", "z", "tide-7", "a-6.11"]);
    assert_eq!(notes, ["/loader/entries/empty.conf names neither linux nor efi"]);
    let resolved = resolve(&home, &document);
    assert_eq!(describe(&home, &resolved[2]), "d1p1:/k-6.9");
    let faults: Vec<Option<String>> =
        resolved.iter().map(|entry| entry.target.as_ref().err().map(ToString::to_string)).collect();
    let opening = crate::policy::open(&crate::policy::Situation {
        document: &document,
        faults: &faults,
        once: None,
        kept: None,
        last_started: None,
        unconfirmed: &crate::tries::Unconfirmed::default(),
        failed: None,
    });
    assert_eq!(opening.default().map(|index| ids[index]), Some("a-6.10"));
}

#[test]
fn what_the_menu_starts_already_is_not_taken_in_again() {
    let home = Home::new(&[
        ("/loader/entries/a.conf", "linux /k"),
        ("/loader/entries/b.conf", "linux /gone-k"),
        ("/EFI/Linux/c.efi", ""),
    ]);
    let own = "[[entry]]\nid = \"a\"\nstarts = \"linux\"\nvolume = \"home:\"\nkernel = \"/k\"\n\
               [[entry]]\nid = \"c\"\nstarts = \"efi\"\nprogram = \"home:/efi/linux/C.EFI\"\n";
    let mut home = home;
    home.1[0].is_home = true;
    let (document, _) = completed(&home, own);
    assert_eq!(titles(&document), ["a", "c", "b"], "one that cannot start is shown, with the reason");
    let mut off = crate::parse("format = 1\n[include]\nbls = false\n").unwrap();
    assert!(complete(&home, Some(0), &mut off).is_empty() && off.entries.is_empty());
}

proptest! {
    #[test]
    fn any_files_give_entries_with_ids_of_their_own(texts in prop::collection::vec("(title|linux|efi|sort-key|version) .{0,12}", 0..6)) {
        let paths = ["/loader/entries/A.conf", "/loader/entries/a.conf", "/loader/entries/☂.conf"];
        let files: Vec<(&str, String)> = paths.into_iter().map(|path| (path, texts.join("\n"))).collect();
        let files: Vec<(&'static str, &str)> = files.iter().map(|(path, text)| (*path, text.as_str())).collect();
        let (document, _) = completed(&Home::new(&files), "");
        let mut ids: Vec<&str> = document.entries.iter().map(|entry| entry.id.as_str()).collect();
        ids.sort();
        ids.dedup();
        prop_assert_eq!(ids.len(), document.entries.len());
    }
}
