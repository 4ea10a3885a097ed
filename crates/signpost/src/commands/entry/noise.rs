use serde::Serialize;
use signpost_core::edit::{Noise, Quiet, noise, quieten};
use signpost_core::menu_file::MenuFile;
use signpost_place::Look;

use crate::app::App;
use crate::failure::Failure;
use crate::render::table::Table;

#[derive(Serialize)]
struct AllNoise {
    noise: Vec<Noise>,
}

/// Shows what is only noise; where it is to be hidden or removed, the file's text then, what was done, and the ids.
pub fn run(
    app: &App<'_>,
    look: &Look,
    menu: &MenuFile,
    (hide, remove): (bool, bool),
    is_trial: bool,
) -> Result<Option<(String, String, Vec<String>)>, Failure> {
    let all = AllNoise { noise: noise(look, &menu.document) };
    let how = match (hide, remove) {
        _ if all.noise.is_empty() => None,
        (true, _) => Some(Quiet::Hide),
        (_, true) => Some(Quiet::Remove),
        _ => None,
    };
    let Some(how) = how else {
        app.show(&all, || {
            text(&all.noise, "\n`signpost entry noise --hide` hides all of it, `--remove` removes it.\n")
        });
        return Ok(None);
    };
    let (verb, done) = if how == Quiet::Hide { ("Hide", "hidden") } else { ("Remove", "removed") };
    if !is_trial {
        app.confirm(|| text(&all.noise, ""), &format!("{verb} all of it?"))?;
    }
    let ids: Vec<String> = all.noise.iter().map(|noise| noise.id.to_string()).collect();
    let told = format!("{done}: {}", ids.join(", "));
    Ok(Some((quieten(menu, &all.noise, how)?, told, ids)))
}

fn text(noise: &[Noise], way: &str) -> String {
    if noise.is_empty() {
        return "No entry is only noise.\n".into();
    }
    let mut table = Table::new(&["id", "title", "why it is only noise"]);
    for one in noise {
        table.row([one.id.to_string(), one.title.clone(), one.why.clone()]);
    }
    table.text() + way
}
