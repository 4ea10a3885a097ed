//! Draft and policy as one: the menu file that a machine is to have, from what is on it and what the policy says.

use std::path::Path;

use signpost_facts::Result;
use signpost_place::Look;

use super::Policy;
use crate::draft::{Base, Draft, Wishes, draft};
use crate::edit::tune::Tuned;
use crate::menu_file::MenuFile;
use crate::menu_text::MenuText;
use crate::recipe::Recipes;

/// A draft that follows a policy.
pub struct Refreshed {
    /// The draft. Its text, and what the next draft compares with, are those that follow the policy.
    pub draft: Draft,
    /// What the policy changed in it.
    pub tuned: Tuned,
}

impl Policy {
    /// Drafts the menu of a machine as [`draft`] does, and has it follow the policy. Who shows the menu is set first, since what
    /// is offered depends on it.
    ///
    /// # Errors
    /// Those of [`draft`] and of [`Policy::follow`].
    pub fn draft(
        &self,
        look: &Look,
        recipes: &Recipes,
        path: &Path,
        existing: Option<&MenuFile>,
        wishes: Wishes,
        base: Base,
    ) -> Result<Refreshed> {
        let rehosted = existing.map(|menu| self.rehosted(menu)).transpose()?;
        let wishes = Wishes { new_host: self.host().unwrap_or(wishes.new_host), ..wishes };
        let mut draft = draft(look, path, rehosted.as_ref(), wishes, base)?;
        let tuned = self.follow(look, recipes, path, &draft.text)?;
        tuned.hidden.iter().for_each(|id| draft.base.forget(id));
        draft.text.clone_from(&tuned.text);
        draft.is_different = existing.is_none_or(|menu| menu.text != draft.text);
        Ok(Refreshed { draft, tuned })
    }

    fn rehosted(&self, menu: &MenuFile) -> Result<MenuFile> {
        let Some(host) = self.host().filter(|host| *host != menu.document.settings.host) else {
            return Ok(menu.clone());
        };
        let (mut text, _) = MenuText::of(menu)?;
        text.set_in("menu", "host", host.word().into())?;
        MenuFile::new(&menu.path, text.finish(&menu.path)?)
    }
}
