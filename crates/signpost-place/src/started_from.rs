//! A machine as it stands around a menu that starts from a place which may be another than home is now: the one where a plan puts
//! it, or the second of two homes. And with what a plan makes of files and of the firmware's entries, in a forecast.

use alloc::borrow::Cow;
use alloc::string::String;
use alloc::vec::Vec;

use signpost_facts::DiskNumber;
use signpost_firmware::bios::code::{FirstCode, SectorCode};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::image::pe::MachineType;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::resolve::{Firmware, LoadOptionSeen};

use crate::finder::{Systems, WithSystems};
use crate::hardware::SurveyedHardware;
use crate::load_options;
use crate::look::{Look, identities};
use crate::reader::VolumeReader;
use crate::surroundings::stands_around_a_menu;
use crate::volumes::{Seen, Volumes};

/// A machine, seen from where its menu starts.
pub struct StartedFrom<'l> {
    look: &'l Look,
    /// The disk whose first sector starts the menu, with BIOS firmware.
    disk: Option<DiskNumber>,
    identities: Cow<'l, [VolumeIdentity]>,
    /// In a forecast: the boot variables, and what the firmware sees, as they will be.
    forecast: Option<(&'l BootVariables, &'l SurveyedHardware<'l>)>,
}

impl<'l> StartedFrom<'l> {
    /// From a volume, by its index.
    pub fn volume(look: &'l Look, volume: usize) -> Self {
        let identities = if look.home == Some(volume) {
            Cow::Borrowed(look.identities.as_slice())
        } else {
            Cow::Owned(identities(look, Some(volume), &look.disks_of(volume)))
        };
        Self { look, disk: None, identities, forecast: None }
    }

    /// From a disk's first sector.
    pub fn disk(look: &'l Look, disk: DiskNumber) -> Self {
        let is_home = look.survey.boot_sectors.home().is_some_and(|home| home.disk == disk);
        let identities = if is_home {
            Cow::Borrowed(look.identities.as_slice())
        } else {
            Cow::Owned(identities(look, None, &[disk]))
        };
        Self { look, disk: Some(disk), identities, forecast: None }
    }

    /// The same with the firmware's entries as these variables have them, and files as that hardware has them.
    pub fn in_forecast(self, boot: &'l BootVariables, hardware: &'l SurveyedHardware<'l>) -> Self {
        Self { forecast: Some((boot, hardware)), ..self }
    }
}

impl Volumes for StartedFrom<'_> {
    fn identities(&self) -> &[VolumeIdentity] {
        &self.identities
    }

    fn seen(&self, volume: usize) -> Option<Seen<'_>> {
        self.look.seen(volume)
    }

    fn disks_of(&self, volume: usize) -> Vec<DiskNumber> {
        self.look.disks_of(volume)
    }

    fn takes_part(&self, disk: DiskNumber) -> bool {
        self.look.takes_part(disk)
    }

    fn system_ids(&self) -> Vec<(String, usize)> {
        Volumes::system_ids(self.look)
    }

    fn fault(&self, volume: usize) -> Option<String> {
        self.look.fault(volume)
    }

    fn opened(&self, volume: usize) -> Option<&VolumeReader> {
        self.look.opened(volume)
    }

    fn machine_type(&self) -> MachineType {
        self.look.machine_type()
    }

    fn firmware(&self) -> Firmware {
        Volumes::firmware(self.look)
    }

    fn sector(&self, volume: usize) -> Option<(String, SectorCode)> {
        self.look.sector(volume)
    }

    fn first_sector(&self, volume: usize) -> Option<(String, FirstCode, bool)> {
        let (name, code, is_home) = Volumes::first_sector(self.look, volume)?;
        let lies_on = self.look.survey.volumes.get(volume)?.disk;
        Some((name, code, self.disk.map_or(is_home, |disk| disk == lies_on)))
    }

    fn options(&self) -> Vec<LoadOptionSeen> {
        match self.forecast {
            Some((boot, hardware)) => load_options::seen(boot, hardware, self.look),
            None => self.look.options(),
        }
    }

    fn planned(&self, volume: usize, path: &str) -> Option<Option<&[u8]>> {
        self.forecast?.1.planned(volume, path)
    }

    fn planned_in(&self, volume: usize, folder: &str) -> Vec<(&str, bool)> {
        self.forecast.map_or_else(Vec::new, |(_, hardware)| hardware.planned_in(volume, folder))
    }
}

impl WithSystems for StartedFrom<'_> {
    fn systems(&self) -> &Systems {
        self.look.systems()
    }
}

stands_around_a_menu!(StartedFrom<'_>);
