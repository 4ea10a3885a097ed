//! The variable store of the open-source UEFI firmware for virtual machines: one flash image, `*.fd`.
//!
//! Layout: a firmware volume (PI 1.8, vol. 3, 3.2.1) whose first block area is the variable store; behind
//! it lie the event log, the working and the spare area of the firmware's own fault-tolerant writes, which
//! are left alone. A variable is appended; its state byte only ever loses bits, as flash does, so a write
//! cut short leaves the old value or the new one.

mod layout;

use alloc::format;
use alloc::vec;
use alloc::vec::Vec;

use layout::{Header, Kind, State};

use crate::ucs2::Ucs2;
use crate::variable::{Attributes, Contents, StoreError, Variable, VariableName};

pub use layout::{STORE_SIZE, blank};

/// An `.fd` image in memory.
#[derive(Clone, Debug)]
pub struct FdImage {
    bytes: Vec<u8>,
    kind: Kind,
    /// Where variables may lie: after the store's header, up to its end.
    area: core::ops::Range<usize>,
}

/// Bytes to be put at an offset of the image; patches are written in their order, each on its own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Patch {
    /// Bytes from the start of the image.
    pub offset: usize,
    /// What to write there.
    pub bytes: Vec<u8>,
}

/// A variable's record in the store.
struct Record {
    offset: usize,
    end: usize,
    header: Header,
    name: VariableName,
    data: core::ops::Range<usize>,
}

impl FdImage {
    /// Takes an image, its headers checked.
    ///
    /// # Errors
    /// Where the image is cut short or its headers are not those of a variable store.
    pub fn decode(bytes: Vec<u8>) -> Result<Self, StoreError> {
        let (kind, area) = layout::find_store(&bytes)?;
        Ok(Self { bytes, kind, area })
    }

    /// The image as it is now.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Every variable that counts, and a line for a record that breaks the chain.
    pub fn contents(&self) -> Contents {
        let (records, _, fault) = self.walk();
        let mut variables: Vec<(State, Variable)> = Vec::new();
        for record in records {
            let state = record.header.state;
            if !state.is_active() {
                continue;
            }
            let variable = Variable {
                attributes: Attributes::from_bits_retain(record.header.attributes),
                data: Vec::from(self.bytes.get(record.data).unwrap_or_default()),
                name: record.name,
            };
            match variables.iter_mut().find(|(_, held)| held.name == variable.name) {
                // ADDED wins over IN_DELETED_TRANSITION; between equals the later one was written later.
                Some((held, _)) if *held == State::ADDED && state != State::ADDED => {}
                Some(slot) => *slot = (state, variable),
                None => variables.push((state, variable)),
            }
        }
        Contents {
            variables: variables.into_iter().map(|(_, variable)| variable).collect(),
            faults: fault.into_iter().map(|fault| format!("{fault}")).collect(),
        }
    }

    /// Bytes behind the last record, into which variables are written.
    pub fn room(&self) -> usize {
        let (_, end, _) = self.walk();
        self.area.end.saturating_sub(end)
    }

    /// Writes a variable into the image, and says by which patches, in the firmware's own order.
    ///
    /// # Errors
    /// [`StoreError::NoSpace`] where the end of the store is too near; a broken chain is not written to.
    pub fn write(&mut self, variable: &Variable) -> Result<Vec<Patch>, StoreError> {
        let (records, end, fault) = self.walk();
        if let Some(fault) = fault {
            return Err(fault);
        }
        let name = Ucs2::from(variable.name.name.as_str()).to_bytes_terminated();
        let header = Header {
            state: State::HEADER_VALID_ONLY,
            attributes: variable.attributes.bits(),
            name_size: name.len(),
            data_size: variable.data.len(),
            vendor: variable.name.vendor,
        };
        let header_bytes = header.encode(self.kind).ok_or_else(|| StoreError::Unfit {
            name: format!("{}", variable.name),
            why: "it is longer than the store's length fields can say",
        })?;
        let mut body = name;
        body.extend(&variable.data);
        let body_at = end.saturating_add(header_bytes.len());
        let needed = header_bytes.len().saturating_add(body.len());
        let free = self.area.end.saturating_sub(end);
        if needed > free {
            let reclaimable = records.iter().filter(|record| !record.header.state.is_active());
            return Err(StoreError::NoSpace {
                name: format!("{}", variable.name),
                needed,
                free,
                reclaimable: reclaimable.map(|record| record.end.saturating_sub(record.offset)).sum(),
            });
        }
        let old = active_at(&records, &variable.name);
        let mut patches = Vec::new();
        patches.extend(old.iter().map(|at| self.state_patch(*at, State::IN_DELETED_TRANSITION)));
        patches.push(Patch { offset: end, bytes: header_bytes });
        patches.push(Patch { offset: body_at, bytes: body });
        patches.push(Patch { offset: end.saturating_add(State::OFFSET), bytes: vec![State::ADDED.0] });
        patches.extend(old.iter().map(|at| self.state_patch(*at, State::DELETED_AFTER_TRANSITION)));
        self.apply(&patches);
        Ok(patches)
    }

    /// Removes a variable from the image, and says by which patches; none where it is not there.
    ///
    /// # Errors
    /// Where the chain of records is broken: it is then not written to.
    pub fn remove(&mut self, name: &VariableName) -> Result<Vec<Patch>, StoreError> {
        let (records, _, fault) = self.walk();
        if let Some(fault) = fault {
            return Err(fault);
        }
        let patches: Vec<Patch> =
            active_at(&records, name).iter().map(|at| self.state_patch(*at, State::DELETED)).collect();
        self.apply(&patches);
        Ok(patches)
    }

    /// Clears the bits of `mask` that are clear in it from the state of the record at `offset`.
    fn state_patch(&self, offset: usize, mask: State) -> Patch {
        let at = offset.saturating_add(State::OFFSET);
        let state = self.bytes.get(at).copied().unwrap_or_default() & mask.0;
        Patch { offset: at, bytes: vec![state] }
    }

    fn apply(&mut self, patches: &[Patch]) {
        for patch in patches {
            let end = patch.offset.saturating_add(patch.bytes.len());
            if let Some(target) = self.bytes.get_mut(patch.offset..end) {
                target.copy_from_slice(&patch.bytes);
            }
        }
    }

    /// All records, where the free space starts, and what broke the chain if something did.
    fn walk(&self) -> (Vec<Record>, usize, Option<StoreError>) {
        let mut records = Vec::new();
        let mut offset = self.area.start;
        // Bounded: every record is longer than its header, and the area is finite.
        loop {
            let header_end = offset.saturating_add(self.kind.header_len());
            if header_end > self.area.end {
                return (records, offset, None);
            }
            let bytes = self.bytes.get(offset..header_end).unwrap_or_default();
            if bytes.iter().all(|byte| *byte == 0xff) {
                return (records, offset, None);
            }
            match self.record(offset, header_end, bytes) {
                Ok(record) => {
                    offset = record.end;
                    records.push(record);
                }
                Err(fault) => return (records, offset, Some(fault)),
            }
        }
    }

    fn record(&self, offset: usize, header_end: usize, bytes: &[u8]) -> Result<Record, StoreError> {
        let header = Header::decode(self.kind, bytes).ok_or_else(|| StoreError::Malformed {
            offset,
            found: format!("bytes {:02x?}", bytes.get(..4).unwrap_or_default()),
            expected: "a variable that starts with 0x55aa, or erased space",
        })?;
        let name_end = header_end.saturating_add(header.name_size);
        let data_end = name_end.saturating_add(header.data_size);
        let past_end = || StoreError::Malformed {
            offset,
            found: format!(
                "a variable with a name of {} and data of {} bytes",
                header.name_size, header.data_size
            ),
            expected: "one that ends within the store",
        };
        if data_end > self.area.end {
            return Err(past_end());
        }
        let name = Ucs2::decode_lenient(self.bytes.get(header_end..name_end).ok_or_else(past_end)?);
        Ok(Record {
            offset,
            end: data_end.next_multiple_of(4),
            name: VariableName { name: format!("{name}"), vendor: header.vendor },
            header,
            data: name_end..data_end,
        })
    }
}

fn active_at(records: &[Record], name: &VariableName) -> Vec<usize> {
    records
        .iter()
        .filter(|record| record.header.state.is_active() && record.name == *name)
        .map(|record| record.offset)
        .collect()
}

#[cfg(test)]
mod tests;
