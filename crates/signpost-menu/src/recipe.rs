//! Recipes for systems inside image files, as far as desk and boot program share them: the built-in ones, how their
//! fields are filled in, and which kernel of an image they take.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

use toml::de::{DeTable, DeValue};

use crate::MenuDocument;
use crate::document::{Entry, KernelChoice, Starts};
use crate::ids::EntryId;
use crate::kernels::Newest;
use crate::place::{Place, fits};
use crate::resolve::{StartTarget, Surroundings, Within, resolve_entry};
use crate::text::{acts, shown};

/// The recipes that are compiled in, as a file of recipes writes them.
pub const BUILT_IN: &str = include_str!("../data/recipes.toml");

/// What braces in an entry stand for itself, and stays.
const OF_ENTRIES: [&str; 2] = ["root", "version"];

/// How one kind of system is started from an image file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ImageRecipe {
    /// Its name.
    pub id: String,
    /// Files that must all be there; `*` in the last part stands for any letters.
    pub files: Vec<String>,
    /// Kernels: the first that is there counts, together with an initrd.
    pub kernel: Vec<String>,
    /// Initrds: the first that is there counts.
    pub initrd: Vec<String>,
    /// Arguments, with fields in braces.
    pub args: String,
}

/// The built-in recipes for images. A test sees to it that the text is one that the desk's strict reader takes.
pub fn built_in() -> Vec<ImageRecipe> {
    let (root, _) = DeTable::parse_recoverable(BUILT_IN);
    let Some(DeValue::Array(recipes)) = root.get_ref().get("recipe").map(toml::Spanned::get_ref) else {
        return Vec::new();
    };
    let tables = recipes.iter().filter_map(|recipe| recipe.get_ref().as_table());
    tables.filter(|table| text(table, "for") == "image").map(image_recipe).collect()
}

fn image_recipe(table: &DeTable<'_>) -> ImageRecipe {
    let when = table.get("when").and_then(|when| when.get_ref().as_table());
    ImageRecipe {
        id: text(table, "id"),
        files: when.map(|when| texts(when, "files")).unwrap_or_default(),
        kernel: texts(table, "kernel"),
        initrd: texts(table, "initrd"),
        args: text(table, "args"),
    }
}

fn text(table: &DeTable<'_>, key: &str) -> String {
    table.get(key).and_then(|value| value.get_ref().as_str()).unwrap_or_default().to_string()
}

fn texts(table: &DeTable<'_>, key: &str) -> Vec<String> {
    let values = table.get(key).and_then(|value| value.get_ref().as_array());
    let values = values.into_iter().flat_map(|values| values.iter());
    values.filter_map(|value| value.get_ref().as_str().map(ToString::to_string)).collect()
}

impl ImageRecipe {
    /// Whether an image has the files that mark it.
    pub fn is_for(&self, around: &impl Surroundings, within: Within<'_>) -> bool {
        !self.files.is_empty()
            && self.files.iter().all(|path| {
                let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
                let folder = if folder.is_empty() { "/" } else { folder };
                let names = around.files(within, folder).ok().flatten().unwrap_or_default();
                names.iter().any(|own| fits(&name.to_lowercase(), &own.to_lowercase()))
            })
    }
}

/// Fields with their values; one that is there and has none says why.
#[derive(Debug, Default)]
pub struct Fields {
    values: Vec<(String, Result<String, String>)>,
}

impl Fields {
    /// A field that is what it is.
    pub fn set(&mut self, name: &str, value: Option<String>, otherwise: &str) {
        let value = value.ok_or_else(|| otherwise.to_string());
        match self.values.binary_search_by(|(own, _)| own.as_str().cmp(name)) {
            Ok(at) => self.values.splice(at..=at, [(name.to_string(), value)]).for_each(drop),
            Err(at) => self.values.insert(at, (name.to_string(), value)),
        }
    }

    /// Everything that a volume goes by.
    pub fn set_volume(&mut self, name: &str, around: &impl Surroundings, volume: usize) {
        let Some(identity) = around.volumes().get(volume) else { return };
        let fields = [
            ("uuid", identity.uuid.clone()),
            ("label", identity.label.clone()),
            ("partuuid", identity.part_uuid.clone()),
            ("partlabel", identity.part_label.clone()),
            ("partition", identity.partition.map(|number| number.to_string())),
        ];
        for (field, value) in fields {
            let otherwise = format!("{} has no {field}", identity.name);
            self.set(&format!("{name}.{field}"), value, &otherwise);
        }
    }

    /// What an image file goes by: its path, and label and UUID of the first volume in it.
    pub fn set_image(&mut self, path: &str, label: Option<String>, uuid: Option<String>) {
        self.set("path", Some(path.to_string()), "");
        self.set("image.label", label, "no volume in the image has a label");
        self.set("image.uuid", uuid, "no volume in the image has a UUID");
    }

    /// The text of a recipe with its fields filled in, each word as the kernel's own parser takes it
    /// (`Documentation/admin-guide/kernel-parameters.rst`): one with blanks in it is put into quotes. What is filled in stays
    /// as it is, braces included.
    ///
    /// # Errors
    /// Where a field has no value, there is none of this name, or a value cannot be handed over.
    pub fn fill(&self, recipe: &str, text: &str) -> Result<String, String> {
        let mut words = Vec::new();
        for word in text.split(' ') {
            words.push(self.word(recipe, word)?);
        }
        Ok(words.join(" "))
    }

    fn word(&self, recipe: &str, word: &str) -> Result<String, String> {
        let mut out = String::new();
        let mut rest = word;
        let mut has_blanks = false;
        while let Some((before, behind)) = rest.split_once('{') {
            out.push_str(before);
            let (name, behind) = behind
                .split_once('}')
                .ok_or_else(|| format!("recipe {recipe}: a {{ is not closed: {word}"))?;
            match self.values.iter().find(|(own, _)| own == name).map(|(_, value)| value) {
                Some(Ok(value)) if value.contains('"') || value.contains(acts) => {
                    return Err(format!(
                        "recipe {recipe}: {{{name}}} is {}, which no kernel takes as an argument",
                        shown(value)
                    ));
                }
                // Labels are names of devices to who reads them, with blanks as udev writes them.
                Some(Ok(value)) if name.ends_with("label") => out.push_str(&value.replace(' ', "\\x20")),
                Some(Ok(value)) => {
                    has_blanks |= value.contains(char::is_whitespace);
                    out.push_str(value);
                }
                Some(Err(why)) => return Err(format!("recipe {recipe} takes {{{name}}}: {why}")),
                None if OF_ENTRIES.contains(&name) => out.push_str(&format!("{{{name}}}")),
                None => {
                    let all = self.values.iter().map(|(own, _)| own.as_str()).collect::<Vec<_>>().join(", ");
                    return Err(format!("recipe {recipe}: there is no field {{{name}}}; there are {all}"));
                }
            }
            rest = behind;
        }
        out.push_str(rest);
        Ok(match out.split_once('=') {
            _ if !has_blanks => out,
            Some((key, value)) => format!("{key}=\"{value}\""),
            None => format!("\"{out}\""),
        })
    }
}

/// What a recipe takes of an image.
pub struct Pair {
    /// The kernel, as the recipe names it.
    pub kernel: String,
    /// The initrd, as the recipe names it.
    pub initrd: Option<String>,
    /// What that starts.
    pub target: StartTarget,
}

/// The first kernel of a list that is in the image with one of the initrds.
///
/// # Errors
/// Why none is, in words.
pub fn pair(
    around: &impl Surroundings,
    image: &Place,
    (kernels, initrds): (&[String], &[String]),
    args: &str,
) -> Result<Pair, String> {
    let initrds: Vec<Option<&String>> =
        if initrds.is_empty() { vec![None] } else { initrds.iter().map(Some).collect() };
    let mut faults = Vec::new();
    for kernel in kernels {
        for initrd in &initrds {
            let choice = match kernel.strip_prefix("newest:") {
                Some(pattern) => KernelChoice::Newest(Newest::parse(pattern)?),
                None => KernelChoice::Fixed(kernel.clone()),
            };
            let starts = Starts::Image {
                image: image.clone(),
                kernel: choice,
                initrd: initrd.iter().map(|initrd| (*initrd).clone()).collect(),
                args: args.to_string(),
            };
            let entry = Entry {
                id: EntryId::default(),
                title: String::new(),
                starts,
                group: None,
                symbol: None,
                tries: None,
                fallback: None,
                line: 0,
            };
            match resolve_entry(around, &MenuDocument::default(), &entry).target {
                Ok(target) => return Ok(Pair { kernel: kernel.clone(), initrd: initrd.cloned(), target }),
                Err(fault) => faults.push(fault.to_string()),
            }
        }
    }
    faults.dedup();
    Err(faults.join("; "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_filled_in_or_told() {
        let mut fields = Fields::default();
        fields.set_image("/systems/my lantern.img", None, Some("ab".into()));
        let text = |text: &str| fields.fill("lantern", text);
        assert_eq!(text("a={path} {root}").unwrap(), "a=\"/systems/my lantern.img\" {root}");
        assert_eq!(text("quiet b={image.uuid}").unwrap(), "quiet b=ab");
        let mut odd = Fields::default();
        odd.set_image("/{root}/{image.uuid}.img", Some("MY LANTERN".into()), Some("a\"b".into()));
        assert_eq!(
            odd.fill("r", "a={path}").unwrap(),
            "a=/{root}/{image.uuid}.img",
            "what is filled in stays text"
        );
        assert_eq!(
            odd.fill("r", "root=live:CDLABEL={image.label}").unwrap(),
            "root=live:CDLABEL=MY\\x20LANTERN"
        );
        assert!(odd.fill("r", "a={image.uuid}").unwrap_err().contains("no kernel takes"));
        assert_eq!(text("plain").unwrap(), "plain");
        for (wrong, hint) in [
            ("{image.label}", "takes {image.label}: no volume in the image has a label"),
            ("{image.lable}", "no field {image.lable}; there are image.label, image.uuid, path"),
            ("{path", "not closed"),
        ] {
            assert!(text(wrong).unwrap_err().contains(hint), "{wrong}");
        }
    }

    #[test]
    fn every_built_in_recipe_for_images_says_how_it_is_told_and_what_it_takes() {
        let recipes = built_in();
        assert!(recipes.len() >= 3);
        for recipe in recipes {
            let fields = [&recipe.id, &recipe.args];
            assert!(fields.iter().all(|field| !field.is_empty()), "{recipe:?}");
            assert!(
                [&recipe.files, &recipe.kernel, &recipe.initrd].iter().all(|list| !list.is_empty()),
                "{recipe:?}"
            );
        }
    }
}
