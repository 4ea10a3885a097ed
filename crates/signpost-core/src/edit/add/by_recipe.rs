//! New entries whose arguments or files a recipe says.

use signpost_disk::probe::Identity;
use signpost_facts::Result;
use signpost_menu::place::{Place, VolumeRef};
use signpost_menu::recipe::{Fields, pair};
use signpost_menu::resolve::Surroundings;
use signpost_place::{Look, VolumeReader};

use super::nearest_folder;
use crate::draft::{Body, Field};
use crate::edit::entries::resolved;
use crate::edit::wrong;
use crate::recipe::{RecipeKind, Recipes, set_named_volumes};

/// Names of an image that are listed where no recipe fits.
const MAX_NAMES: usize = 12;

/// A system inside an image file: its title, and what its entry says.
pub(super) fn image(
    look: &Look,
    recipes: &Recipes,
    named: Option<&str>,
    image: &Place,
    is_unchecked: bool,
) -> Result<(String, Body)> {
    let volume = resolved(look, &image.volume)?;
    let inside = match look_inside(look, volume, &image.path) {
        Err(_) if is_unchecked => Vec::new(),
        looked => looked?,
    };
    let readable: Vec<(Option<String>, &VolumeReader)> = inside
        .iter()
        .filter_map(|(identity, reader)| Some((identity.label.clone(), reader.as_ref()?)))
        .collect();
    let recipe = match named {
        Some(id) => recipes.named(id, RecipeKind::Image).map_err(wrong)?,
        None => recipes.fitting(RecipeKind::Image, &readable).ok_or_else(|| {
            wrong(format!(
                "no recipe fits {}, which holds {}; `signpost entry recipes` lists them, --recipe names one",
                image.path,
                held(&readable)
            ))
        })?,
    };
    let mut fields = Fields::default();
    fields.set_volume("volume", look, volume);
    let first = inside.iter().find(|(_, reader)| reader.is_some()).map(|(identity, _)| identity.clone());
    let (label, uuid) = first.map(|identity| (identity.label, identity.uuid)).unwrap_or_default();
    fields.set_image(&image.path, label, uuid);
    set_named_volumes(&mut fields, look, recipe).map_err(wrong)?;
    let args = fields.fill(&recipe.id, &recipe.args).map_err(wrong)?;
    let place = Place { volume: look.stable_name(volume)?, path: image.path.clone() };
    let (kernel, initrd) = match pair(look, &place, (&recipe.kernel, &recipe.initrd), "") {
        Ok(pair) => (pair.kernel, pair.initrd),
        Err(_) if is_unchecked => {
            (recipe.kernel.first().cloned().unwrap_or_default(), recipe.initrd.first().cloned())
        }
        Err(why) => return Err(wrong(format!("recipe {}: {why}", recipe.id))),
    };
    let mut body =
        vec![("starts", "image".into()), ("image", place.to_string().into()), ("kernel", kernel.into())];
    if let Some(initrd) = initrd {
        body.push(("initrd", Field::List(vec![initrd])));
    }
    body.push(("args", args.into()));
    let is_it = |system: &&signpost_facts::System| {
        system.image.as_ref().is_some_and(|own| own.volume.index() == volume && own.path == image.path)
    };
    let title = look.survey.systems.iter().find(is_it).map_or_else(
        || image.path.rsplit('/').next().unwrap_or_default().to_string(),
        |system| system.title.clone(),
    );
    Ok((title, (body, format!("the image on {}, by recipe {}", look.whereabouts(volume), recipe.id))))
}

/// The volumes inside an image.
fn look_inside(look: &Look, volume: usize, path: &str) -> Result<Vec<(Identity, Option<VolumeReader>)>> {
    let at = look.survey.volumes[volume].where_it_is();
    let reader = look.reader(volume).ok_or_else(|| wrong(format!("{at} cannot be looked into")))?;
    let inside = reader.inside(path);
    inside.map_err(|error| wrong(format!("{at}: {error}{}", nearest_folder(look, volume, path))))
}

fn held(readable: &[(Option<String>, &VolumeReader)]) -> String {
    let Some((label, reader)) = readable.first() else { return "nothing that can be read".into() };
    let names: Vec<String> =
        reader.list("/").unwrap_or_default().into_iter().take(MAX_NAMES).map(|item| item.name).collect();
    let label = label.as_ref().map(|label| format!("label {label}, and ")).unwrap_or_default();
    format!("{label}{}", names.join(", "))
}

/// An EFI program's body, with the arguments of a recipe where one is named or fits its volume.
pub(super) fn efi(
    look: &Look,
    recipes: &Recipes,
    named: Option<&str>,
    program: &Place,
    body: Body,
) -> Result<Body> {
    let volume = resolved(look, &program.volume)?;
    let mut fields = Fields::default();
    fields.set("path", Some(program.path.clone()), "");
    on_volume(look, recipes, (named, RecipeKind::Efi), volume, fields, body)
}

/// A Linux system's body, with what a recipe says, where one is named or fits its root volume.
pub(super) fn linux(
    look: &Look,
    recipes: &Recipes,
    named: Option<&str>,
    on: &VolumeRef,
    body: Body,
) -> Result<Body> {
    let volume = resolved(look, on)?;
    on_volume(look, recipes, (named, RecipeKind::Linux), volume, Fields::default(), body)
}

/// A kernel's body, with what a recipe says where one is named: none is taken by itself for what a person put together.
pub(super) fn kernel(
    look: &Look,
    recipes: &Recipes,
    named: Option<&str>,
    volume: &VolumeRef,
    body: Body,
) -> Result<Body> {
    if named.is_none() {
        return Ok(body);
    }
    let volume = resolved(look, volume)?;
    on_volume(look, recipes, (named, RecipeKind::Linux), volume, Fields::default(), body)
}

fn on_volume(
    look: &Look,
    recipes: &Recipes,
    (named, kind): (Option<&str>, RecipeKind),
    volume: usize,
    mut fields: Fields,
    (mut body, why): Body,
) -> Result<Body> {
    let facts = &look.survey.volumes[volume];
    let recipe = match (named, look.reader(volume)) {
        (Some(id), _) => Some(recipes.named(id, kind).map_err(wrong)?),
        (None, Some(reader)) => recipes.fitting(kind, &[(facts.label.clone(), reader)]),
        (None, None) => None,
    };
    let Some(recipe) = recipe else { return Ok((body, why)) };
    fields.set_volume("volume", look, volume);
    set_named_volumes(&mut fields, look, recipe).map_err(wrong)?;
    let args = fields.fill(&recipe.id, &recipe.args).map_err(wrong)?;
    body.retain(|(key, _)| *key != "args");
    body.push(("args", args.into()));
    let mut put = |key: &'static str, value: Option<Field>| {
        let Some(value) = value else { return };
        match body.iter_mut().find(|(own, _)| *own == key) {
            Some((_, held)) => *held = value,
            None => body.push((key, value)),
        }
    };
    if kind == RecipeKind::Linux {
        put("kernel", recipe.kernel.first().map(|kernel| kernel.clone().into()));
        put("initrd", (!recipe.initrd.is_empty()).then(|| Field::List(recipe.initrd.clone())));
    }
    Ok((body, format!("{why}; by recipe {}", recipe.id)))
}
