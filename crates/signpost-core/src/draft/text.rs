//! The text of a drafted menu file.

use signpost_menu::document::Host;

use super::DraftEntry;

/// A new file.
pub(super) fn new_file(heading: &str, host: Host, entries: &[DraftEntry]) -> String {
    let default = entries.first().map_or("first", |entry| entry.id.as_str());
    let mut text = format!(
        "# The boot menu of this machine. Edit it freely: `signpost draft` adds what is new and leaves the rest.\n\
         format = 1\n\n[menu]\nheading = {}\nhost    = {}\n\
         default = {}\ntimeout = 5           # seconds\n",
        quote(heading),
        match host {
            Host::Firmware => "\"firmware\"  # the firmware's own list shows it",
            Host::Signpost => "\"signpost\"  # the boot program shows it",
        },
        quote(default)
    );
    for entry in entries {
        text.push_str(&section(entry));
    }
    text
}

/// A file with entries behind what stands in it, which stays to the byte.
pub(crate) fn extend(text: &str, entries: &[DraftEntry]) -> String {
    let mut out = text.to_string();
    if entries.is_empty() {
        return out;
    }
    let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    if !out.is_empty() && !out.ends_with('\n') {
        out.push_str(line_end);
    }
    for entry in entries {
        out.push_str(&section(entry).replace('\n', line_end));
    }
    out
}

fn section(entry: &DraftEntry) -> String {
    let mut text = format!("\n# {}\n[[entry]]\n", entry.why);
    let own = [("id", quote(&entry.id)), ("title", quote(&entry.title))];
    for (key, value) in own.iter().chain(&entry.body) {
        text.push_str(&format!("{key:<8}= {value}\n"));
    }
    text
}

/// A TOML string.
pub(crate) fn quote(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            c if c.is_control() => out.push_str(&format!("\\u{:04X}", u32::from(c))),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn entry(id: &str) -> DraftEntry {
        let body = vec![("starts", quote("group"))];
        DraftEntry { id: id.into(), title: "T".into(), why: "why".into(), body }
    }

    #[test]
    fn what_stands_in_a_file_stays_to_the_byte() {
        let text = "format = 1\r\n# mine\r\n[menu]\r\ntimeout = 9 # slow disk";
        let extended = extend(text, &[entry("a")]);
        assert!(extended.starts_with(text));
        assert!(!extended.replace("\r\n", "").contains('\n'), "line ends stay of one kind");
        assert_eq!(signpost_menu::parse(&extended).unwrap().entries.len(), 1);
        assert_eq!(extend(text, &[]), text);
    }

    proptest! {
        #[test]
        fn any_title_and_heading_is_quoted_so_that_it_reads_back(title: String, heading: String) {
            let mut one = entry("a");
            one.title = title.clone();
            let document = signpost_menu::parse(&new_file(&heading, Host::Firmware, &[one])).unwrap_or_default();
            // A group cannot be the default, so this file is refused for that alone.
            prop_assert!(document.entries.is_empty());
            let text = format!("format = 1\n[menu]\nheading = {}\n[[entry]]\nid = \"a\"\ntitle = {}\nstarts = \"group\"\n", quote(&heading), quote(&title));
            let document = signpost_menu::parse(&text).unwrap();
            prop_assert_eq!(&document.entries[0].title, &title);
            prop_assert_eq!(document.settings.heading, Some(heading));
        }
    }
}
