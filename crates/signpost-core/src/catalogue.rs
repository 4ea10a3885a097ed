//! The catalogue: rows of data that say what marks a system or a program.

use serde::Deserialize;

use crate::survey::{Role, VersionFacts};

const BUILT_IN: &str = include_str!("../data/catalogue.toml");

/// Rows to tell systems and programs by.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    format: u32,
    #[serde(default)]
    system: Vec<SystemRow>,
    #[serde(default)]
    program: Vec<ProgramRow>,
}

/// A system that shows by its loader.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SystemRow {
    /// A short name, fit for an id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Folder of its loader, below `/EFI`.
    folder: String,
    /// File name of its loader; any program in the folder where it is not given.
    loader: Option<String>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct ProgramRow {
    role: ProgramRole,
    words: Vec<String>,
}

#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum ProgramRole {
    Tool,
    OtherBootManager,
}

impl Catalogue {
    /// The rows that are compiled in.
    ///
    /// # Panics
    /// Never: a test reads them.
    #[expect(clippy::expect_used, reason = "compiled in; a test reads it")]
    pub fn built_in() -> Self {
        Self::parse(BUILT_IN).expect("the catalogue is well-formed")
    }

    /// Reads rows.
    ///
    /// # Errors
    /// What is wrong with them, with line and column.
    pub fn parse(text: &str) -> Result<Self, String> {
        let catalogue: Self = toml::from_str(text).map_err(|error| error.to_string())?;
        match catalogue.format {
            1 => Ok(catalogue),
            other => Err(format!("format is {other}; this program reads format 1")),
        }
    }

    /// The row for a program at this path below `/EFI`; case does not matter.
    pub fn system(&self, path_below_efi: &str) -> Option<&SystemRow> {
        let path = path_below_efi.to_lowercase();
        let (folder, file) = path.rsplit_once('/')?;
        self.system.iter().find(|row| {
            row.folder.to_lowercase() == folder
                && row.loader.as_ref().is_none_or(|loader| loader.to_lowercase() == file)
        })
    }

    /// What a program with this version resource is, if its words say it.
    pub fn program(&self, version: &VersionFacts) -> Option<Role> {
        let said = [&version.description, &version.product];
        let said: Vec<String> = said.into_iter().flatten().map(|text| text.to_lowercase()).collect();
        let row = self
            .program
            .iter()
            .find(|row| row.words.iter().any(|word| said.iter().any(|text| text.contains(word.as_str()))))?;
        Some(match row.role {
            ProgramRole::Tool => Role::Tool,
            ProgramRole::OtherBootManager => Role::OtherBootManager,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn described(description: &str) -> VersionFacts {
        VersionFacts {
            company: None,
            product: None,
            product_version: None,
            description: Some(description.into()),
        }
    }

    #[test]
    fn the_built_in_rows_are_read_and_case_does_not_matter() {
        let catalogue = Catalogue::built_in();
        assert_eq!(catalogue.system("DEBIAN/x.efi").map(|row| row.id.as_str()), Some("debian"));
        assert!(catalogue.system("debian/sub/x.efi").is_none());
        assert!(catalogue.system("x.efi").is_none());
        assert_eq!(catalogue.program(&described("Kestrel Memory Test")), Some(Role::Tool));
        assert_eq!(catalogue.program(&described("Harbour Boot Menu")), Some(Role::OtherBootManager));
        assert_eq!(catalogue.program(&described("Start-up")), None);
    }

    #[test]
    fn broken_rows_are_named_with_their_line() {
        assert!(Catalogue::parse("format = 2\n").unwrap_err().contains("format is 2"));
        let error = Catalogue::parse("format = 1\n[[system]]\nid = 3\n").unwrap_err();
        assert!(error.contains("line 3"), "{error}");
    }
}
