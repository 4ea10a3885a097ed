//! The data of the help: groups, examples, exit codes.

/// Commands in the order in which one needs them.
pub const GROUPS: [(&str, &[&str]); 5] = [
    ("Look", &["survey", "check", "rehearse", "menu", "preview", "history", "explain"]),
    ("Menu", &["draft", "entry", "tune", "policy"]),
    ("Change", &["plan", "apply", "undo", "mend", "once", "confirm", "hold", "firmware", "sector"]),
    ("By hand", &["prompt"]),
    ("Elsewhere", &["report", "bench", "demo", "completions", "manual", "help"]),
];

/// What a newcomer types first.
pub const FIRST: [(&str, &str); 4] = [
    ("signpost", "show the systems, what starts next, the problems"),
    ("signpost draft", "write a menu file from what is here, for you to edit"),
    ("signpost plan", "show what apply would write, and what would start then"),
    ("signpost demo", "try all of it on a made-up machine"),
];

/// What a command's help adds.
pub struct Page {
    pub command: &'static str,
    pub examples: [(&'static str, &'static str); 3],
    /// What exit code 1 means here, where it can come.
    pub problems: Option<&'static str>,
    /// Whether a guard can refuse it.
    pub is_guarded: bool,
}

/// The exit codes of a command.
pub fn codes(problems: Option<&str>, is_guarded: bool) -> String {
    let mut text = String::from("Exit codes:\n  0  done\n");
    if let Some(problems) = problems {
        text.push_str(&format!("  1  {problems}\n"));
    }
    text.push_str("  2  the command line is wrong, or names something that is not there\n");
    if is_guarded {
        text.push_str("  3  a guard refused, or nobody could be asked; nothing was changed\n");
    }
    text + "  4  the machine or a file could not be read or written\n"
}

const FILE: Option<&str> = Some("the menu file has errors");

const fn page(
    command: &'static str,
    problems: Option<&'static str>,
    is_guarded: bool,
    examples: [(&'static str, &'static str); 3],
) -> Page {
    Page { command, examples, problems, is_guarded }
}

pub const PAGES: [Page; 27] = [
    page(
        "survey",
        None,
        false,
        [
            ("signpost survey", "the whole machine"),
            ("signpost survey d2p1", "one volume in detail"),
            ("signpost survey --json", "all of it, for a script"),
        ],
    ),
    page(
        "check",
        Some("something keeps a system from starting, or will"),
        false,
        [
            ("signpost check", "what starts, and what is wrong"),
            ("signpost check --json", "the same, for a script"),
            ("signpost --disk pc.img check", "a disk image of another PC"),
        ],
    ),
    page(
        "rehearse",
        Some("nothing starts by itself"),
        false,
        [
            ("signpost rehearse", "the next start, step by step"),
            ("signpost rehearse --choose larkspur", "what if somebody chose this entry"),
            ("signpost rehearse --without 2", "what if disk 2 were not there"),
        ],
    ),
    page(
        "menu",
        FILE,
        false,
        [
            ("signpost menu", "the entries, and what each would start"),
            ("signpost menu --all", "members of groups too"),
            ("signpost menu --check menu.toml", "only check a file"),
        ],
    ),
    page(
        "preview",
        FILE,
        false,
        [
            ("signpost preview", "the boot screen"),
            ("signpost preview --open larkspur-older", "with a group opened"),
            (
                "signpost preview --png menu.png --size 1920x1080",
                "a picture, as it is drawn on a screen of that size",
            ),
        ],
    ),
    page(
        "history",
        None,
        false,
        [
            ("signpost history", "all steps, the newest last"),
            ("signpost history 3", "all that step 3 wrote"),
            ("signpost history --json", "the same, for a script"),
        ],
    ),
    page(
        "explain",
        None,
        false,
        [
            ("signpost explain", "all codes"),
            ("signpost explain entry-stale", "what a code means, and what to do"),
            ("signpost explain why-this-kernel", "how a kernel is picked"),
        ],
    ),
    page(
        "draft",
        FILE,
        true,
        [
            ("signpost draft", "make the menu file, or refresh it"),
            ("signpost draft --host signpost", "for our boot program to show"),
            ("signpost draft --dry-run", "only show what the file would be"),
        ],
    ),
    page(
        "entry",
        FILE,
        true,
        [
            ("signpost entry rename larkspur Larkspur", "another title"),
            ("signpost entry move meridian top", "first in the menu"),
            ("signpost entry add linux --on d2p2", "a system that draft did not add"),
        ],
    ),
    page(
        "tune",
        FILE,
        false,
        [
            ("signpost tune", "all keys with their values"),
            ("signpost tune timeout=10 default=meridian", "set two"),
            ("signpost tune --from policy.toml", "set what a file says, the same on many machines"),
        ],
    ),
    page(
        "plan",
        Some("the menu file has errors; with --check: there is something to write"),
        false,
        [
            ("signpost plan", "what apply would write, and what would start"),
            ("signpost plan --check", "only an exit code, for scripts"),
            ("signpost plan --home d1p1", "with the menu on another volume"),
        ],
    ),
    page(
        "apply",
        FILE,
        true,
        [
            ("signpost apply", "make the menu active"),
            ("signpost apply --yes --json", "without a question, for a script"),
            ("signpost apply --remove", "take Signpost off the machine"),
        ],
    ),
    page(
        "undo",
        None,
        true,
        [
            ("signpost undo", "the last step"),
            ("signpost undo 3", "everything since before step 3"),
            ("signpost undo --menu", "the last change of the menu file"),
        ],
    ),
    page(
        "mend",
        Some("a cause could not be cured by this program"),
        true,
        [
            ("signpost mend", "all that keeps a system from starting"),
            ("signpost mend entry-stale", "one cause"),
            ("signpost mend --dry-run", "only show how"),
        ],
    ),
    page(
        "once",
        FILE,
        true,
        [
            ("signpost once meridian", "the next start goes there"),
            ("signpost once menu", "the next start shows the menu"),
            ("signpost once --clear", "the next start is as always"),
        ],
    ),
    page(
        "confirm",
        None,
        true,
        [
            ("signpost confirm", "the running system has come up"),
            ("signpost confirm meridian", "this one is to be tried again"),
            ("signpost confirm --dry-run", "only show what is counted"),
        ],
    ),
    page(
        "hold",
        Some("with --check: there is something to correct"),
        true,
        [
            ("signpost hold", "correct what differs from what was applied"),
            ("signpost hold --check", "only an exit code, for scripts"),
            ("signpost hold --log", "what had to be corrected, and when"),
        ],
    ),
    page(
        "firmware",
        None,
        true,
        [
            ("signpost firmware list", "all entries, and their problems"),
            ("signpost firmware order 4 1", "these two first"),
            ("signpost firmware tidy", "what can be removed"),
        ],
    ),
    page(
        "sector",
        None,
        true,
        [
            ("signpost sector list", "what each boot sector is"),
            ("signpost sector save d1 first.bin", "keep a disk's first sector"),
            ("signpost sector active d1p1", "start this partition"),
        ],
    ),
    page(
        "prompt",
        Some("with --do or --script: a line failed"),
        true,
        [
            ("signpost prompt", "type as at boot"),
            ("signpost prompt --do volumes", "one line"),
            ("signpost prompt --script lines.txt", "the lines of a file"),
        ],
    ),
    page(
        "policy",
        Some("the menu file differs from the policy, or one of them has errors"),
        false,
        [
            ("signpost policy --keys", "what one file can say for many machines"),
            ("signpost policy lab.toml", "where this machine's menu file is otherwise"),
            ("signpost tune --from lab.toml", "have it follow the policy"),
        ],
    ),
    page(
        "report",
        Some("a file tells of no machine"),
        false,
        [
            ("signpost survey --json > pier-1.json", "on each machine, saved where all can be read"),
            ("signpost report pier-*.json", "all of them in one table, the worst first"),
            ("signpost report --html page.html pier-*.json", "the same for a browser"),
        ],
    ),
    page(
        "bench",
        None,
        false,
        [
            ("signpost bench pc --disk sda.img --disk sdb.img", "two disk images of another PC"),
            ("signpost --machine pc check", "what is wrong with it"),
            ("signpost --machine pc mend", "cure that, on the images"),
        ],
    ),
    page(
        "demo",
        None,
        false,
        [
            ("signpost demo", "a PC with four systems, and a walk through the job"),
            ("signpost demo --bench-only tide", "only make it, in the folder tide"),
            ("signpost demo --kind gauge", "an older PC, with BIOS"),
        ],
    ),
    page(
        "completions",
        None,
        false,
        [
            ("signpost completions bash", "for bash"),
            ("signpost completions zsh", "for zsh"),
            ("signpost completions fish", "for fish"),
        ],
    ),
    page(
        "manual",
        None,
        false,
        [
            ("signpost manual man", "all pages, into the folder man"),
            ("signpost manual /usr/local/share/man", "where `man` finds them"),
            ("signpost manual man --json", "with their names, for a script"),
        ],
    ),
    page(
        "help",
        None,
        false,
        [
            ("signpost help", "all commands"),
            ("signpost help entry add", "one command"),
            ("signpost help options", "the options of every command"),
        ],
    ),
];
