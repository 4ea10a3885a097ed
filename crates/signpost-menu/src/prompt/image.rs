//! Composing a system inside an image file.

use alloc::format;
use alloc::string::{String, ToString};

use super::look::not_there;
use super::place::Found;
use super::{Composed, Hands};
use crate::linux_system::LinuxKernel;
use crate::place::{Place, VolumeRef};
use crate::recipe::{Fields, ImageRecipe, built_in, pair};
use crate::resolve::{StartTarget, Within};

/// Folders of an image in which kernels are looked for where no recipe knows it.
const USUAL: [&str; 6] = ["", "/boot", "/live", "/casper", "/install", "/images/pxeboot"];

/// A start of the system inside an image file, by the built-in recipe that fits it. Where none does, its kernel: how the
/// system finds its image is then left to who composes.
pub(super) fn compose(hands: &impl Hands, found: &Found) -> Result<Composed, String> {
    if hands.size(Within::volume(found.volume), &found.path).is_none() {
        return Err(not_there(hands, found));
    }
    let inside = hands.inside(found.volume, &found.path)?;
    let (label, uuid) =
        inside.ok_or_else(|| format!("{} holds no volume that can be looked into", found.path))?;
    let within = Within { volume: found.volume, image: Some(&found.path) };
    let at = hands.whereabouts(found.volume);
    let recipe = built_in().into_iter().find(|recipe| recipe.is_for(hands, within));
    let (target, from) = match recipe {
        Some(recipe) => {
            let mut fields = Fields::default();
            fields.set_volume("volume", hands, found.volume);
            fields.set_image(&found.path, label, uuid);
            (
                by_recipe(hands, found, &recipe, &fields)?,
                format!("the image on {at}, by recipe {}", recipe.id),
            )
        }
        None => {
            let from = format!("the image on {at}; no recipe fits it: `args` says how its system finds it");
            (by_kernel(hands, within, found)?, from)
        }
    };
    let title = found.path.rsplit('/').next().unwrap_or_default();
    Ok(Composed { title: String::from(title), target, from, is_newest: false })
}

fn by_recipe(
    hands: &impl Hands,
    found: &Found,
    recipe: &ImageRecipe,
    fields: &Fields,
) -> Result<StartTarget, String> {
    let args = fields.fill(&recipe.id, &recipe.args)?;
    let volume = VolumeRef::Name(hands.name(found.volume).to_string());
    let image = Place { volume, path: found.path.clone() };
    let pair = pair(hands, &image, (&recipe.kernel, &recipe.initrd), &args);
    Ok(pair.map_err(|why| format!("recipe {}: {why}", recipe.id))?.target)
}

/// The newest kernel in the folders where one usually lies.
fn by_kernel(hands: &impl Hands, within: Within<'_>, found: &Found) -> Result<StartTarget, String> {
    let mut kernels = USUAL.iter().flat_map(|folder| hands.kernels_in(within, folder));
    let LinuxKernel { path, initrds, .. } = kernels
        .next()
        .ok_or_else(|| format!("{} holds no kernel in {}", found.path, USUAL.join(" ").trim()))?;
    Ok(StartTarget::Image {
        volume: found.volume,
        image: found.path.clone(),
        kernel: path,
        initrds,
        args: String::new(),
    })
}
