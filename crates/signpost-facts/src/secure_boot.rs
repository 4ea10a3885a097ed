//! What Secure Boot says of a program.

use alloc::format;
use alloc::string::String;

use serde::Serialize;

/// What becomes of a program where Secure Boot is on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// The firmware takes it.
    Accepted(String),
    /// The firmware refuses it.
    Refused(String),
    /// It cannot be told from here.
    CannotTell {
        /// Why not.
        why: String,
        /// Whether it carries no signature, so that its digest alone could allow it.
        is_unsigned: bool,
    },
}

impl Serialize for Verdict {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeStruct;
        let (verdict, why) = match self {
            Self::Accepted(why) => ("accepted", why),
            Self::Refused(why) => ("refused", why),
            Self::CannotTell { why, .. } => ("cannot-tell", why),
        };
        let mut fields = serializer.serialize_struct("Verdict", 2)?;
        fields.serialize_field("verdict", verdict)?;
        fields.serialize_field("why", why)?;
        fields.end()
    }
}

impl Verdict {
    /// The verdict in words, with why.
    pub fn text(&self) -> String {
        match self {
            Self::Accepted(why) => format!("Secure Boot accepts it: {why}"),
            Self::Refused(why) => format!("Secure Boot refuses it: {why}"),
            Self::CannotTell { why, .. } => format!("whether Secure Boot accepts it cannot be told: {why}"),
        }
    }
}
