//! The language of layouts: volumes with their files, and what is expected of them.

/// A machine.
#[derive(Debug, Default)]
pub struct Layout {
    pub name: String,
    pub volumes: Vec<Volume>,
    pub expected: Vec<Expected>,
}

/// A volume of it.
#[derive(Debug)]
pub struct Volume {
    pub kind: Kind,
    pub name: String,
    /// Whether it lies on a second disk.
    pub is_elsewhere: bool,
    pub steps: Vec<Step>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Esp,
    Fat,
    Ext4,
    Btrfs,
    Encrypted,
}

/// What is done on a volume while it is made.
#[derive(Debug)]
pub enum Step {
    File {
        path: String,
        text: String,
    },
    /// Filled up to 1024 bytes.
    Block {
        path: String,
        text: String,
    },
    Kernel {
        path: String,
        version: String,
    },
    Loader {
        path: String,
        name: String,
    },
    Link {
        path: String,
        to: String,
    },
    /// A medium to start from, in an image file.
    Image {
        path: String,
        label: String,
    },
    Subvolume(String),
    /// A folder in which btrfs keeps files packed.
    Packed(String),
    Snapshot {
        from: String,
        to: String,
    },
    Default(String),
}

/// What the program must say.
#[derive(Debug)]
pub enum Expected {
    Systems(Vec<String>),
    Menu(Vec<String>),
    Starts { choice: Option<String>, what: String },
    Says(String),
}

/// Reads layouts. Each starts with `== NAME`; a line starts with its word, and `#` starts a comment.
pub fn parse(text: &str) -> Vec<Layout> {
    let mut layouts: Vec<Layout> = Vec::new();
    for (number, line) in (1..).zip(text.lines()) {
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        if let Some(name) = line.strip_prefix("== ") {
            layouts.push(Layout { name: name.to_string(), ..Layout::default() });
            continue;
        }
        let layout = layouts.last_mut().unwrap();
        let (word, rest) = line.split_once(' ').unwrap_or((line, ""));
        take(layout, word, rest.trim()).unwrap_or_else(|| panic!("line {number} is not understood: {line}"));
    }
    layouts
}

fn take(layout: &mut Layout, word: &str, rest: &str) -> Option<()> {
    let (first, second) = rest.split_once(' ').unwrap_or((rest, ""));
    let second = second.trim();
    let kind = match word {
        "esp" => Some(Kind::Esp),
        "fat" => Some(Kind::Fat),
        "ext4" => Some(Kind::Ext4),
        "btrfs" => Some(Kind::Btrfs),
        "encrypted" => Some(Kind::Encrypted),
        _ => None,
    };
    if let Some(kind) = kind {
        let is_elsewhere = second == "on another disk";
        layout.volumes.push(Volume { kind, name: first.to_string(), is_elsewhere, steps: Vec::new() });
        return Some(());
    }
    let expected = match word {
        "systems" => Some(Expected::Systems(list(rest))),
        "menu" => Some(Expected::Menu(list(rest))),
        "starts" => Some(Expected::Starts { choice: None, what: rest.to_string() }),
        "chosen" => {
            let (title, what) = rest.split_once(": ")?;
            Some(Expected::Starts { choice: Some(title.to_string()), what: what.to_string() })
        }
        "says" => Some(Expected::Says(rest.to_string())),
        _ => None,
    };
    if let Some(expected) = expected {
        layout.expected.push(expected);
        return Some(());
    }
    let path = first.replace("\\s", " ");
    let step = match word {
        "file" => Step::File { path, text: second.replace("\\n", "\n").replace("\\r", "\r") },
        // What the family of entry files with variables keeps those in.
        "block" => Step::Block { path, text: format!("{}\n", second.replace("\\n", "\n")) },
        "empty" => Step::File { path, text: String::new() },
        // A system of made-up names: its id, a folder for its root, and what it calls itself.
        "system" => Step::File {
            path: format!("{}/etc/os-release", if second.is_empty() { "" } else { second }),
            text: format!("ID={first}\nPRETTY_NAME=\"{}\"\n", title(first)),
        },
        "kernel" => Step::Kernel { path, version: second.to_string() },
        "loader" => Step::Loader { path, name: second.to_string() },
        "link" => Step::Link { path, to: second.to_string() },
        "image" => Step::Image { path, label: second.to_string() },
        "subvolume" => Step::Subvolume(rest.to_string()),
        "packed" => Step::Packed(rest.to_string()),
        "snapshot" => {
            let (from, to) = rest.split_once(" as ")?;
            Step::Snapshot { from: from.to_string(), to: to.to_string() }
        }
        "default" => Step::Default(rest.to_string()),
        _ => return None,
    };
    layout.volumes.last_mut()?.steps.push(step);
    Some(())
}

fn list(rest: &str) -> Vec<String> {
    rest.split(';').map(str::trim).filter(|one| !one.is_empty()).map(str::to_string).collect()
}

/// What the made-up systems call themselves.
fn title(id: &str) -> &'static str {
    match id {
        "larkspur" => "Larkspur Linux 14",
        "ebbe" => "Ebbe Server 9",
        "tidewater" => "Tidewater RT 5",
        other => panic!("no made-up system {other}"),
    }
}
