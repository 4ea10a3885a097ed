//! What desk and boot program tell each other through the firmware's variables.

use alloc::string::{String, ToString};

use signpost_disk::Guid;
use signpost_firmware::variable::{Contents, VariableName};
use signpost_menu::ours;
use signpost_menu::state::State;
use signpost_menu::tries::Unconfirmed;

/// What boot program and desk tell each other.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OurVariables {
    /// What the next start, and only that, goes to.
    pub once: Option<String>,
    /// What was kept as the default for good.
    pub kept: Option<String>,
    /// What was started last.
    pub last: Option<String>,
    /// How often entries were started since they came up last.
    pub unconfirmed: Unconfirmed,
    /// What was tried last, and why it failed.
    pub log: Option<String>,
}

impl OurVariables {
    /// Those among all variables.
    pub fn read(contents: &Contents) -> Self {
        let text = |name: &str| {
            let variable = contents.get(&Self::name(name))?;
            String::from_utf8(variable.data.clone()).ok().filter(|text| !text.is_empty())
        };
        Self::of(text)
    }

    /// Those that are remembered where there are no variables.
    pub fn in_state(state: &State) -> Self {
        Self::of(|name| state.text(name).map(ToString::to_string))
    }

    /// Those that are found by their names.
    fn of(text: impl Fn(&str) -> Option<String>) -> Self {
        Self {
            once: text(ours::ONCE),
            kept: text(ours::KEPT),
            last: text(ours::LAST),
            unconfirmed: text(ours::TRIES).map(|text| Unconfirmed::parse(&text)).unwrap_or_default(),
            log: text(ours::LOG),
        }
    }

    /// The full name of one of ours.
    pub fn name(name: &str) -> VariableName {
        VariableName { name: name.into(), vendor: Guid::from_bytes(ours::VENDOR) }
    }
}
