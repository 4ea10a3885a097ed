//! The symbol that goes with a system's family, where the way it is started by would have another.

use signpost_facts::Family;
use signpost_menu::entry_kind::EntryKind;
use signpost_menu::symbol::Symbol;

use super::field::Field;

/// The word for it; nothing where the entry has it anyway, or the family has none.
pub(super) fn of(family: Family, fields: &[(&'static str, Field)]) -> Option<Field> {
    let own = match family {
        Family::Linux | Family::Bsd => Symbol::Terminal,
        Family::Desktop | Family::Mac => Symbol::Window,
        Family::Dos => Symbol::Disk,
        Family::Other => return None,
    };
    let kind = fields
        .iter()
        .find(|(key, _)| *key == "starts")
        .and_then(|(_, starts)| EntryKind::ALL.into_iter().find(|kind| *starts == Field::from(kind.word())));
    (own != Symbol::of_kind(kind)).then(|| own.word().into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_symbol_is_written_where_the_way_of_starting_has_another() {
        let of = |family, starts: &str| of(family, &[("starts", starts.into())]);
        assert_eq!(of(Family::Linux, "linux"), None);
        assert_eq!(of(Family::Linux, "efi"), Some("terminal".into()));
        assert_eq!(of(Family::Bsd, "sector"), Some("terminal".into()));
        assert_eq!(of(Family::Desktop, "firmware-entry"), None);
        assert_eq!(of(Family::Desktop, "sector"), Some("window".into()));
        assert_eq!(of(Family::Dos, "sector"), None);
        assert_eq!(of(Family::Other, "sector"), None);
    }
}
