//! What is remembered from start to start, beside a menu among the sectors of a disk.

use signpost_facts::change::SectorWrite;
use signpost_facts::{Error, Result};
use signpost_firmware::bios::SECTOR;
use signpost_menu::state::State;
use signpost_place::Look;

use super::identity;

/// Remembers a text, or nothing, under one of our names: the write, into the sector that does not count now; none where it is so.
///
/// # Errors
/// Where no menu of ours is active, or its disk cannot be told from others.
pub(crate) fn remember(
    look: &Look,
    name: &str,
    text: Option<&str>,
    what: String,
) -> Result<Option<SectorWrite>> {
    let held = look.survey.boot_sectors.home().and_then(|first| Some((first.disk, first.ours.as_ref()?)));
    let (disk, sectors) = held.ok_or_else(|| Error::WrongUse("no menu of ours is active".into()))?;
    let (index, state) = sectors.state();
    let Some(sector) = state.with(name, text).as_ref().and_then(State::encode) else { return Ok(None) };
    let other = sectors.area.state(if index == 0 { 1 } else { 0 });
    Ok(Some(SectorWrite {
        what,
        disk: identity(look, disk)?.clone(),
        offset: u64::from(other).saturating_mul(SECTOR as u64),
        before: None,
        after: Some(sector.to_vec()),
    }))
}
