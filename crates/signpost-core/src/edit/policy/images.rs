//! Systems in image files, which draft leaves out: a policy adds them by their titles, and their recipe says how they start.

use std::path::Path;

use signpost_facts::Result;
use signpost_menu::place::Place;
use signpost_place::Look;

use super::follow::Said;
use super::names::Names;
use super::{ADD, Named, Policy};
use crate::edit::{NewEntry, add};
use crate::menu_file::MenuFile;
use crate::recipe::Recipes;

impl Policy {
    /// The text of a menu file with an entry for each system in an image that the policy adds and that has none.
    pub(super) fn with_images(
        &self,
        (look, recipes): (&Look, &Recipes),
        path: &Path,
        text: &str,
        said: &mut Said,
    ) -> Result<String> {
        let mut text = text.to_string();
        for named in &self.added {
            // A file with errors is told as a whole, where the rest of the policy is set.
            let Ok(menu) = MenuFile::new(path, text.clone()) else { break };
            if let Some(new) = missing(look, &menu, named, said)? {
                match add(look, &menu, recipes, &new, None, false) {
                    Ok((with, added)) => {
                        if added.is_new {
                            said.differs(ADD.into(), added.title, "not there".into());
                        }
                        text = with;
                    }
                    Err(why) => said.problems.push(named.at.problem(format!("{ADD}: {why}"))),
                }
            }
        }
        Ok(text)
    }
}

/// The entry that a system lacks; nothing where it has one, or fits nothing here.
fn missing(look: &Look, menu: &MenuFile, named: &Named, said: &mut Said) -> Result<Option<NewEntry>> {
    let names = Names::new(look, &menu.document);
    let systems = names.systems_alone(&named.name);
    if systems.is_empty() && names.entries(&named.name).is_err() {
        said.fits_nothing(ADD, named);
        return Ok(None);
    }
    let has_entry = !names.only_for(|id| systems.iter().any(|system| system.id == id)).is_empty();
    let Some(image) = systems.iter().find_map(|system| system.image.as_ref()).filter(|_| !has_entry) else {
        return Ok(None);
    };
    let volume = look.stable_name(image.volume.index())?;
    let image = Place { volume, path: image.path.clone() };
    Ok(Some(NewEntry::Image { image, recipe: None }))
}
