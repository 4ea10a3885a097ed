//! New entries: everything about them that can be looked up is looked up.

mod by_recipe;
mod kernel;

pub use kernel::Kernel;
use serde::Serialize;
use signpost_facts::{Family, Result, VolumeNumber};
use signpost_firmware::image::pe::Pe;
use signpost_menu::document::SectorManner;
use signpost_menu::ids::EntryId;
use signpost_menu::place::{Place, VolumeRef};
use signpost_menu::resolve::{StartTarget, Surroundings};
use signpost_menu::{ids, prompt};
use signpost_place::Look;
use signpost_place::hardware::HEAD;

use super::wrong;
use crate::draft::{self, Body, Offer};
use crate::menu_file::{self, MenuFile};
use crate::recipe::Recipes;
use crate::resolve::{ResolvedEntry, resolve};
use crate::ways;

/// What is to be added.
#[derive(Clone, Debug)]
pub enum NewEntry {
    /// An EFI program.
    Efi {
        /// Where it is.
        program: Place,
        /// The recipe for its arguments, where one is named.
        recipe: Option<String>,
    },
    /// The Linux system whose root is on a volume.
    Linux {
        /// The volume.
        on: VolumeRef,
        /// The recipe for it, where one is named.
        recipe: Option<String>,
    },
    /// A kernel by itself.
    Kernel {
        /// The kernel, with what goes with it.
        kernel: Kernel,
        /// The recipe for its arguments, where one is named.
        recipe: Option<String>,
    },
    /// A system inside an image file.
    Image {
        /// The image.
        image: Place,
        /// The recipe for it, where one is named.
        recipe: Option<String>,
    },
    /// A boot sector: of a volume, where the path is empty, or in a file.
    Sector {
        /// Where it is.
        place: Place,
    },
    /// An entry of the firmware's, by number or label.
    FirmwareEntry {
        /// Its number in hexadecimal, or its label.
        name: String,
    },
    /// What takes no more than its kind: a group, firmware setup, restart, power off.
    Plain {
        /// The word for it in the file.
        starts: &'static str,
        /// Its title where none is given.
        title: &'static str,
    },
}

/// An entry that was added.
#[derive(Clone, Debug, Serialize)]
pub struct AddedEntry {
    /// Its id.
    pub id: EntryId,
    /// Its title.
    pub title: String,
    /// Where what it says comes from.
    pub why: String,
    /// Whether it is new, and did not stand there already.
    pub is_new: bool,
}

/// The file's text with an entry more, behind all others; every file that it names is there, unless it goes unchecked.
///
/// # Errors
/// Where what it would start is not there: what there is.
pub fn add(
    look: &Look,
    menu: &MenuFile,
    recipes: &Recipes,
    new: &NewEntry,
    title: Option<&str>,
    is_unchecked: bool,
) -> Result<(String, AddedEntry)> {
    let (own_title, (body, why)) = match new {
        NewEntry::Efi { program, recipe } => {
            let (title, body) = efi(look, program, is_unchecked)?;
            (title, by_recipe::efi(look, recipes, recipe.as_deref(), program, body)?)
        }
        NewEntry::Linux { on, recipe } => {
            let (title, body) = linux(look, on, menu)?;
            (title, by_recipe::linux(look, recipes, recipe.as_deref(), on, body)?)
        }
        NewEntry::Kernel { kernel, recipe } => {
            let (title, body) = kernel::kernel(look, kernel, is_unchecked)?;
            let args = kernel.args.is_none();
            let recipe = recipe.as_deref().filter(|_| args);
            (title, by_recipe::kernel(look, recipes, recipe, &kernel.kernel.volume, body)?)
        }
        NewEntry::Image { image, recipe } => {
            by_recipe::image(look, recipes, recipe.as_deref(), image, is_unchecked)?
        }
        NewEntry::Sector { place } => sector(look, place)?,
        NewEntry::FirmwareEntry { name } => firmware_entry(look, name)?,
        NewEntry::Plain { starts, title } => {
            ((*title).to_string(), (vec![("starts", (*starts).into())], "made by hand".to_string()))
        }
    };
    let title = title.map_or(own_title, str::to_string);
    let taken: Vec<EntryId> = menu.document.entries.iter().map(|entry| entry.id.clone()).collect();
    let id = draft::free_id(&ids::slug(&title, "system"), &taken);
    let text = draft::append(&menu.text, &id, &Offer::by_hand(title.clone(), (body, why.clone())));
    let document = menu_file::check(&menu.path, &text)?;
    let resolved = resolve(look, &document);
    let Some(own) = resolved.iter().find(|resolved| resolved.entry.id == id) else {
        return Err(wrong(format!("{id} is not in the file")));
    };
    if let Some(held) = resolved.iter().find(|other| is_same(other, own)) {
        let (id, why) = (held.entry.id.clone(), "it is in the menu already".into());
        return Ok((menu.text.clone(), AddedEntry { id, title, why, is_new: false }));
    }
    if let Some(why) = own.target.as_ref().err().filter(|_| !is_unchecked) {
        return Err(wrong(format!("{title} would not start: {why}; --unchecked adds it anyway")));
    }
    Ok((text, AddedEntry { id, title, why, is_new: true }))
}

/// Whether another entry has the same title and starts the same: who adds that again is done.
fn is_same(other: &ResolvedEntry<'_>, own: &ResolvedEntry<'_>) -> bool {
    let starts_same = match (&other.target, &own.target) {
        (Ok(other), Ok(own)) if *own != StartTarget::BuiltIn => other == own,
        _ => other.entry.starts == own.entry.starts,
    };
    other.entry.id != own.entry.id && other.entry.title == own.entry.title && starts_same
}

fn efi(look: &Look, program: &Place, unchecked: bool) -> Result<(String, Body)> {
    let volume = super::entries::resolved(look, &program.volume)?;
    let (facts, path) = (&look.survey.volumes[volume], &program.path);
    let place = format!("{}{path}", look.stable_name(volume)?);
    if !unchecked {
        let reader = look
            .reader(volume)
            .ok_or_else(|| wrong(format!("{} cannot be looked into", facts.where_it_is())))?;
        let head = reader.read_head(path, HEAD).map_err(|error| {
            wrong(format!("{}: {error}{}", facts.where_it_is(), nearest_folder(look, volume, path)))
        })?;
        let size = reader.metadata(path).map_or(0, |found| found.size);
        let pe = Pe::decode(&head).map_err(|fault| fault.to_string());
        let refusal = pe.map_or_else(Some, |pe| pe.refusal(size));
        if let Some(why) = refusal {
            return Err(wrong(format!("{place}: {why}; --unchecked adds it anyway")));
        }
    }
    let system =
        look.survey.boot_file(volume, path).and_then(|file| look.survey.boot_files[file].system.clone());
    let title = system.and_then(|id| look.survey.system(&id).map(|system| system.title.clone()));
    let stem = path.rsplit('/').next().unwrap_or_default().split('.').next().unwrap_or_default().to_string();
    let why = format!("the program on {}", facts.where_it_is());
    let body = vec![("starts", "efi".into()), ("program", place.into())];
    Ok((title.unwrap_or(stem), (body, why)))
}

/// A volume's boot sector, called by the system that it starts; or one in a file.
fn sector(look: &Look, place: &Place) -> Result<(String, Body)> {
    let volume = super::entries::resolved(look, &place.volume)?;
    let name = look.stable_name(volume)?;
    let path = place.path.trim_end_matches('/');
    if !path.is_empty() {
        let stem = path.rsplit('/').next().unwrap_or_default().split('.').next().unwrap_or_default();
        let body = vec![("starts", "sector".into()), ("sector", format!("{name}{path}").into())];
        return Ok((stem.to_string(), (body, format!("the boot sector in {}", look.at(volume, path)))));
    }
    let target = StartTarget::Sector { volume, file: None, manner: SectorManner::default() };
    let title = ways::started_by(look, &target).first().map(|system| system.title.clone());
    let title = title.or_else(|| look.survey.volumes[volume].label.clone());
    let body = vec![("starts", "sector".into()), ("volume", name.to_string().into())];
    let sector = look.survey.boot_sector_of(VolumeNumber::of_index(volume));
    let partition = sector.map_or_else(|| look.name(volume).to_string(), |sector| sector.name.clone());
    Ok((title.unwrap_or_else(|| partition.clone()), (body, format!("the boot sector of {partition}"))))
}

/// The nearest folder that is there, and what stands in it.
fn nearest_folder(look: &Look, volume: usize, path: &str) -> String {
    let near = prompt::nearest_folder(look, volume, path);
    near.map(|(folder, names)| format!("; in {folder} there is {names}")).unwrap_or_default()
}

fn linux(look: &Look, on: &VolumeRef, menu: &MenuFile) -> Result<(String, Body)> {
    let volume = super::entries::resolved(look, on)?;
    let roots: Vec<_> = look
        .survey
        .systems
        .iter()
        .filter(|system| system.family == Family::Linux && system.root.is_some())
        .collect();
    let system =
        roots.iter().find(|system| system.root == Some(VolumeNumber::of_index(volume))).ok_or_else(|| {
            let there: Vec<String> = roots
                .iter()
                .filter_map(|system| Some(format!("{} on {}", system.title, look.survey.name(system.root?))))
                .collect();
            let there = if there.is_empty() { "none was found".to_string() } else { there.join(", ") };
            wrong(format!("no Linux system has its root on {}; {there}", look.name(volume)))
        })?;
    let body = draft::newest_kernel(look, system, menu.document.settings.host, "")?;
    let body = body.map_err(|why| {
        wrong(format!("{}: {why}; `signpost entry add efi` takes its own loader", system.title))
    })?;
    Ok((system.title.clone(), body))
}

fn firmware_entry(look: &Look, name: &str) -> Result<(String, Body)> {
    let entries = &look.survey.firmware.entries;
    let lower = name.to_lowercase();
    let matching: Vec<_> = entries
        .iter()
        .filter(|entry| {
            entry.number.to_string().eq_ignore_ascii_case(name) || entry.label.to_lowercase() == lower
        })
        .collect();
    let [entry] = matching.as_slice() else {
        let near = if matching.is_empty() { entries.iter().collect() } else { matching.clone() };
        let all: Vec<String> =
            near.iter().map(|entry| format!("{} \"{}\"", entry.number, entry.label)).collect();
        let what = if matching.is_empty() {
            "no entry of the firmware is called"
        } else {
            "several entries are called"
        };
        return Err(wrong(format!("{what} {name}; there are {}", all.join(", "))));
    };
    let body = draft::firmware_entry_body(look, entry)?;
    Ok((entry.label.clone(), (body, format!("the firmware's entry {}", entry.number))))
}
