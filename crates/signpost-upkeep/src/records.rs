//! The records of a machine as files, and copies of the last ones on the home volumes.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use signpost_core::history::{self, Action, History, Progress, Record};
use signpost_core::plan::safe;
use signpost_core::volume_of;
use signpost_facts::change::Change;
use signpost_facts::{Error, Result};
use signpost_firmware::variable::Contents;
use signpost_machine::{Machine, kept, now};
use signpost_place::{Look, home};

/// The records of a machine.
pub struct Records {
    folder: PathBuf,
    history: History,
}

impl Records {
    /// Reads the records; a folder that is not there has none. A record that cannot be read is a fault of its own.
    ///
    /// # Errors
    /// Where the folder cannot be read.
    pub fn open(folder: &Path) -> Result<Self> {
        let (mut records, mut faults) = (Vec::new(), Vec::new());
        for path in record_files(folder)? {
            let serial = path.file_stem().and_then(|stem| stem.to_str()?.parse::<u32>().ok());
            let read = |document| Record::read(document).map_err(|why| Error::unusable(path.display(), why));
            match kept::read(&path).and_then(|document| document.map(read).transpose()) {
                Ok(record) => records.extend(record),
                Err(error) => faults.push((serial, error.to_string())),
            }
        }
        Ok(Self { folder: folder.to_path_buf(), history: History::new(records, faults) })
    }

    /// The machine's records, with those that other systems of it left on the home volume.
    ///
    /// # Errors
    /// Where the machine's own cannot be read.
    pub fn of(machine: &Machine, look: &Look) -> Result<Self> {
        let mut records = Self::open(&machine.history_folder())?;
        for location in home::all(look).into_iter().filter_map(|home| look.location(home)) {
            let bytes = machine.read_file(location, &history::path(), history::MAX_LENGTH).ok().flatten();
            records.history.take_in(bytes.map(|bytes| history::decode(&bytes)).unwrap_or_default());
        }
        Ok(records)
    }

    /// Takes in records that a system of the machine keeps on its own disk.
    pub fn take_in(&mut self, records: Vec<Record>) {
        self.history.take_in(records);
    }

    /// What they tell, for who writes nothing.
    pub fn into_history(self) -> History {
        self.history
    }

    /// What they tell.
    pub fn history(&self) -> &History {
        &self.history
    }

    /// Writes a record before anything that it tells of is done.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn begin(&mut self, action: Action, writes: &[Change], before: &Contents) -> Result<u32> {
        let record = self.history.next(action, writes, before, now())?;
        let serial = record.serial;
        kept::write(&self.path(serial), &record)?;
        self.history.push(record);
        Ok(serial)
    }

    /// Notes how far the last step came.
    ///
    /// # Errors
    /// Where its record cannot be written.
    pub fn end(&mut self, progress: Progress) -> Result<()> {
        let folder = self.folder.clone();
        if let Some(record) = self.history.end(progress) {
            kept::write(&file(&folder, record.serial), record)?;
        }
        if progress == Progress::Done {
            self.forget_the_oldest();
        }
        Ok(())
    }

    fn path(&self, serial: u32) -> PathBuf {
        file(&self.folder, serial)
    }

    /// Keeps within the bounds.
    fn forget_the_oldest(&mut self) {
        let records = self.history.records();
        let size =
            |record: &Record| std::fs::metadata(self.path(record.serial)).map_or(0, |found| found.len());
        let sizes: Vec<u64> = records.iter().map(size).collect();
        let can_go = records.iter().take(self.history.can_be_forgotten(&sizes));
        // One that cannot be removed now goes another time; one that is a copy alone has no file here.
        let has_gone = |record: &&Record| {
            let path = self.path(record.serial);
            std::fs::remove_file(&path).is_ok() || !path.exists()
        };
        let gone = can_go.take_while(has_gone).count();
        self.history.forget(gone);
    }

    /// Writes copies of the last records onto the home volumes, where there is one; where the last step took a home away, they
    /// go with it.
    ///
    /// # Errors
    /// Where they cannot be written; they are then as they were.
    pub fn copy_to_homes(&self, machine: &Machine, look: &Look) -> Result<()> {
        let homes = home::all(look);
        self.take_copies_away(machine, look, &homes)?;
        homes.into_iter().try_for_each(|home| self.copy_to(machine, look, home))
    }

    fn copy_to(&self, machine: &Machine, look: &Look, home: usize) -> Result<()> {
        let Some(location) = look.location(home) else { return Ok(()) };
        if safe::of_volume(look, home).is_some() {
            return Ok(());
        }
        let records = self.history.records();
        let bytes = history::encode(records);
        let before = machine.read_file(location, &history::path(), history::MAX_LENGTH).ok().flatten();
        if records.is_empty() || before.as_ref() == Some(&bytes) {
            return Ok(());
        }
        machine.write_file(location, &history::path(), Some(&bytes))
    }

    fn take_copies_away(&self, machine: &Machine, look: &Look, homes: &[usize]) -> Result<()> {
        let last = self.history.records().last();
        let written = last.into_iter().flat_map(|record| &record.writes).filter_map(Change::file);
        let volumes = written.filter_map(|write| volume_of(look, write));
        let left: BTreeSet<usize> = volumes
            .filter(|volume| !homes.contains(volume))
            .filter(|volume| home::slots(look, *volume).iter().all(std::result::Result::is_err))
            .collect();
        for location in left.into_iter().filter_map(|volume| look.location(volume)) {
            if machine.read_file(location, &history::path(), history::MAX_LENGTH)?.is_some() {
                machine.write_file(location, &history::path(), None)?;
            }
        }
        Ok(())
    }
}

fn file(folder: &Path, serial: u32) -> PathBuf {
    folder.join(format!("{serial:04}.json"))
}

fn record_files(folder: &Path) -> Result<Vec<PathBuf>> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(Error::unusable(folder.display(), error)),
    };
    let mut files: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
    files.retain(|path| path.extension().is_some_and(|extension| extension == "json"));
    files.sort();
    Ok(files)
}
