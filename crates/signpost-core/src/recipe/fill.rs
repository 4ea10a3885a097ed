//! Filling in a recipe's fields.

use std::collections::BTreeMap;

use signpost_menu::place::{Unresolved, VolumeRef};

use super::Recipe;
use crate::survey::{Look, Volume};

/// What braces in an entry stand for itself, and stays.
const OF_ENTRIES: [&str; 2] = ["root", "version"];

/// Fields with their values; one that is there and has none says why.
#[derive(Debug, Default)]
pub(crate) struct Fields {
    values: BTreeMap<String, Result<String, String>>,
}

impl Fields {
    /// A field that is what it is.
    pub(crate) fn set(&mut self, name: &str, value: Option<String>, otherwise: &str) {
        self.values.insert(name.to_string(), value.ok_or_else(|| otherwise.to_string()));
    }

    /// Everything that a volume goes by.
    pub(crate) fn set_volume(&mut self, name: &str, volume: &Volume) {
        let fields = [
            ("uuid", volume.uuid.clone()),
            ("label", volume.label.clone()),
            ("partuuid", volume.part_uuid.clone()),
            ("partlabel", volume.part_label.clone()),
            ("partition", volume.partition.map(|number| number.to_string())),
        ];
        for (field, value) in fields {
            let otherwise = format!("v{}, {}, has no {field}", volume.number, volume.where_it_is());
            self.set(&format!("{name}.{field}"), value, &otherwise);
        }
    }

    /// The volumes that a recipe names.
    ///
    /// # Errors
    /// Where one is not there: what was looked for, and what is there.
    pub(crate) fn set_named_volumes(&mut self, look: &Look<'_>, recipe: &Recipe) -> Result<(), String> {
        for (name, wanted) in &recipe.volumes {
            let wanted = VolumeRef::parse(wanted)?;
            let index = look
                .resolve(&wanted)
                .map_err(|error| format!("recipe {}, {name}: {}", recipe.id, told(look, &error)))?;
            self.set_volume(name, &look.survey.volumes[index]);
        }
        Ok(())
    }
}

/// A volume that is not there, with the place of the one that may be meant.
fn told(look: &Look<'_>, error: &Unresolved) -> String {
    let near = match error {
        Unresolved::None { near, .. } => near.as_ref().and_then(|near| VolumeRef::parse(near).ok()),
        Unresolved::Several { .. } => None,
    };
    match near.and_then(|near| look.resolve(&near).ok()) {
        Some(index) => format!("{error}, {}", look.survey.volumes[index].where_it_is()),
        None => error.to_string(),
    }
}

/// A recipe's text with its fields filled in.
///
/// # Errors
/// Where a field has no value, or there is none of this name.
pub(crate) fn text_of(recipe: &Recipe, text: &str, fields: &Fields) -> Result<String, String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once('{') {
        out.push_str(before);
        let (name, behind) = behind
            .split_once('}')
            .ok_or_else(|| format!("recipe {}: a {{ is not closed: {text}", recipe.id))?;
        match fields.values.get(name) {
            Some(Ok(value)) => out.push_str(&encoded(value)),
            Some(Err(why)) => return Err(format!("recipe {} takes {{{name}}}: {why}", recipe.id)),
            None if OF_ENTRIES.contains(&name) => out.push_str(&format!("{{{name}}}")),
            None => {
                let all = fields.values.keys().map(String::as_str).collect::<Vec<_>>().join(", ");
                return Err(format!("recipe {}: there is no field {{{name}}}; there are {all}", recipe.id));
            }
        }
        rest = behind;
    }
    out.push_str(rest);
    Ok(out)
}

/// A value as one word of kernel arguments: blanks as udev writes them in the names of devices.
fn encoded(value: &str) -> String {
    value.replace(' ', "\\x20")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::recipe::RecipeKind;

    #[test]
    fn fields_are_filled_in_or_told() {
        let recipe = Recipe {
            id: "lantern".into(),
            title: "Lantern".into(),
            kind: RecipeKind::Image,
            when: None,
            volumes: BTreeMap::new(),
            kernel: Vec::new(),
            initrd: Vec::new(),
            args: String::new(),
        };
        let mut fields = Fields::default();
        fields.set("path", Some("/systems/my lantern.img".into()), "");
        fields.set("image.label", None, "the image has no label");
        let text = |text: &str| text_of(&recipe, text, &fields);
        assert_eq!(text("a={path} {root}").unwrap(), "a=/systems/my\\x20lantern.img {root}");
        assert_eq!(text("plain").unwrap(), "plain");
        for (wrong, hint) in [
            ("{image.label}", "takes {image.label}: the image has no label"),
            ("{image.lable}", "no field {image.lable}; there are image.label, path"),
            ("{path", "not closed"),
        ] {
            assert!(text(wrong).unwrap_err().contains(hint), "{wrong}");
        }
    }
}
