//! Changing entries: their titles, their order, whether they are there.

use serde::Serialize;
use signpost_facts::{Code, Refusal, Result};
use signpost_menu::MenuDocument;
use signpost_menu::document::{DefaultEntry, Hidden, Hide};
use signpost_menu::ids::EntryId;
use signpost_menu::kernel_args::{changed_words, is_change};
use signpost_menu::place::{Mistyped, Place, VolumeRef};
use signpost_place::Look;
use toml_edit::{Item, Table, Value};

use super::wrong;
use crate::menu_file::{self, MenuFile};
use crate::menu_text::{MenuText, set};
use crate::named::{find, find_group};
use crate::resolve::{resolve, resolve_entry};
use crate::ways::started_by;

/// Where an entry goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Where {
    /// Before all others.
    Top,
    /// Behind all others.
    Bottom,
    /// Before this entry.
    Before(String),
    /// Behind this entry.
    After(String),
    /// Into this group, behind its other members.
    Into(String),
    /// Out of its group.
    Out,
}

/// A `[[hide]]` with what it says.
#[derive(Clone, Debug, Serialize)]
pub struct HiddenThing {
    /// What is hidden: `entry larkspur-12`.
    pub what: String,
    /// Why.
    pub why: Option<String>,
}

/// The file's text with another title for an entry; and the entry's id.
///
/// # Errors
/// Where there is no such entry.
pub fn rename(menu: &MenuFile, name: &str, title: &str) -> Result<(String, EntryId)> {
    change(menu, name, |table| {
        set(table, "title", Value::from(title));
        Ok(())
    })
}

/// The file's text with other values for an entry's keys (`args=quiet`), and without those that are dropped; and the
/// entry's id before.
///
/// # Errors
/// Where there is no such entry, or it would not hold any more: what is wrong with it.
pub fn edit(
    look: &Look,
    menu: &MenuFile,
    name: &str,
    (assignments, drops): (&[String], &[String]),
    is_unchecked: bool,
) -> Result<(String, EntryId)> {
    let (text, id) = change(menu, name, |table| {
        for (key, value) in assigned(assignments)? {
            if key == "args" && is_change(&value) {
                let held = table.get(&key).and_then(Item::as_str).unwrap_or_default();
                let changed = changed_words(held, &value).map_err(wrong)?;
                set(table, &key, Value::from(changed));
                continue;
            }
            set(table, &key, value_of(&key, &stable(look, &key, &value)?));
        }
        for key in drops {
            if table.remove(key).is_none() {
                let keys: Vec<&str> = table.iter().map(|(key, _)| key).collect();
                return Err(wrong(format!("the entry has no {key}; it has {}", keys.join(", "))));
            }
        }
        Ok(())
    })?;
    if !is_unchecked {
        check_start(look, menu, &text, name, &id)?;
    }
    Ok((text, id))
}

/// Keys and values as typed.
fn assigned(assignments: &[String]) -> Result<Vec<(String, String)>> {
    let pair = |assignment: &String| {
        let (key, value) = assignment
            .split_once('=')
            .ok_or_else(|| wrong(format!("{assignment} has no value; write it as title=\"Larkspur\"")))?;
        Ok((key.trim().to_string(), value.trim().to_string()))
    };
    assignments.iter().map(pair).collect()
}

/// An entry that started something before must do so after: what it names is there.
fn check_start(look: &Look, menu: &MenuFile, text: &str, name: &str, id: &str) -> Result<()> {
    let before = &menu.document;
    let index = find(before, name)?;
    let after = menu_file::check(&menu.path, text)?;
    let (Some(held), Some(entry)) = (before.entries.get(index), after.entries.get(index)) else {
        return Ok(());
    };
    let fault = resolve_entry(look, &after, entry).target.err();
    let fault = fault.filter(|_| held.starts != entry.starts);
    match fault {
        Some(fault) => Err(wrong(format!("{id} would not start: {fault}; --unchecked adds it anyway"))),
        None => Ok(()),
    }
}

/// The file's text with a change to one entry; and the entry's id before.
fn change(
    menu: &MenuFile,
    name: &str,
    call: impl FnOnce(&mut Table) -> Result<()>,
) -> Result<(String, EntryId)> {
    let (mut text, document) = MenuText::of(menu)?;
    let index = find(&document, name)?;
    call(entry(&mut text, index)?)?;
    Ok((text.finish(&menu.path)?, document.entries[index].id.clone()))
}

/// A place as a person names it (`d2p1:/EFI/x.efi`) as one that holds; everything else as it is.
fn stable(look: &Look, key: &str, value: &str) -> Result<String> {
    let names_volume = matches!(key, "volume" | "root" | "program" | "target" | "image");
    // What a menu file takes stands there as it was written, the volume being there or not.
    let is_kept = |place: Place| place.volume.is_stable();
    if !names_volume || Place::parse(value).is_ok_and(is_kept) {
        return Ok(value.to_string());
    }
    let place = look.typed(value).map_err(|error| wrong(error.to_string()))?;
    let name = look.stable_name(resolved(look, &place.volume)?)?.to_string();
    Ok(if matches!(key, "volume" | "root") { name } else { format!("{name}{}", place.path) })
}

/// A value as the file holds it: most are text, initrds a list.
fn value_of(key: &str, value: &str) -> Value {
    // What is no value of its kind stands as text, and the file's own check says what is wrong with it.
    match key {
        "initrd" => value.split_whitespace().collect::<toml_edit::Array>().into(),
        // Of one's own, its lines are parted by commas: a word of ours has no blank in it.
        "symbol" if value.contains(' ') => {
            value.split(',').map(|line| line.trim().to_string()).collect::<toml_edit::Array>().into()
        }
        "tries" => value.parse::<i64>().map_or_else(|_| value.into(), Into::into),
        "handover" | "active" | "as-first-disk" | "first-sector" => {
            value.parse::<bool>().map_or_else(|_| value.into(), Into::into)
        }
        _ => value.into(),
    }
}

/// The file's text with an entry in another place; and the entry's id.
///
/// # Errors
/// Where there is no such entry, or it cannot go there.
pub fn move_entry(menu: &MenuFile, name: &str, to: &Where) -> Result<(String, EntryId)> {
    let (mut text, document) = MenuText::of(menu)?;
    let from = find(&document, name)?;
    let id = document.entries[from].id.clone();
    let target = match to {
        Where::Top => 0,
        Where::Bottom => document.entries.len() - 1,
        Where::Before(other) => before(from, find(&document, other)?),
        Where::After(other) => before(from, find(&document, other)? + 1),
        Where::Into(group) => {
            let group_id = find_group(&document, group)?;
            let group = find(&document, group)?;
            set(entry(&mut text, from)?, "in", Value::from(group_id.as_str()));
            let is_member =
                |entry: &signpost_menu::document::Entry| entry.group.as_deref() == Some(&group_id);
            let last = document.entries.iter().rposition(is_member).unwrap_or(group);
            before(from, last + 1)
        }
        Where::Out => {
            if entry(&mut text, from)?.remove("in").is_none() {
                return Err(wrong(format!("{id} is in no group")));
            }
            from
        }
    };
    let mut order: Vec<usize> = (0..document.entries.len()).collect();
    order.remove(from);
    order.insert(target.min(order.len()), from);
    text.reorder(&order)?;
    Ok((text.finish(&menu.path)?, id))
}

/// An index among the others, once the entry itself is taken out of the list.
fn before(from: usize, index: usize) -> usize {
    if index > from { index - 1 } else { index }
}

/// The file's text without an entry; its id, and what stands against it.
///
/// # Errors
/// Where there is no such entry, or it is the default.
pub fn remove(look: &Look, menu: &MenuFile, name: &str) -> Result<(String, EntryId, Option<Refusal>)> {
    let (mut text, document) = MenuText::of(menu)?;
    let (id, refusal) = take_out(look, &mut text, &document, name)?;
    Ok((text.finish(&menu.path)?, id, refusal))
}

/// Takes an entry out; its id, and what stands against it.
fn take_out(
    look: &Look,
    text: &mut MenuText,
    document: &MenuDocument,
    name: &str,
) -> Result<(EntryId, Option<Refusal>)> {
    let index = find(document, name)?;
    let id = document.entries[index].id.clone();
    if document.settings.default == DefaultEntry::Id(id.clone()) {
        return Err(wrong(format!("{id} is the default; `signpost tune default=…` names another one first")));
    }
    let members: Vec<&str> = document
        .entries
        .iter()
        .filter(|entry| entry.group.as_ref() == Some(&id))
        .map(|entry| entry.id.as_str())
        .collect();
    if !members.is_empty() {
        return Err(wrong(format!(
            "{id} is a group with {} in it; `signpost entry move {} out`, or `signpost entry remove` for each, comes first",
            members.join(", "),
            members[0]
        )));
    }
    if let Some(other) = document.entries.iter().find(|entry| entry.fallback.as_ref() == Some(&id)) {
        return Err(wrong(format!(
            "{id} is the fallback of {other}; `signpost entry edit {other} fallback=…` names another one first",
            other = other.id
        )));
    }
    let mut after = document.clone();
    after.entries.remove(index);
    let refusal = last_way(look, document, &after, &|_| false);
    text.sections("entry")?.remove(index);
    Ok((id, refusal))
}

/// The guard against a change to the menu after which nothing in it starts a system that something in it started, and that is
/// wanted.
pub(super) fn last_way(
    look: &Look,
    before: &MenuDocument,
    after: &MenuDocument,
    is_unwanted: &dyn Fn(&signpost_facts::System) -> bool,
) -> Option<Refusal> {
    let starts = |document: &MenuDocument| -> Vec<String> {
        let resolved = resolve(look, document);
        let targets = resolved.iter().filter_map(|entry| entry.target.as_ref().ok());
        targets.flat_map(|target| started_by(look, target)).map(|system| system.id.clone()).collect()
    };
    let (before, after) = (starts(before), starts(after));
    let is_lost = |system: &&signpost_facts::System| {
        before.contains(&system.id) && !after.contains(&system.id) && !is_unwanted(system)
    };
    let lost = look.survey.systems.iter().find(is_lost);
    lost.map(|system| Refusal {
        code: Code::LastWay,
        message: format!("no other entry of the menu starts {}", system.title),
        way: "`signpost entry move` puts it at the end, or into a group; `signpost entry add` gives the system an entry of its own".into(),
    })
}

/// The same, for a text that is to become the file's.
///
/// # Errors
/// Where one of the two does not hold.
pub fn loses(look: &Look, menu: &MenuFile, text: &str) -> Result<Option<Refusal>> {
    Ok(last_way(look, &menu.document, &menu_file::check(&menu.path, text)?, &|_| false))
}

/// The file's text with a `[[hide]]` more: what draft never offers again. An entry goes from the menu too.
///
/// # Errors
/// Where it names nothing that is there.
pub fn hide(
    look: &Look,
    menu: &MenuFile,
    what: &str,
    why: Option<&str>,
) -> Result<(String, HiddenThing, Option<Refusal>)> {
    let (mut text, document) = MenuText::of(menu)?;
    let mut refusal = None;
    // What is hidden already, and so stands in the menu no more, is named as `reveal` names it.
    let is_hidden_entry = |hide: &&Hide| hide.what == Hidden::Entry(what.to_string().into());
    if let Some(held) =
        document.hidden.iter().find(is_hidden_entry).filter(|_| document.entry(what).is_none())
    {
        return Ok((text.finish(&menu.path)?, thing(held), None));
    }
    let (key, value) = if let Some(system) = look.survey.systems.iter().find(|system| system.title == what) {
        ("system", system.title.clone())
    } else if find(&document, what).is_err()
        && let Some(place) = place_named(look, what)?
    {
        let name = look.stable_name(resolved(look, &place.volume)?)?;
        match place.path.as_str() {
            "" | "/" => ("volume", name.to_string()),
            path => ("file", format!("{name}{path}")),
        }
    } else {
        let (id, stands) = take_out(look, &mut text, &document, what)?;
        refusal = stands;
        ("entry", id.into())
    };
    let named = format!("{key} {value}");
    if let Some(held) = document.hidden.iter().map(thing).find(|held| held.what == named) {
        return Ok((text.finish(&menu.path)?, held, refusal));
    }
    text.hide(key, &value, why)?;
    let thing = HiddenThing { what: format!("{key} {value}"), why: why.map(str::to_string) };
    Ok((text.finish(&menu.path)?, thing, refusal))
}

pub(super) fn resolved(look: &Look, volume: &VolumeRef) -> Result<usize> {
    look.resolve(volume).map_err(|error| wrong(error.to_string()))
}

/// The place that a person names; nothing where no volume is called so, which may be an entry's name.
fn place_named(look: &Look, what: &str) -> Result<Option<Place>> {
    match look.typed(what) {
        Ok(place) => Ok(Some(place)),
        Err(Mistyped::Unknown { .. }) => Ok(None),
        Err(error) => Err(wrong(error.to_string())),
    }
}

/// The file's text with a `[[hide]]` less: draft offers it again.
///
/// # Errors
/// Where none or several go by this name: what there is.
pub fn reveal(menu: &MenuFile, what: &str) -> Result<(String, HiddenThing)> {
    let (mut text, document) = MenuText::of(menu)?;
    let things: Vec<HiddenThing> = document.hidden.iter().map(thing).collect();
    let is_it = |thing: &HiddenThing| {
        thing.what == what || thing.what.split_once(' ').is_some_and(|(_, own)| own == what)
    };
    let found: Vec<usize> = (0..things.len()).filter(|index| is_it(&things[*index])).collect();
    let [index] = found.as_slice() else {
        let all = things.iter().map(|thing| thing.what.as_str()).collect::<Vec<_>>().join(", ");
        let all = if all.is_empty() { "nothing".to_string() } else { all };
        return Err(wrong(format!("{what} is not among what is hidden, which is: {all}")));
    };
    text.sections("hide")?.remove(*index);
    Ok((text.finish(&menu.path)?, things[*index].clone()))
}

/// All that is hidden.
pub fn hidden(document: &MenuDocument) -> Vec<HiddenThing> {
    document.hidden.iter().map(thing).collect()
}

fn thing(hide: &Hide) -> HiddenThing {
    let what = match &hide.what {
        Hidden::Entry(id) => format!("entry {id}"),
        Hidden::Volume(volume) => format!("volume {volume}"),
        Hidden::System(title) => format!("system {title}"),
        Hidden::File(place) => format!("file {place}"),
    };
    HiddenThing { what, why: hide.why.clone() }
}

fn entry(text: &mut MenuText, index: usize) -> Result<&mut Table> {
    text.sections("entry")?.get_mut(index).ok_or_else(|| wrong("the file has changed; try again"))
}
