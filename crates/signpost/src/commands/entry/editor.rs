//! An entry's text in somebody's editor.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::process::Command;

use signpost_core::edit::{block, replace_block};
use signpost_core::menu_file::MenuFile;
use signpost_menu::ids::EntryId;

use crate::app::App;
use crate::failure::Failure;
use crate::render::out;

/// The file's text with the entry as it was edited, and the entry's id; `None` where it was left as it was. A text that
/// does not hold can be edited again at a terminal; else it is kept, and nothing is changed.
pub fn edit(app: &App<'_>, menu: &MenuFile, name: &str) -> Result<Option<(String, EntryId)>, Failure> {
    let (before, id) = block(menu, name)?;
    let mut file = tempfile::Builder::new().prefix("signpost-").suffix(".toml").tempfile()?;
    file.write_all(before.as_bytes())?;
    loop {
        run_editor(file.path())?;
        let after = std::fs::read_to_string(file.path())?;
        if after == before {
            return Ok(None);
        }
        match replace_block(menu, &id, &after) {
            Ok(changed) => return Ok(Some(changed)),
            Err(error) if std::io::stdin().is_terminal() => {
                out::error(&error.to_string());
                app.confirm(String::new, "Edit it again?")?;
            }
            Err(error) => {
                let (_, kept) = file.keep().map_err(|error| Failure::Other(error.to_string()))?;
                out::note(&format!("Your text is kept in {}.\n", kept.display()));
                return Err(error.into());
            }
        }
    }
}

/// Runs the editor as the shell would, since the variable may hold options.
fn run_editor(file: &Path) -> Result<(), Failure> {
    let set = |name| std::env::var(name).ok().filter(|editor| !editor.trim().is_empty());
    let editor = ["VISUAL", "EDITOR"].into_iter().find_map(set).ok_or_else(|| {
        Failure::Usage(
            "neither VISUAL nor EDITOR names an editor; `signpost entry edit ENTRY KEY=VALUE` needs none"
                .into(),
        )
    })?;
    let status =
        Command::new("/bin/sh").arg("-c").arg(format!("{editor} \"$1\"")).arg("sh").arg(file).status()?;
    if status.success() {
        return Ok(());
    }
    Err(Failure::Other(format!("the editor, {editor}, ended with {status}; nothing was changed")))
}
