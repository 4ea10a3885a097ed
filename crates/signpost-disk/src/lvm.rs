//! LVM2: logical volumes by the text that their physical volumes carry (its `lib/format_text`: label, area of
//! metadata, text).

mod text;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ops::Deref;

use crate::block::{BlockDevice, ReadError, SharedDevice, read_vec};
use crate::bytes::{le32, le64, len};
use crate::checksum::crc32_seeded;
use text::Section;

const SECTOR: u64 = 512;
const MDA_HEADER: u64 = 512;
const MDA_MAGIC: &[u8] = b" LVM2 x[5A%r0N*>";
/// Bytes of metadata text.
const MAX_TEXT: u64 = 4 << 20;
/// What its checksums start from.
const CRC_START: u32 = 0xf597_a6cf;
/// Areas that a physical volume names.
const MAX_AREAS: usize = 16;
/// Segments of one logical volume.
const MAX_SEGMENTS: u64 = 10_000;

/// A logical volume.
pub struct LogicalVolume {
    /// Its group.
    pub group: String,
    /// Its name.
    pub name: String,
    /// Its bytes, or why they cannot be read.
    pub contents: Result<SharedDevice, String>,
    /// Those of the physical volumes that were handed over which it lies on.
    pub members: Vec<usize>,
}

/// A physical volume with what it says.
struct Physical {
    index: usize,
    device: SharedDevice,
    uuid: String,
    /// The name of its group, and the text; none where it leaves the text to other members.
    said: Option<(String, Section)>,
}

/// The visible logical volumes of all groups, by group and name; and what could not be read.
pub fn assemble(physical: &[SharedDevice]) -> (Vec<LogicalVolume>, Vec<String>) {
    let mut found = Vec::new();
    let mut faults = Vec::new();
    for (index, device) in physical.iter().enumerate() {
        match Physical::read(index, device) {
            Ok(physical) => found.push(physical),
            Err(why) => faults.push(why),
        }
    }
    faults.extend(doubled(&found).map(|uuid| {
        format!("the physical volume {uuid} is there twice: one is a copy, and nothing tells which")
    }));
    let mut volumes = Vec::new();
    let mut groups: Vec<(String, String)> =
        found.iter().filter_map(|physical| Some((physical.group()?.clone(), physical.group_id()?))).collect();
    groups.sort_unstable();
    groups.dedup();
    for (name, id) in &groups {
        let of_group = || found.iter().filter(|physical| physical.group_id().as_ref() == Some(id));
        // Each member carries the whole text; one that was away for a while carries an older one.
        let newest = of_group().max_by_key(|physical| physical.serial());
        if let Some(newest) = newest {
            // Members without a text of their own are known by the newest one.
            let members: Vec<&Physical> = found.iter().collect();
            volumes.extend(newest.volumes(name, &members));
        }
    }
    volumes.sort_unstable_by(|a, b| (&a.group, &a.name).cmp(&(&b.group, &b.name)));
    (volumes, faults)
}

/// Identities that two physical volumes have, as LVM2's tools write them.
fn doubled(found: &[Physical]) -> impl Iterator<Item = &str> {
    let is_second =
        |(index, own): &(usize, &Physical)| found.iter().take(*index).any(|before| before.uuid == own.uuid);
    found.iter().enumerate().filter(is_second).map(|(_, physical)| physical.uuid.as_str())
}

/// The sector with a physical volume's label, one of the first four; `read` gives a sector at an offset.
pub(crate) fn label<B: Deref<Target = [u8]>>(read: impl Fn(u64) -> Option<B>) -> Option<B> {
    (0u64..4).find_map(|sector| {
        let label = read(sector.checked_mul(SECTOR)?)?;
        (label.starts_with(b"LABELONE") && label.get(24..32) == Some(b"LVM2 001")).then_some(label)
    })
}

impl Physical {
    /// What it says, by the first of its areas that holds; one that belongs to no group yet, or leaves the text to other
    /// members, says nothing.
    fn read(index: usize, device: &SharedDevice) -> Result<Self, String> {
        let label = label(|offset| read_vec(device.as_ref(), offset, len(SECTOR)).ok());
        let label = label.ok_or("no label of LVM2 in the first four sectors")?;
        let broken = || "its label of LVM2 ends before its own fields do".to_string();
        let header = le32(&label, 20).and_then(|at| label.get(len(at)..)).ok_or_else(broken)?;
        let uuid = header.get(..32).ok_or_else(broken)?;
        let uuid = String::from_utf8_lossy(uuid).into_owned();
        let mut fault = None;
        for (offset, length) in metadata_areas(header).ok_or_else(broken)? {
            match said_in(device.as_ref(), offset, length) {
                Ok(None) => {}
                Ok(said) => return Ok(Self { index, device: device.clone(), uuid, said }),
                Err(why) => fault = fault.or(Some(why)),
            }
        }
        match fault {
            Some(why) => Err(why),
            None => Ok(Self { index, device: device.clone(), uuid, said: None }),
        }
    }

    fn group(&self) -> Option<&String> {
        self.said.as_ref().map(|(group, _)| group)
    }

    fn metadata(&self) -> Option<&Section> {
        self.said.as_ref().map(|(_, metadata)| metadata)
    }

    fn group_id(&self) -> Option<String> {
        self.metadata()?.text("id").map(ToString::to_string)
    }

    fn serial(&self) -> u64 {
        self.metadata().and_then(|metadata| metadata.number("seqno")).unwrap_or(0)
    }

    fn volumes(&self, group: &str, members: &[&Self]) -> Vec<LogicalVolume> {
        let Some(list) = self.metadata().and_then(|metadata| metadata.section("logical_volumes")) else {
            return Vec::new();
        };
        let visible = list
            .sections
            .iter()
            .filter(|(_, volume)| volume.list("status").iter().any(|word| word == "VISIBLE"));
        visible
            .map(|(name, volume)| {
                let mut used = Vec::new();
                let contents = self.mapped(volume, members, &mut used);
                used.sort_unstable();
                used.dedup();
                LogicalVolume {
                    group: group.to_string(),
                    name: name.clone(),
                    contents: contents.map(|mapped| alloc::sync::Arc::new(mapped) as SharedDevice),
                    members: used,
                }
            })
            .collect()
    }

    fn mapped(&self, volume: &Section, members: &[&Self], used: &mut Vec<usize>) -> Result<Mapped, String> {
        let extent = self.metadata().and_then(|metadata| metadata.number("extent_size"));
        let extent = extent.unwrap_or(0).saturating_mul(SECTOR);
        let count = volume.number("segment_count").unwrap_or(0);
        if extent == 0 || count > MAX_SEGMENTS {
            return Err(format!("extents of {extent} bytes in {count} segments are impossible"));
        }
        let mut mapped = Mapped { segments: Vec::new(), size: 0 };
        for number in 1..=count {
            let name = format!("segment{number}");
            let segment = volume.section(&name).ok_or_else(|| format!("its {name} is not there"))?;
            let kind = segment.text("type").unwrap_or("none");
            if kind != "striped" {
                return Err(format!("it is of the kind \"{kind}\"; linear and striped ones are read"));
            }
            let mut stripes = Vec::new();
            for pair in segment.list("stripes").chunks(2) {
                let [physical, at] = pair else { return Err("its stripes are not given in pairs".into()) };
                stripes.push(self.stripe(physical, at, extent, members, used)?);
            }
            let stripe_size = segment.number("stripe_size").unwrap_or(0).saturating_mul(SECTOR);
            if stripes.is_empty() || (stripes.len() > 1 && stripe_size == 0) {
                return Err(format!("its {name} has no stripes"));
            }
            let length = segment.number("extent_count").unwrap_or(0).saturating_mul(extent);
            let start = segment.number("start_extent").unwrap_or(0).saturating_mul(extent);
            if start != mapped.size {
                return Err(format!(
                    "its {name} starts at {start} bytes, the one before ends at {}",
                    mapped.size
                ));
            }
            mapped.size = mapped.size.saturating_add(length);
            mapped.segments.push(Segment { start, length, stripe_size: stripe_size.max(1), stripes });
        }
        Ok(mapped)
    }

    /// A stripe: the device, and where on it the stripe starts.
    fn stripe(
        &self,
        physical: &str,
        at: &str,
        extent: u64,
        members: &[&Self],
        used: &mut Vec<usize>,
    ) -> Result<(SharedDevice, u64), String> {
        let missing = || format!("its physical volume {physical} is not described");
        let described = self.metadata().and_then(|metadata| metadata.section("physical_volumes"));
        let described = described.and_then(|list| list.section(physical));
        let described = described.ok_or_else(missing)?;
        let uuid: String = described.text("id").unwrap_or_default().chars().filter(|c| *c != '-').collect();
        let named = described.text("id").unwrap_or_default();
        let mut fitting = members.iter().filter(|member| member.uuid == uuid);
        let member =
            fitting.next().ok_or_else(|| format!("its physical volume {named} is not in this machine"))?;
        if fitting.next().is_some() {
            return Err(format!(
                "its physical volume {named} is there twice: one is a copy, and nothing tells which"
            ));
        }
        used.push(member.index);
        let first = described.number("pe_start").unwrap_or(0).saturating_mul(SECTOR);
        let within = at.parse::<u64>().unwrap_or(u64::MAX).saturating_mul(extent);
        Ok((member.device.clone(), first.saturating_add(within)))
    }
}

/// The group and the text in an area of metadata; nothing where none was written yet.
fn said_in(device: &dyn BlockDevice, offset: u64, length: u64) -> Result<Option<(String, Section)>, String> {
    let head = read_vec(device, offset, len(MDA_HEADER)).map_err(|error: ReadError| error.to_string())?;
    if head.get(4..20) != Some(MDA_MAGIC) {
        return Err(format!("no area of LVM2's metadata at offset {offset}"));
    }
    let Some(text) = current_text(device, &head, offset, length)? else { return Ok(None) };
    Ok(text::parse(&text)?.sections.into_iter().next())
}

/// Offset and length of each area of metadata: behind the areas of data, and a pair of zeros.
fn metadata_areas(header: &[u8]) -> Option<Vec<(u64, u64)>> {
    let mut at = 40usize;
    for is_metadata in [false, true] {
        let mut areas = Vec::new();
        for _ in 0..MAX_AREAS {
            let pair = (le64(header, at)?, le64(header, at.checked_add(8)?)?);
            at = at.checked_add(16)?;
            if pair.0 == 0 {
                break;
            }
            areas.push(pair);
        }
        if is_metadata {
            return Some(areas);
        }
    }
    None
}

/// The text that counts. The area is a ring: the text may go on behind the area's own header.
fn current_text(
    device: &dyn BlockDevice,
    head: &[u8],
    area: u64,
    length: u64,
) -> Result<Option<String>, String> {
    let field = |at| le64(head, at).unwrap_or(0);
    let (offset, size, stored) = (field(40), field(48), le32(head, 56).unwrap_or(0));
    if size == 0 {
        return Ok(None);
    }
    if size > MAX_TEXT || offset < MDA_HEADER || offset > length || size > length {
        return Err(format!(
            "LVM2's metadata text of {size} bytes at {offset} does not fit its area of {length}"
        ));
    }
    let first = size.min(length.saturating_sub(offset));
    let at = area.saturating_add(offset);
    let mut text = read_vec(device, at, len(first)).map_err(|error| error.to_string())?;
    if first < size {
        let rest = len(size.saturating_sub(first));
        let at = area.saturating_add(MDA_HEADER);
        text.extend(read_vec(device, at, rest).map_err(|error| error.to_string())?);
    }
    if crc32_seeded(CRC_START, &text) != stored {
        return Err("LVM2's metadata text does not fit its checksum".into());
    }
    Ok(Some(String::from_utf8_lossy(&text).trim_end_matches('\0').to_string()))
}

/// A part of a logical volume.
struct Segment {
    start: u64,
    length: u64,
    stripe_size: u64,
    stripes: Vec<(SharedDevice, u64)>,
}

/// A logical volume's bytes.
struct Mapped {
    segments: Vec<Segment>,
    size: u64,
}

impl Segment {
    /// The device and offset of a byte within the segment, and how many follow it there.
    fn locate(&self, within: u64) -> Option<(&SharedDevice, u64, u64)> {
        let left = self.length.checked_sub(within)?;
        if let [(device, start)] = self.stripes.as_slice() {
            return Some((device, start.checked_add(within)?, left));
        }
        let count = u64::try_from(self.stripes.len()).ok()?;
        let chunk = within.checked_div(self.stripe_size)?;
        let inside = within.checked_rem(self.stripe_size)?;
        let (device, start) = self.stripes.get(len(chunk.checked_rem(count)?))?;
        let row = chunk.checked_div(count)?;
        let at = start.checked_add(row.checked_mul(self.stripe_size)?)?.checked_add(inside)?;
        Some((device, at, left.min(self.stripe_size.checked_sub(inside)?)))
    }
}

impl BlockDevice for Mapped {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let length = buffer.len();
        let past_end = || ReadError::past_end(offset, length, self.size);
        let (mut at, mut rest) = (offset, buffer);
        while !rest.is_empty() {
            let index = self.segments.partition_point(|segment| segment.start <= at).checked_sub(1);
            let segment = index.and_then(|index| self.segments.get(index)).ok_or_else(past_end)?;
            let within = at.saturating_sub(segment.start);
            let (device, from, there) =
                segment.locate(within).filter(|(_, _, there)| *there > 0).ok_or_else(past_end)?;
            let (piece, after) = rest.split_at_mut(len(there).min(rest.len()));
            device.read_at(from, piece)?;
            at = at.saturating_add(u64::try_from(piece.len()).unwrap_or(u64::MAX));
            rest = after;
        }
        Ok(())
    }
}
