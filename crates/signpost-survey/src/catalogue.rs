//! The catalogue: rows of data that say what marks a system or a program.

use std::path::Path;

use memchr::memmem;
use serde::Deserialize;
use signpost_facts::error::{Error, Result};
use signpost_facts::{Family, Role, VersionFacts};
use signpost_machine::rows;

const BUILT_IN: &str = include_str!("../data/catalogue.toml");

/// Rows to tell systems and programs by; the first that fits counts.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    format: u32,
    #[serde(default)]
    system: Vec<SystemRow>,
    #[serde(default)]
    program: Vec<ProgramRow>,
    #[serde(default)]
    sector: Vec<SectorRow>,
}

/// Whose code a first sector of a disk or a boot sector of a partition is.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct SectorRow {
    of: SectorOf,
    /// What it is called.
    title: String,
    /// Texts that all stand in it, in whatever case.
    texts: Vec<String>,
    /// Whether it is plain code, which starts the active partition.
    #[serde(default)]
    is_plain: bool,
}

/// Where a sector stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SectorOf {
    /// At the start of a disk.
    Disk,
    /// At the start of a partition.
    Partition,
}

/// A system that does not tell its own name.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct SystemRow {
    /// A short name, fit for an id.
    pub id: String,
    /// Its title; `{label}` and `{version}` stand for the volume's label and what `version-of` says.
    pub title: String,
    /// What it is a member of.
    #[serde(default)]
    pub family: Family,
    /// Folder of its loader, below `/EFI`.
    folder: Option<String>,
    /// File name of its loader; any program in the folder where it is not given.
    loader: Option<String>,
    /// Marks on a volume.
    volume: Option<VolumeMarks>,
}

/// What marks a system on its volume: everything that is given must fit.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct VolumeMarks {
    /// Kinds of file system, as the survey shows them.
    pub kinds: Vec<String>,
    /// Types of an MBR partition, or of the slice around it, in hexadecimal.
    pub types: Vec<String>,
    /// Its label, or that of a volume in it; `*` stands for anything.
    pub label: Option<String>,
    /// Paths that must all be there.
    pub files: Vec<String>,
    /// Text in its first sector.
    pub boot_sector: Option<String>,
    /// A program whose version resource gives `{version}`.
    pub version_of: Option<String>,
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
    pub fn parse(text: &str) -> std::result::Result<Self, String> {
        let catalogue: Self = toml::from_str(text).map_err(|error| error.to_string())?;
        match catalogue.format {
            1 => Ok(catalogue),
            other => Err(format!("format is {other}; this program reads format 1")),
        }
    }

    /// Puts the rows of every `*.toml` of a folder before these, so that they count first.
    ///
    /// # Errors
    /// Where the folder or a file of it cannot be read.
    pub fn take_folder(&mut self, folder: &Path) -> Result<()> {
        for (path, text) in rows::files(folder)?.into_iter().rev() {
            let more = Self::parse(&text).map_err(|why| Error::unusable(path.display(), why))?;
            self.system.splice(0..0, more.system);
            self.program.splice(0..0, more.program);
            self.sector.splice(0..0, more.sector);
        }
        Ok(())
    }

    /// The row for a program at this path below `/EFI`; case does not matter.
    pub fn system(&self, path_below_efi: &str) -> Option<&SystemRow> {
        let path = path_below_efi.to_lowercase();
        let (folder, file) = path.rsplit_once('/')?;
        self.system.iter().find(|row| {
            row.folder.as_ref().is_some_and(|own| own.to_lowercase() == folder)
                && row.loader.as_ref().is_none_or(|loader| loader.to_lowercase() == file)
        })
    }

    /// Rows with marks on a volume.
    pub fn on_volumes(&self) -> impl Iterator<Item = (&SystemRow, &VolumeMarks)> {
        self.system.iter().filter_map(|row| Some((row, row.volume.as_ref()?)))
    }

    /// Whose code a sector is, and whether it is plain code.
    pub fn sector(&self, of: SectorOf, bytes: &[u8]) -> Option<(&str, bool)> {
        let lower = bytes.to_ascii_lowercase();
        let stands_there =
            |text: &String| memmem::find(&lower, text.to_ascii_lowercase().as_bytes()).is_some();
        let row = self.sector.iter().find(|row| row.of == of && row.texts.iter().all(stands_there))?;
        Some((&row.title, row.is_plain))
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
        assert!(catalogue.on_volumes().count() > 5);
    }

    #[test]
    fn broken_rows_are_named_with_their_line() {
        assert!(Catalogue::parse("format = 2\n").unwrap_err().contains("format is 2"));
        let error = Catalogue::parse("format = 1\n[[system]]\nid = 3\n").unwrap_err();
        assert!(error.contains("line 3"), "{error}");
    }
}
