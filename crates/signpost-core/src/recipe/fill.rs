//! Filling in a recipe's fields from a survey.

use signpost_menu::place::{Unresolved, VolumeRef};
use signpost_menu::recipe::Fields;
use signpost_place::Look;

use super::Recipe;

/// Fills in the volumes that a recipe names.
///
/// # Errors
/// Where one is not there: what was looked for, and what is there.
pub(crate) fn set_named_volumes(fields: &mut Fields, look: &Look, recipe: &Recipe) -> Result<(), String> {
    for (name, wanted) in &recipe.volumes {
        let wanted = VolumeRef::parse(wanted)?;
        let index = look
            .resolve(&wanted)
            .map_err(|error| format!("recipe {}, {name}: {}", recipe.id, told(look, &error)))?;
        fields.set_volume(name, look, index);
    }
    Ok(())
}

/// A volume that is not there, with the place of the one that may be meant.
fn told(look: &Look, error: &Unresolved) -> String {
    let near = match error {
        Unresolved::None { near, .. } => near.as_ref().and_then(|near| VolumeRef::parse(near).ok()),
        Unresolved::Several { .. } => None,
    };
    match near.and_then(|near| look.resolve(&near).ok()) {
        Some(index) => format!("{error}, {}", look.survey.volumes[index].where_it_is()),
        None => error.to_string(),
    }
}
