//! Recipes: rows of data that say how a system is started that needs particular arguments or files. Their fields are
//! filled in from the survey, never by hand.

mod fill;

use std::collections::BTreeMap;
use std::path::PathBuf;

pub(crate) use fill::set_named_volumes;
use serde::{Deserialize, Serialize};
use signpost_facts::{Error, Result};
use signpost_menu::place::{VolumeRef, fits_in_any_case};
use signpost_menu::recipe::BUILT_IN;
use signpost_place::VolumeReader;

/// All recipes; the first that fits counts.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipes {
    format: u32,
    #[serde(default)]
    recipe: Vec<Recipe>,
}

/// How one kind of system is started.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    /// Its name.
    pub id: String,
    /// What it starts, for people.
    pub title: String,
    /// What it makes an entry from.
    #[serde(rename = "for")]
    pub kind: RecipeKind,
    /// What must be so for it to be taken by itself; one without this is taken where it is named.
    pub when: Option<When>,
    /// Volumes that must be there, by the names that its fields use.
    #[serde(default)]
    pub volumes: BTreeMap<String, String>,
    /// Kernels: in an image the first that is there counts, together with an initrd. A Linux system keeps its own where
    /// none is given.
    #[serde(default)]
    pub kernel: Vec<String>,
    /// Initrds: in an image the first that is there counts; a Linux system takes all of them.
    #[serde(default)]
    pub initrd: Vec<String>,
    /// Arguments, with fields in braces.
    pub args: String,
}

/// What an entry is made from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RecipeKind {
    /// A system inside an image file.
    Image,
    /// A Linux system, by its root volume.
    Linux,
    /// An EFI program.
    Efi,
}

/// Marks of what a recipe is for: everything that is given must fit.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct When {
    /// Files that must all be there, in the image or on the volume; `*` in the last part stands for any letters.
    pub files: Vec<String>,
    /// Label of the volume, or of one in the image; `*` stands for anything.
    pub label: Option<String>,
}

impl Recipes {
    /// Those that are compiled in.
    ///
    /// # Panics
    /// Never: a test reads them.
    #[expect(clippy::expect_used, reason = "compiled in; a test reads it")]
    pub fn built_in() -> Self {
        Self::parse(BUILT_IN).expect("the recipes are well-formed")
    }

    /// Reads recipes.
    ///
    /// # Errors
    /// What is wrong with them, with line and column where there is one.
    pub fn parse(text: &str) -> std::result::Result<Self, String> {
        let recipes: Self = toml::from_str(text).map_err(|error| error.to_string())?;
        if recipes.format != 1 {
            return Err(format!("format is {}; this program reads format 1", recipes.format));
        }
        for recipe in &recipes.recipe {
            recipe.check().map_err(|why| format!("recipe {}: {why}", recipe.id))?;
        }
        Ok(recipes)
    }

    /// Puts the recipes of files before these, so that they count first: each file's name, for errors, and its text.
    ///
    /// # Errors
    /// What is wrong with a file.
    pub fn take(&mut self, files: &[(PathBuf, String)]) -> Result<()> {
        for (path, text) in files.iter().rev() {
            let more = Self::parse(text).map_err(|why| Error::unusable(path.display(), why))?;
            self.recipe.splice(0..0, more.recipe);
        }
        Ok(())
    }

    /// All of them, in their order.
    pub fn all(&self) -> &[Recipe] {
        &self.recipe
    }

    /// The recipe of this name.
    ///
    /// # Errors
    /// Where there is none of this kind: which there are.
    pub(crate) fn named(&self, id: &str, kind: RecipeKind) -> std::result::Result<&Recipe, String> {
        let mut of_kind = self.recipe.iter().filter(|recipe| recipe.kind == kind);
        of_kind.clone().find(|recipe| recipe.id == id).ok_or_else(|| {
            let first = of_kind.next().map(|recipe| recipe.id.clone());
            let all = first.into_iter().chain(of_kind.map(|recipe| recipe.id.clone())).collect::<Vec<_>>();
            let there = if all.is_empty() { "none".to_string() } else { all.join(", ") };
            format!("there is no recipe {id} for this; there is {there}")
        })
    }

    /// The first recipe of a kind that fits what these volumes hold; their labels beside them.
    pub(crate) fn fitting(
        &self,
        kind: RecipeKind,
        inside: &[(Option<String>, &VolumeReader)],
    ) -> Option<&Recipe> {
        self.recipe.iter().filter(|recipe| recipe.kind == kind).find(|recipe| {
            recipe
                .when
                .as_ref()
                .is_some_and(|when| inside.iter().any(|(label, reader)| when.is_so(label.as_deref(), reader)))
        })
    }
}

impl Recipe {
    fn check(&self) -> std::result::Result<(), String> {
        for (name, volume) in &self.volumes {
            let parsed = VolumeRef::parse(volume).map_err(|why| format!("volumes.{name}: {why}"))?;
            if !parsed.is_stable() {
                return Err(format!(
                    "volumes.{name}: {volume} is a name that the survey shows, and may change; a recipe takes a stable \
                     one, such as label:"
                ));
            }
        }
        if self.kind == RecipeKind::Image && self.kernel.is_empty() {
            return Err("it is for an image and names no kernel in it: kernel = [\"/live/vmlinuz\"]".into());
        }
        if self.when.as_ref().is_some_and(|when| *when == When::default()) {
            return Err("its when is empty, so it would fit everything".into());
        }
        Ok(())
    }
}

impl When {
    fn is_so(&self, label: Option<&str>, reader: &VolumeReader) -> bool {
        self.label.as_ref().is_none_or(|pattern| label.is_some_and(|label| fits_in_any_case(pattern, label)))
            && self.files.iter().all(|path| {
                let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
                if !name.contains('*') {
                    return reader.has_file(path);
                }
                let items = reader.list(if folder.is_empty() { "/" } else { folder }).unwrap_or_default();
                items.iter().any(|item| fits_in_any_case(name, &item.name))
            })
    }
}

#[cfg(test)]
mod tests {
    use signpost_menu::recipe::ImageRecipe;

    use super::*;

    #[test]
    fn the_recipes_that_are_compiled_in_hold_and_are_the_same_at_boot() {
        let recipes = Recipes::built_in();
        let images = recipes.all().iter().filter(|recipe| recipe.kind == RecipeKind::Image);
        let images = images.map(|recipe| {
            let when = recipe.when.clone().unwrap();
            assert!(when.label.is_none() && recipe.volumes.is_empty(), "{}: unknown at boot", recipe.id);
            ImageRecipe {
                id: recipe.id.clone(),
                files: when.files,
                kernel: recipe.kernel.clone(),
                initrd: recipe.initrd.clone(),
                args: recipe.args.clone(),
            }
        });
        assert_eq!(images.collect::<Vec<_>>(), signpost_menu::recipe::built_in());
    }

    #[test]
    fn mistakes_in_recipes_are_told() {
        let recipe = |more: &str| {
            format!("format = 1\n[[recipe]]\nid = \"a\"\ntitle = \"A\"\nfor = \"image\"\nargs = \"\"\n{more}")
        };
        for (more, hint) in [
            ("", "names no kernel"),
            ("kernel = [\"/k\"]\nwhen = {}", "would fit everything"),
            ("kernel = [\"/k\"]\nvolumes = { a = \"d2p1:\" }", "takes a stable one"),
            ("kernel = [\"/k\"]\nvolumes = { a = \"TIDES\" }", "names no volume"),
            ("kernal = [\"/k\"]", "unknown field `kernal`"),
        ] {
            let error = Recipes::parse(&recipe(more)).unwrap_err();
            assert!(error.contains(hint), "{more}: {error}");
        }
        assert!(Recipes::parse(&recipe("kernel = [\"/k\"]")).is_ok());
    }
}
