//! What a system of the machine knows of itself, read from its disk by a rescue medium, without mounting anything: what it applied,
//! what it did, what it saw, and its menu file.

use std::path::PathBuf;

use serde::de::DeserializeOwned;
use signpost_core::history::Record;
use signpost_core::hold::Kept;
use signpost_facts::known::Known;
use signpost_place::reader::VolumeReader;
use signpost_place::{Look, home};

/// No file of ours is longer, in bytes.
const MAX_FILE: usize = 8 << 20;
/// Where a system keeps its state, and its menu file.
const STATE: &str = "/var/lib/signpost";
const MENU_FILE: &str = "/etc/signpost/menu.toml";

/// What a system of the machine knows.
pub struct OfTheMachine {
    /// What it applied.
    pub kept: Option<Kept>,
    /// What it did.
    pub records: Vec<Record>,
    /// Its menu file's text.
    pub menu: Option<String>,
    /// Where the file can be written, where its volume is mounted.
    pub menu_path: Option<PathBuf>,
}

/// A root of the machine's own with our state on it.
struct Place<'l> {
    reader: &'l VolumeReader,
    /// The root's path on its volume, without a slash at its end.
    root: String,
    volume: usize,
    machine_id: Option<String>,
}

impl Place<'_> {
    fn read(&self, path: &str) -> Option<Vec<u8>> {
        self.reader.read(&format!("{}{path}", self.root), MAX_FILE).ok()
    }

    fn read_json<T: DeserializeOwned>(&self, path: &str) -> Option<T> {
        serde_json::from_slice(&self.read(path)?).ok()
    }
}

/// Reads it, where a rescue system runs; what is planned then is planned as that system would, and held against what it saw.
pub fn adopt(look: &mut Look) -> Option<OfTheMachine> {
    if !look.survey.machine.is_rescue {
        return None;
    }
    let (found, known, machine_id) = {
        let place = place(look)?;
        let records = records(&place);
        let mount = look.survey.volumes[place.volume].mounted.first();
        let menu_path = mount.map(|mount| PathBuf::from(format!("{mount}{}{MENU_FILE}", place.root)));
        let text = place.read(MENU_FILE).and_then(|bytes| String::from_utf8(bytes).ok());
        let kept = place.read_json(&format!("{STATE}/held.json"));
        let known: Option<Known> = place.read_json(&format!("{STATE}/known-disks.json"));
        (OfTheMachine { kept, records, menu: text, menu_path }, known, place.machine_id)
    };
    look.machine_id = machine_id.or(look.machine_id.take());
    if let Some(known) = known.filter(Known::is_current) {
        look.known = known;
    }
    Some(found)
}

/// The root whose system applied the menu that is active; where none is, the first that applied one.
fn place(look: &Look) -> Option<Place<'_>> {
    let active = look.fat_volumes().find_map(|volume| home::newest_slot(look, volume));
    let active = active.map(|(_, slot)| slot.machine);
    let all = look.systems.found.iter().enumerate().flat_map(|(volume, found)| {
        found.roots.iter().filter(|root| !root.is_snapshot).map(move |root| (volume, root))
    });
    let with_state = all.filter_map(|(volume, root)| {
        let reader = look.reader(volume)?;
        let path = root.path.trim_end_matches('/').to_string();
        let machine_id = root.machine_id.as_ref().map(|id| id.trim().to_string());
        let place = Place { reader, root: path, volume, machine_id };
        let has_state = place.reader.has_file(&format!("{}{STATE}/held.json", place.root));
        has_state.then_some(place)
    });
    let mut places: Vec<Place<'_>> = with_state.collect();
    let own = places.iter().position(|place| active.is_some() && place.machine_id == active).unwrap_or(0);
    (own < places.len()).then(|| places.swap_remove(own))
}

fn records(place: &Place<'_>) -> Vec<Record> {
    let folder = format!("{}{STATE}/history", place.root);
    let names = place.reader.list(&folder).unwrap_or_default();
    let names = names.into_iter().filter(|item| !item.is_folder && item.name.ends_with(".json"));
    let read = names.filter_map(|item| place.read_json(&format!("{STATE}/history/{}", item.name)));
    read.filter_map(|document| Record::read(document).ok()).collect()
}
