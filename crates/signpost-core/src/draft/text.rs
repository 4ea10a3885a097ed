//! The text of drafted entries.

use signpost_facts::FirmwareKind;
use signpost_menu::document::Host;
use signpost_menu::entry_text::entry_text;
use signpost_menu::quote::quoted;
use signpost_menu::text::shown;

use super::field::Field;
use super::offered::{DraftEntry, Offer};
use crate::menu_text::{HOST_COMMENTS, MenuText};

/// The head of a new file.
pub(super) fn head(heading: &str, host: Host, firmware: FirmwareKind) -> String {
    let comment = match host {
        Host::Firmware if firmware == FirmwareKind::Bios => HOST_COMMENTS[0],
        Host::Firmware => HOST_COMMENTS[1],
        Host::Signpost => HOST_COMMENTS[2],
    };
    format!(
        "# The boot menu of this machine. Edit it freely: `signpost draft` refreshes it and keeps what you change.\n\
         format = 1\n\n[menu]\nheading = {}\nhost    = {}  {comment}\n\
         default = \"first\"\ntimeout = 5           # seconds\n",
        quoted(&shown(heading)),
        quoted(host.word()),
    )
}

/// Makes an entry the default of a new file.
pub(super) fn choose_default(file: &mut MenuText, entry: Option<&DraftEntry>) -> signpost_facts::Result<()> {
    entry.map_or(Ok(()), |entry| file.set_in("menu", "default", entry.id.as_str().into()))
}

/// A text with an entry behind what stands in it, which stays to the byte.
pub(crate) fn append(text: &str, id: &str, offer: &Offer) -> String {
    let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let mut out = text.to_string();
    if !out.is_empty() && !out.ends_with('\n') {
        out.push_str(line_end);
    }
    out.push_str(&section(id, offer).replace('\n', line_end));
    out
}

/// An entry's section, with the reason for it above.
pub(crate) fn section(id: &str, offer: &Offer) -> String {
    let id = Field::from(id);
    let own = [("id", id.text())];
    let fields = offer.body.iter().map(|(key, value)| (*key, value.text()));
    entry_text(&offer.why, own.into_iter().chain(fields))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn offer(title: &str) -> Offer {
        Offer::by_hand(title.to_string(), (vec![("starts", "group".into())], "why".into()))
    }

    #[test]
    fn what_stands_in_a_file_stays_to_the_byte() {
        let text = "format = 1\r\n# mine\r\n[menu]\r\ntimeout = 9 # slow disk";
        let longer = append(text, "a", &offer("T"));
        assert!(longer.starts_with(text));
        assert!(!longer.replace("\r\n", "").contains('\n'), "line ends stay of one kind");
        assert_eq!(signpost_menu::parse(&longer).unwrap().entries.len(), 1);
    }

    proptest! {
        #[test]
        fn any_title_and_heading_is_quoted_so_that_it_reads_back(title: String, heading: String) {
            let text = append(&head(&heading, Host::Firmware, FirmwareKind::Uefi), "a", &offer(&title));
            let document = signpost_menu::parse(&text).unwrap();
            prop_assert_eq!(&document.entries[0].title, &shown(&title));
            prop_assert_eq!(document.settings.heading, Some(shown(&heading).into_owned()));
        }

        #[test]
        fn fields_read_back_as_they_were_written(texts in prop::collection::vec(".*", 0..4)) {
            for field in [Field::List(texts.clone()), Field::Text(texts.concat()), Field::Flag(true)] {
                let document: toml_edit::DocumentMut = format!("key = {}", field.text()).parse().unwrap();
                prop_assert_eq!(Field::of_item(&document["key"]), Some(field));
            }
        }
    }
}
