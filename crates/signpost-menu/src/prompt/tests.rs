use proptest::prelude::*;

use super::*;
use crate::kernels::{KernelHeader, newest_first};
use crate::linux_system::{LinuxKernel, LinuxSystem};
use crate::place::VolumeIdentity;
use crate::resolve::{LoadOptionSeen, UnifiedImage};
use crate::scene::Frame;
use crate::screen::paint;

/// Two volumes: boot files, and a system's root.
struct Made {
    files: Vec<(usize, String, String)>,
    volumes: Vec<VolumeIdentity>,
    systems: Vec<LinuxSystem>,
}

/// A system on a volume, with kernels of these versions: those that have an initrd first.
fn system(
    title: &str,
    (volume, root_path): (usize, &str),
    kernels: &[(&str, bool)],
    args: &str,
) -> LinuxSystem {
    let below = root_path.trim_end_matches('/');
    let kernel = |(version, has_initrd): &(&str, bool)| LinuxKernel {
        volume,
        path: format!("{below}/boot/vmlinuz-{version}"),
        version: (*version).into(),
        initrds: has_initrd.then(|| format!("{below}/boot/initrd-{version}")).into_iter().collect(),
        args: None,
    };
    LinuxSystem {
        title: title.into(),
        root: Some(volume),
        root_path: root_path.into(),
        is_snapshot: false,
        kernels: kernels.iter().map(kernel).collect(),
        args: args.into(),
        args_from: format!("made from the UUID of v{}", volume + 1),
    }
}

fn made(more: &[(usize, &str, &str)]) -> Made {
    let mut files: Vec<(usize, String, String)> = [
        (0, "/EFI/larkspur/lkload.efi", "MZ"),
        (1, "/etc/os-release", "PRETTY_NAME=\"Larkspur Linux 14\"\n"),
        (1, "/etc/fstab", "UUID=2 / ext4\n"),
        (1, "/boot/vmlinuz-6.9", "kernel"),
        (1, "/boot/initrd-6.9", "initrd"),
        (1, "/boot/vmlinuz-6.10", "kernel"),
        (1, "/boot/initrd-6.10", "initrd"),
        (1, "/boot/vmlinuz-6.11", "kernel"),
    ]
    .map(|(volume, path, text)| (volume, path.to_string(), text.to_string()))
    .into();
    files.extend(more.iter().map(|(volume, path, text)| (*volume, (*path).to_string(), (*text).to_string())));
    let volume = |number: u32| VolumeIdentity {
        name: format!("d1p{number}"),
        uuid: Some(format!("{number}")),
        partition: Some(number),
        ..VolumeIdentity::default()
    };
    let kernels = [("6.10", true), ("6.9", true), ("6.11", false)];
    let systems = vec![system("Larkspur Linux 14", (1, "/"), &kernels, "root=UUID=2 ro")];
    Made { files, volumes: vec![volume(1), volume(2)], systems }
}

impl Surroundings for Made {
    fn first_sector(&self, _: usize) -> Result<String, String> {
        Err("no disk has a first sector here".into())
    }

    fn volumes(&self) -> &[VolumeIdentity] {
        &self.volumes
    }
    fn files(&self, within: Within<'_>, folder: &str) -> Result<Option<Vec<String>>, String> {
        let items = self.items(within.volume, folder)?;
        Ok(items
            .map(|items| items.into_iter().filter(|item| !item.is_folder).map(|item| item.name).collect()))
    }
    fn has_file(&self, within: Within<'_>, path: &str) -> Result<bool, String> {
        Ok(self.size(within, path).is_some())
    }
    fn size(&self, within: Within<'_>, path: &str) -> Option<u64> {
        self.text(within.volume, path).map(|text| text.len() as u64)
    }
    fn kernel_header(&self, within: Within<'_>, path: &str) -> Option<KernelHeader> {
        let name = path.rsplit('/').next()?.strip_prefix("vmlinuz-")?;
        let version = Some(name.to_string());
        self.text(within.volume, path).filter(|text| text == "kernel").map(|_| KernelHeader { version })
    }
    fn boot_sector(&self, _: usize, _: Option<&str>) -> Result<String, String> {
        Err("it has no boot sector".into())
    }
    fn has_closed_volumes(&self) -> bool {
        false
    }
    fn text(&self, volume: usize, path: &str) -> Option<String> {
        self.files.iter().find(|(on, own, _)| *on == volume && own == path).map(|(_, _, text)| text.clone())
    }
    fn unified_image(&self, _: usize, _: &str) -> Option<UnifiedImage> {
        None
    }
    fn load_options(&self) -> Vec<LoadOptionSeen> {
        vec![LoadOptionSeen {
            number: 0x1a,
            label: "Larkspur".into(),
            target: Some((0, "/EFI/larkspur/lkload.efi".into())),
            fault: None,
        }]
    }
    fn include_from(&self, _: usize) -> Vec<usize> {
        Vec::new()
    }
    fn architecture(&self) -> &str {
        "x64"
    }
}

impl Hands for Made {
    fn system_ids(&self) -> Vec<(String, usize)> {
        vec![("lark".to_string(), 1)]
    }
    fn facts(&self, volume: usize) -> VolumeFacts {
        let kind = if volume == 0 { "FAT32" } else { "ext4" };
        VolumeFacts { kind: kind.into(), label: None, size: 64 << 20, is_encrypted: false, fault: None }
    }
    fn items(&self, volume: usize, folder: &str) -> Result<Option<Vec<Item>>, String> {
        let below = format!("{}/", folder.trim_end_matches('/'));
        let mut items: Vec<Item> = Vec::new();
        for (_, path, _) in self.files.iter().filter(|(on, _, _)| *on == volume) {
            let Some(rest) = path.strip_prefix(&below) else { continue };
            let (name, is_folder) = rest.split_once('/').map_or((rest, false), |(name, _)| (name, true));
            let item = Item { name: name.into(), is_folder };
            if !items.contains(&item) {
                items.push(item);
            }
        }
        Ok((!items.is_empty()).then_some(items))
    }
    fn inside(&self, _: usize, image: &str) -> Result<Option<Names>, String> {
        Ok(image.ends_with(".iso").then(|| (Some("LANTERN".into()), None)))
    }
    fn systems(&self) -> &[LinuxSystem] {
        &self.systems
    }
    fn kernels_on(&self, volume: usize) -> Vec<LinuxKernel> {
        let kernels = self.systems.iter().flat_map(|system| &system.kernels);
        kernels.filter(|kernel| kernel.volume == volume).cloned().collect()
    }
    fn kernels_in(&self, within: Within<'_>, folder: &str) -> Vec<LinuxKernel> {
        let names = self.files(within, folder).ok().flatten().unwrap_or_default();
        let paths = names.iter().map(|name| format!("{folder}/{name}"));
        let found = paths.filter_map(|path| {
            let version = self.kernel_header(within, &path)?.version?;
            Some(LinuxKernel { volume: within.volume, path, version, initrds: Vec::new(), args: None })
        });
        let mut found: Vec<LinuxKernel> = found.collect();
        found.sort_by(|a, b| newest_first((&a.path, &a.version), (&b.path, &b.version)));
        found
    }
    fn head(&self, volume: usize, path: &str, _: usize) -> Result<Vec<u8>, String> {
        self.text(volume, path).map(String::into_bytes).ok_or_else(|| "gone".to_string())
    }
    fn kind_of_file(&self, head: &[u8]) -> Option<String> {
        head.starts_with(b"MZ").then(|| "EFI program".to_string())
    }
}

fn prompt() -> Prompt {
    let menu = "format = 1\n[[entry]]\nid = \"lark\"\ntitle = \"Larkspur\"\nstarts = \"efi\"\nprogram = \"uuid:1/EFI/larkspur/lkload.efi\"\n";
    Prompt::new(crate::parse(menu).unwrap())
}

fn said(prompt: &mut Prompt, line: &str) -> String {
    prompt.run(line, &made(&[])).lines.join("\n")
}

#[test]
fn four_lines_start_a_system_whose_newest_kernel_has_no_initrd() {
    let (mut prompt, machine) = (prompt(), made(&[]));
    assert!(said(&mut prompt, "vol").contains("Larkspur Linux 14, root"));
    let composed = said(&mut prompt, "compose linux on d1p2");
    assert!(composed.contains("kernel: /boot/vmlinuz-6.10"), "{composed}");
    assert!(composed.contains("vmlinuz-6.11 is newer, and its initrd is not there"), "{composed}");
    let newer = said(&mut prompt, "kernel /boot/vmlinuz-6.11");
    assert!(newer.contains("initrd: none; in /boot there is initrd-6.9, initrd-6.10"), "{newer}");
    let reviewed = said(&mut prompt, "kernel /boot/vmlinuz-6.10");
    assert!(reviewed.contains("initrd: /boot/initrd-6.10, 6 bytes"), "{reviewed}");
    let reply = prompt.run("start", &machine);
    let Then::Start { title, target: StartTarget::Linux { args, root, .. } } = reply.then else {
        panic!("{reply:?}")
    };
    assert_eq!((title.as_str(), args.as_str(), root), ("Larkspur Linux 14", "root=UUID=2 ro", Some(1)));
}

#[test]
fn arguments_are_replaced_added_and_dropped() {
    let mut prompt = prompt();
    assert!(said(&mut prompt, "args quiet").contains("nothing is composed yet"));
    said(&mut prompt, "compose linux d1p2:/boot/vmlinuz-6.9");
    assert_eq!(said(&mut prompt, "args +single -ro"), "arguments: root=UUID=2 single");
    assert_eq!(
        said(&mut prompt, "args -quiet"),
        "the arguments do not contain quiet; they are: root=UUID=2 single"
    );
    assert_eq!(said(&mut prompt, "args -root"), "arguments: single");
    assert_eq!(said(&mut prompt, "args ro debug"), "arguments: ro debug");
}

#[test]
fn mistakes_say_what_there_is() {
    let mut prompt = prompt();
    for (line, answer) in [
        ("start", "nothing is composed yet: `compose linux on VOLUME` does it"),
        ("s", "s is ambiguous: show, start, save; type more of it"),
        ("voluems", "there is no command voluems; did you mean volumes?"),
        ("look d1p9:/", "no volume is called d1p9; there are d1p1, d1p2"),
        (
            "look d1p2:/boot/grob/x",
            "d1p2 has no /boot/grob/x; in /boot there is initrd-6.10, initrd-6.9, vmlinuz-6.10, vmlinuz-6.11, vmlinuz-6.9",
        ),
        ("compose linux on d1p1", "no Linux system has its root on d1p1; there is Larkspur Linux 14 on d1p2"),
        ("compose linux d1p2:/etc/fstab", "/etc/fstab is not a Linux kernel"),
        ("compose entry x", "the menu has no entry x; there are lark"),
        ("entries 2", "there is no entry 2; there are 1 to 1"),
        ("firmware 2", "the firmware has no entry 2; there are 001A"),
        ("once x", "once takes menu, or one of lark; `once` alone undoes it"),
        ("yes", "yes to what? No question was asked"),
    ] {
        let reply = prompt.run(line, &made(&[]));
        assert_eq!((reply.lines.join("\n").as_str(), reply.is_refusal), (answer, true), "{line}");
    }
}

#[test]
fn a_device_name_is_taken_once_yes_is_said() {
    let mut prompt = prompt();
    let asked = said(&mut prompt, "compose linux on /dev/sda2");
    assert!(asked.ends_with("that is d1p2. Use it? (yes or no)"), "{asked}");
    assert!(said(&mut prompt, "yes").contains("Larkspur Linux 14"));
    assert!(said(&mut prompt, "who d1p0").contains("disks and partitions are counted from 1"));
    assert!(said(&mut prompt, "yes").starts_with("d1p1"));
    said(&mut prompt, "who d1p0");
    assert_eq!(said(&mut prompt, "no"), "nothing was done");
    said(&mut prompt, "who d1p0");
    assert_eq!(said(&mut prompt, "# a comment leaves the question open"), "");
    assert!(said(&mut prompt, "yes").starts_with("d1p1"));
    said(&mut prompt, "who d1p0");
    said(&mut prompt, "volumes");
    assert!(said(&mut prompt, "yes").contains("No question was asked"), "a question holds for one line");
}

#[test]
fn what_is_composed_is_saved_by_names_that_hold() {
    let mut prompt = prompt();
    said(&mut prompt, "compose linux d1p2:/boot/vmlinuz-6.9");
    let reply = prompt.run("save --default The one that works", &made(&[]));
    let Then::Save { title, is_default: true, body } = reply.then else { panic!("{reply:?}") };
    let text: String = body.iter().map(|(key, value)| format!("{key} = {value}\n")).collect();
    let entry = format!("format = 1\n[[entry]]\nid = \"a\"\ntitle = \"{title}\"\n{text}");
    let document = crate::parse(&entry).unwrap();
    assert_eq!(document.entries[0].title, "The one that works");
    assert!(
        text.contains("volume = \"uuid:2\"") && text.contains("initrd = [\"/boot/initrd-6.9\"]"),
        "{text}"
    );
}

#[test]
fn what_was_composed_as_the_newest_is_saved_as_the_newest() {
    let kernel_of = |lines: &[&str]| {
        let mut prompt = prompt();
        lines.iter().for_each(|line| drop(said(&mut prompt, line)));
        let reply = prompt.run("save By hand", &made(&[]));
        let Then::Save { body, .. } = reply.then else { panic!("{reply:?}") };
        body.into_iter()
            .filter(|(key, _)| matches!(*key, "kernel" | "initrd"))
            .map(|(_, value)| value)
            .collect::<Vec<_>>()
    };
    let newest = ["\"newest:/boot/vmlinuz-*\"", "[\"/boot/initrd-{version}\"]"];
    assert_eq!(kernel_of(&["compose linux on d1p2"]), newest);
    assert_eq!(kernel_of(&["compose linux on d1p2", "args +single"]), newest);
    let picked = ["\"/boot/vmlinuz-6.9\"", "[\"/boot/initrd-6.9\"]"];
    assert_eq!(kernel_of(&["compose linux on d1p2", "kernel /boot/vmlinuz-6.9"]), picked);
    assert_eq!(kernel_of(&["compose linux d1p2:/boot/vmlinuz-6.9"]), picked);
}

#[test]
fn words_volumes_and_paths_are_completed() {
    let (mut prompt, machine) = (prompt(), made(&[]));
    said(&mut prompt, "compose linux on d1p2");
    let words = |line: &str| prompt.complete(line, &machine).words;
    assert_eq!(words("vo"), ["volumes "]);
    assert_eq!(words("look d"), ["d1p1:", "d1p2:"]);
    assert_eq!(words("look d1p2:/b"), ["boot/"]);
    assert_eq!(words("look d1p2:/boot/i"), ["initrd-6.10", "initrd-6.9"]);
    assert_eq!(words("compose linux on d1p2:/boot/vmlinuz-6.9"), ["vmlinuz-6.9 "]);
    assert_eq!(words("kernel /boot/vmlinuz-6.1"), ["vmlinuz-6.10", "vmlinuz-6.11"]);
    assert_eq!(words("compose e"), ["efi", "entry"]);
    assert_eq!(words("compose entry "), ["lark "]);
    assert_eq!(words("once "), ["lark", "menu"]);
    assert_eq!(words("look d1p2:"), ["/boot/", "/etc/"]);
    assert_eq!(words("keyboard d"), ["de "]);
    assert_eq!(words("compose im"), ["image "]);
    // What stays of the line: all but the path's last part.
    for (line, start) in
        [("look d1p2:/b", 11), ("look d1p2:", 10), ("look d1p2:/boot/in", 16), ("kernel /boot/v", 13)]
    {
        assert_eq!(prompt.complete(line, &machine).start, start, "{line}");
    }
}

#[test]
fn every_word_has_help_and_an_example_that_is_understood() {
    let (mut prompt, machine) = (prompt(), made(&[]));
    for (word, _, _) in WORDS {
        let word = word.text();
        let help = prompt.run(&format!("help {word}"), &machine);
        assert!(!help.is_refusal && help.lines[0].starts_with(word), "{help:?}");
        if let Some(example) = help.lines.iter().find_map(|line| line.strip_prefix("for example: ")) {
            prompt.run("compose linux on d1p2", &machine);
            let example = example.replace("-quiet", "-ro").replace("once menu", "once");
            assert!(
                !prompt.run(&example, &machine).is_refusal,
                "{example}: {:?}",
                prompt.run(&example, &machine)
            );
        }
    }
}

proptest! {
    #[test]
    fn random_lines_on_random_trees_never_panic(
        lines in prop::collection::vec(
            "(volumes|who|look|show|find|compose|compose linux on|kernel|initrd|args|review|start|save|entries|once|firmware|help|yes)? ?(v[0-3]|/dev/sda[0-9]|d1p2:/boot/?|.{0,6}):?(/[a-z.]{0,5}){0,3}",
            0..8
        ),
        paths in prop::collection::vec("(/[a-zé.]{1,6}){1,4}", 0..6),
    ) {
        let files: Vec<(usize, &str, &str)> = paths.iter().map(|path| (path.len() % 2, path.as_str(), "text")).collect();
        let (mut prompt, machine) = (prompt(), made(&files));
        for line in lines {
            let _ = prompt.complete(&line, &machine);
            let reply = prompt.run(&line, &machine);
            prop_assert!(reply.lines.len() < 6000);
        }
    }
}

fn typed(screen: &mut PromptScreen, keys: &str, machine: &Made) -> Then {
    use crate::session::Key;
    let key = |c: char| if c == '\r' { Key::Enter } else { Key::Char(c) };
    keys.chars().map(|c| screen.key(key(c), machine)).last().unwrap_or(Then::Nothing)
}

fn rows(screen: &mut PromptScreen, height: usize) -> Vec<String> {
    let grid = paint(&screen.scene(Frame::cells(60, height)));
    (0..height).map(|row| grid.row_text(row)).collect()
}

#[test]
fn the_screen_edits_remembers_completes_and_pages() {
    use crate::session::Key;
    let machine = made(&[]);
    let mut screen = PromptScreen::new(prompt(), &["Welcome.".to_string()]);
    assert_eq!(rows(&mut screen, 6)[..2], [" Welcome.", " >"]);
    typed(&mut screen, "loo\td1p2:/b\t", &machine);
    assert!(rows(&mut screen, 6)[1].ends_with("> look d1p2:/boot/"));
    typed(&mut screen, "init\t", &machine);
    assert!(rows(&mut screen, 6)[1].ends_with("> look d1p2:/boot/initrd-6."));
    typed(&mut screen, "\t", &machine);
    assert!(rows(&mut screen, 6).concat().contains("initrd-6.10  initrd-6.9"), "a second Tab lists them");
    assert_eq!(screen.key(Key::Escape, &machine), Then::Nothing);
    typed(&mut screen, "help\r", &machine);
    let shown = rows(&mut screen, 6);
    assert!(
        shown[0].contains("> help") && shown[5].contains("more"),
        "a long answer is read from its start: {shown:?}"
    );
    typed(&mut screen, "  ", &machine);
    assert!(!rows(&mut screen, 6)[0].contains("> help"));
    screen.key(Key::Up, &machine);
    typed(&mut screen, " who\r", &machine);
    assert!(rows(&mut screen, 9).concat().contains("who VOLUME"));
    assert_eq!(screen.key(Key::Escape, &machine), Then::Close);
}

#[test]
fn systems_in_subvolumes_are_named_with_them() {
    let mut machine = made(&[
        (0, "/@old/boot/vmlinuz-5.1", "kernel"),
        (0, "/@/boot/vmlinuz-5.2", "kernel"),
        (0, "/@/boot/initrd-5.2", "initrd"),
    ]);
    let args = |subvolume: &str| format!("root=UUID=1 rootflags=subvol={subvolume} ro");
    machine.systems = vec![
        system("Ebbe Server 9", (0, "/@"), &[("5.2", true)], &args("@")),
        system("Ebbe Server 9, /@old", (0, "/@old"), &[("5.1", false)], &args("@old")),
    ];
    let mut prompt = prompt();
    let said = |prompt: &mut Prompt, line: &str| prompt.run(line, &machine).lines.join("\n");
    let volumes = said(&mut prompt, "volumes");
    assert!(volumes.contains("Ebbe Server 9, root, Ebbe Server 9, /@old, root"), "{volumes}");
    let who = said(&mut prompt, "who d1p1");
    assert!(who.contains("its root in /@old"), "{who}");
    let composed = said(&mut prompt, "compose linux on d1p1");
    assert!(composed.contains("kernel: /@/boot/vmlinuz-5.2"), "{composed}");
    assert!(composed.contains("initrd: /@/boot/initrd-5.2"), "{composed}");
    assert!(composed.contains("arguments: root=UUID=1 rootflags=subvol=@ ro"), "{composed}");
    assert!(composed.contains("d1p1 holds more systems: `compose linux on d1p1:/@old`"), "{composed}");
    let found = said(&mut prompt, "find vmlinuz-5");
    assert_eq!(found, "d1p1:/@/boot/vmlinuz-5.2\nd1p1:/@old/boot/vmlinuz-5.1");
    let composed = said(&mut prompt, "compose linux on d1p1:/@old");
    assert!(composed.contains("rootflags=subvol=@old ro"), "{composed}");
    let owned = said(&mut prompt, "compose linux d1p1:/@old/boot/vmlinuz-5.1");
    assert!(owned.contains("rootflags=subvol=@old ro"), "{owned}");
}

#[test]
fn another_keyboard_counts_until_a_restart() {
    let (mut prompt, machine) = (prompt(), made(&[]));
    assert!(said(&mut prompt, "keyboard").contains("us  United States     keys are read as these"));
    let reply = prompt.run("keyb de", &machine);
    assert!(matches!(reply.then, Then::Keyboard(keyboard) if keyboard.name == "de"), "{reply:?}");
    assert!(said(&mut prompt, "keyboard").contains("de  Germany, Austria  keys are read as these"));
    assert_eq!(
        said(&mut prompt, "keyboard xx"),
        "there is no keyboard xx; there are de, es, fr, gb, it, se, us"
    );
}

#[test]
fn a_system_in_an_image_is_composed_by_the_recipe_that_fits_or_by_its_kernel() {
    // These images hold what stands beside them.
    let machine = made(&[
        (0, "/lantern.iso", "image"),
        (0, "/live/filesystem.squashfs", "x"),
        (0, "/live/vmlinuz", "kernel"),
        (0, "/live/initrd", "initrd"),
    ]);
    let mut by_recipe = prompt();
    let composed = by_recipe.run("compose image d1p1:/lantern.iso", &machine).lines.join("\n");
    assert!(composed.contains("the image on d1p1, by recipe image-by-findiso"), "{composed}");
    assert!(composed.contains("kernel: /live/vmlinuz, 6 bytes"), "{composed}");
    assert!(composed.contains("arguments: boot=live findiso=/lantern.iso"), "{composed}");
    let reply = by_recipe.run("save Lantern", &machine);
    assert!(
        matches!(reply.then, Then::Save { body, .. } if body.contains(&("image", "\"uuid:1/lantern.iso\"".into())))
    );
    let machine = made(&[(1, "/ebbe.iso", "image"), (0, "/x.txt", "text"), (0, "/lantern.iso", "image")]);
    let mut by_kernel = prompt();
    let composed = by_kernel.run("compose image d1p2:/ebbe.iso", &machine).lines.join("\n");
    assert!(composed.contains("no recipe fits it") && composed.contains("/boot/vmlinuz-6.11"), "{composed}");
    let other = by_kernel.run("kernel /boot/vmlinuz-6.10", &machine).lines.join("\n");
    assert!(other.contains("initrd: /boot/initrd-6.10, 6 bytes"), "{other}");
    let said = |prompt: &mut Prompt, line: &str| prompt.run(line, &machine).lines.join("\n");
    assert!(
        said(&mut by_kernel, "kernel /boot/gone").contains("/ebbe.iso has no /boot/gone; in /boot there is")
    );
    assert!(said(&mut by_kernel, "kernel d1p2:/boot/gone").contains("kernel and initrd lie in /ebbe.iso"));
    assert!(
        said(&mut by_kernel, "compose image d1p1:/x.txt").contains("holds no volume that can be looked into")
    );
    assert!(
        said(&mut by_kernel, "compose image d1p1:/gone.iso").contains("d1p1 has no /gone.iso; in / there is")
    );
    assert!(
        said(&mut by_kernel, "compose image d1p1:/lantern.iso").contains("/lantern.iso holds no kernel in")
    );
}

#[test]
fn what_fingers_type_in_an_emergency_is_understood() {
    let mut prompt = prompt();
    for (typed, meant) in [
        ("?", "help"),
        ("ls d1p2:/boot", "look d1p2:/boot"),
        ("type d1p2:/etc/fstab", "show d1p2:/etc/fstab"),
        ("disks", "volumes"),
        ("quit", "leave"),
        ("reboot", "restart"),
        ("halt", "power-off"),
    ] {
        let mut run = |line: &str| prompt.run(line, &made(&[]));
        assert_eq!(run(typed), run(meant), "{typed}");
    }
    assert!(!said(&mut prompt, "help").contains("quit"), "help shows our words alone");
}

#[test]
fn entries_are_shown_and_only_start_starts_them() {
    let mut prompt = prompt();
    let shown = prompt.run("entries 1", &made(&[]));
    assert_eq!(shown.then, Then::Nothing);
    assert!(shown.lines[1].contains("`start entry 1`"), "{shown:?}");
    for line in ["start entry 1", "start entry lark"] {
        assert!(matches!(prompt.run(line, &made(&[])).then, Then::Start { .. }), "{line}");
    }
    assert!(said(&mut prompt, "start lark").contains("`start entry 1`"));
    assert_eq!(prompt.run("firmware 1a", &made(&[])).then, Then::Nothing);
    assert_eq!(prompt.run("firmware next 1a", &made(&[])).then, Then::NextBoot(0x1a));
}
