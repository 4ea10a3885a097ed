//! The boot sector (section 3 of the specification), checked against the volume's size.

use alloc::format;
use alloc::string::String;

use zerocopy::byteorder::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout};

use crate::block::BlockDevice;
use crate::error::VolumeError;

/// BIOS parameter block, the fields that all FAT types share.
#[derive(FromBytes, KnownLayout, Immutable)]
#[repr(C)]
struct Bpb {
    bs_jmp_boot: [u8; 3],
    bs_oem_name: [u8; 8],
    bpb_byts_per_sec: U16,
    bpb_sec_per_clus: u8,
    bpb_rsvd_sec_cnt: U16,
    bpb_num_fats: u8,
    bpb_root_ent_cnt: U16,
    bpb_tot_sec_16: U16,
    bpb_media: u8,
    bpb_fat_sz_16: U16,
    bpb_sec_per_trk: U16,
    bpb_num_heads: U16,
    bpb_hidd_sec: U32,
    bpb_tot_sec_32: U32,
}

/// Width of the FAT's entries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FatType {
    /// 12 bits.
    Fat12,
    /// 16 bits.
    Fat16,
    /// 32 bits, of which 28 count.
    Fat32,
}

impl FatType {
    /// Offset in bytes of a cluster's entry in the FAT.
    pub(super) fn entry_offset(self, cluster: u32) -> u64 {
        let cluster = u64::from(cluster);
        match self {
            Self::Fat12 => cluster.saturating_add(cluster >> 1),
            Self::Fat16 => cluster << 1,
            Self::Fat32 => cluster << 2,
        }
    }

    /// Bytes that hold an entry.
    pub(super) fn entry_width(self) -> usize {
        match self {
            Self::Fat12 | Self::Fat16 => 2,
            Self::Fat32 => 4,
        }
    }

    /// The next cluster; `None` at a chain's end.
    pub(super) fn decode_entry(self, cluster: u32, entry: [u8; 4]) -> Option<u32> {
        let value = u32::from_le_bytes(entry);
        let (value, end) = match self {
            Self::Fat12 if cluster & 1 == 1 => (value >> 4 & 0xfff, 0xff8),
            Self::Fat12 => (value & 0xfff, 0xff8),
            Self::Fat16 => (value & 0xffff, 0xfff8),
            Self::Fat32 => (value & 0x0fff_ffff, 0x0fff_fff8),
        };
        (value < end).then_some(value)
    }
}

/// A volume's checked geometry; offsets and lengths in bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Geometry {
    /// Width of the FAT's entries.
    pub fat_type: FatType,
    /// Bytes in a cluster.
    pub cluster_size: u32,
    /// Number of clusters; they are numbered from 2.
    pub clusters: u32,
    /// The volume's serial.
    pub serial: u32,
    /// Whether the volume was in use when the machine went down (`BS_Reserved1`, as systems use it).
    pub is_unclean: bool,
    /// Why UEFI firmware does not read it (UEFI 2.10, 13.3, as the open-source firmware carries it out).
    pub firmware_refuses: Option<&'static str>,
    /// What keeps it from being whole: it can be read, and is not to be written to.
    pub flaw: Option<&'static str>,
    pub(super) fat_offset: u64,
    pub(super) fat_length: u64,
    pub(super) fat_copies: u8,
    /// FAT32: where the free summary stands.
    pub(super) info_offset: Option<u64>,
    pub(super) root_offset: u64,
    pub(super) root_length: u64,
    /// FAT32: where the root folder starts.
    pub(super) root_cluster: Option<u32>,
    data_offset: u64,
}

impl Geometry {
    /// Reads and checks the boot sector; `None` where it is none of FAT.
    ///
    /// # Errors
    /// Where it is one and its numbers cannot be true of this volume.
    pub fn read(device: &dyn BlockDevice) -> Result<Option<Self>, VolumeError> {
        let mut sector = [0; 512];
        if device.size() < 512 {
            return Ok(None);
        }
        device.read_at(0, &mut sector)?;
        let Ok((bpb, rest)) = Bpb::read_from_prefix(&sector) else { return Ok(None) };
        let unmarked = bpb.unmarked(&sector);
        let geometry = match (bpb.check(rest, device.size()), unmarked) {
            (Ok(geometry), _) => geometry,
            (Err(_), Some(_)) => return Ok(None),
            (Err(fault), None) => return Err(fault),
        };
        // Without its marks it is a FAT to firmware anyway; the first FAT says that these numbers are not accident.
        let mut first = [0; 2];
        if unmarked.is_some()
            && (device.read_at(geometry.fat_offset, &mut first).is_err() || first[1] != 0xff)
        {
            return Ok(None);
        }
        let is_unclean = geometry.is_unclean || geometry.is_marked_in_use(device);
        Ok(Some(Self { flaw: unmarked.or(geometry.flaw), is_unclean, ..geometry }))
    }

    /// Whether the second entry of the first FAT says that the volume was not shut down (`ClnShutBitMask`, section 4).
    fn is_marked_in_use(&self, device: &dyn BlockDevice) -> bool {
        const HAS_NO_CLUSTER: u32 = 1;
        let clean = match self.fat_type {
            FatType::Fat12 => return false,
            FatType::Fat16 => 0x8000,
            FatType::Fat32 => 0x0800_0000,
        };
        let (offset, width) = self.entry_at(HAS_NO_CLUSTER);
        let mut entry = [0; 4];
        let read = entry.get_mut(..width).map(|entry| device.read_at(offset, entry));
        matches!(read, Some(Ok(()))) && u32::from_le_bytes(entry) & clean == 0
    }

    /// Where a cluster's entry stands in the first FAT: offset in the volume, and bytes that hold it.
    pub(super) fn entry_at(&self, cluster: u32) -> (u64, usize) {
        (self.fat_offset.saturating_add(self.fat_type.entry_offset(cluster)), self.fat_type.entry_width())
    }

    pub(super) fn has_cluster(&self, cluster: u32) -> bool {
        cluster >= 2 && cluster.saturating_sub(2) < self.clusters
    }

    pub(super) fn cluster_offset(&self, cluster: u32) -> u64 {
        let index = u64::from(cluster.saturating_sub(2));
        self.data_offset.saturating_add(index.saturating_mul(self.cluster_size.into()))
    }
}

/// A field that cannot be what it is.
fn lie<T>(field: &str, found: u64, expected: String) -> Result<T, VolumeError> {
    Err(VolumeError::Corrupt(format!("FAT boot sector: {field} is {found}, expected {expected}")))
}

impl Bpb {
    /// What of the marks that tell a FAT boot sector from any other is not there.
    fn unmarked(&self, sector: &[u8; 512]) -> Option<&'static str> {
        let jump = matches!(self.bs_jmp_boot, [0xeb, _, 0x90] | [0xe9, _, _]);
        let media = self.bpb_media >= 0xf8 || self.bpb_media == 0xf0;
        match () {
            () if !sector.ends_with(&[0x55, 0xaa]) => Some("its boot sector does not end in 55AA"),
            () if !jump => Some("its boot sector does not start with a jump"),
            () if !media => Some("its media byte is not a valid one"),
            () => None,
        }
    }

    /// Why firmware does not take a FAT with these numbers.
    fn refused(&self, fat_32: bool, version: u32, flags: u32, clusters: u32) -> Option<&'static str> {
        const MOST_OF_FAT16: u32 = 0xfff5;
        let media = self.bpb_media >= 0xf8 || matches!(self.bpb_media, 0xf0 | 0 | 1);
        match () {
            () if !media => Some("its media byte is not one that firmware accepts"),
            () if fat_32 && version != 0 => Some("it is of a version that firmware does not know"),
            () if fat_32 && flags & 0x80 != 0 => {
                Some("one of its FATs alone is in use, which firmware does not take")
            }
            () if fat_32 && clusters < MOST_OF_FAT16 => Some("it has too few clusters for FAT32"),
            () if !fat_32 && clusters >= MOST_OF_FAT16 => Some("it has too many clusters for FAT16"),
            () if !fat_32 && self.bpb_root_ent_cnt.get() == 0 => Some("its root folder has no room"),
            () => None,
        }
    }

    /// The fields that both kinds have, each within what it can be; sectors of the volume, as it says.
    fn check_shared(&self, room: u64) -> Result<u64, VolumeError> {
        let sector = u64::from(self.bpb_byts_per_sec.get());
        if !matches!(sector, 512 | 1024 | 2048 | 4096) {
            return lie("BPB_BytsPerSec", sector, "512, 1024, 2048 or 4096".into());
        }
        if !self.bpb_sec_per_clus.is_power_of_two() {
            return lie("BPB_SecPerClus", self.bpb_sec_per_clus.into(), "a power of two".into());
        }
        if self.bpb_rsvd_sec_cnt.get() == 0 {
            return lie("BPB_RsvdSecCnt", 0, "at least 1".into());
        }
        if !(1..=4).contains(&self.bpb_num_fats) {
            return lie("BPB_NumFATs", self.bpb_num_fats.into(), "1 or 2".into());
        }
        let total = match (self.bpb_tot_sec_16.get(), self.bpb_tot_sec_32.get()) {
            (0, total) => u64::from(total),
            (total, _) => u64::from(total),
        };
        if total == 0 || room == 0 {
            return lie("BPB_TotSec", total, format!("1 to {room}, what the volume has room for"));
        }
        Ok(total)
    }

    fn check(&self, rest: &[u8], size: u64) -> Result<Geometry, VolumeError> {
        let sector = u64::from(self.bpb_byts_per_sec.get());
        let per_cluster = self.bpb_sec_per_clus;
        let room = size.checked_div(sector).unwrap_or(0);
        let total = self.check_shared(room)?;
        let fat_32 = self.bpb_fat_sz_16.get() == 0;
        let u32_at = |offset: usize| {
            rest.get(offset..).and_then(|rest| rest.first_chunk()).copied().map_or(0, u32::from_le_bytes)
        };
        // Behind the shared fields FAT32 has 28 bytes more, then both have the same extended block.
        let fat_sectors = if fat_32 { u64::from(u32_at(0)) } else { u64::from(self.bpb_fat_sz_16.get()) };
        let reserved = u64::from(self.bpb_rsvd_sec_cnt.get());
        let root_start = fat_sectors.saturating_mul(self.bpb_num_fats.into()).saturating_add(reserved);
        let root_entries = if fat_32 { 0 } else { self.bpb_root_ent_cnt.get() };
        let root_length = u64::from(root_entries).saturating_mul(32);
        let data_start = root_start.saturating_add(root_length.div_ceil(sector));
        if fat_sectors == 0 || data_start >= total {
            return lie(
                "BPB_FATSz",
                fat_sectors,
                format!("1 and more, with all FATs inside of {total} sectors"),
            );
        }
        let clusters = total.saturating_sub(data_start).checked_div(per_cluster.into()).unwrap_or(0);
        let clusters = u32::try_from(clusters).unwrap_or(u32::MAX);
        let fat_type = match clusters {
            _ if fat_32 => FatType::Fat32,
            0..4085 => FatType::Fat12,
            _ => FatType::Fat16,
        };
        let fat_length = fat_sectors.saturating_mul(sector);
        let last = fat_type.entry_offset(clusters.saturating_add(2));
        if last > fat_length.saturating_add(1) {
            return lie("BPB_FATSz", fat_sectors, format!("enough sectors for {clusters} clusters"));
        }
        // `BPB_ExtFlags`: bit 7 says that one FAT alone is written to, bits 0 to 3 which.
        let flags = if fat_32 { u32_at(4) & 0xffff } else { 0 };
        let active = if flags & 0x80 != 0 { u64::from(flags & 0xf) } else { 0 };
        if active >= u64::from(self.bpb_num_fats) {
            return lie("BPB_ExtFlags", active, format!("one of {} FATs, from 0", self.bpb_num_fats));
        }
        let geometry = Geometry {
            fat_type,
            cluster_size: u32::from(per_cluster).saturating_mul(self.bpb_byts_per_sec.get().into()),
            clusters,
            serial: u32_at(if fat_32 { 31 } else { 3 }),
            is_unclean: u32_at(if fat_32 { 29 } else { 1 }) & 1 != 0,
            firmware_refuses: self.refused(fat_32, u32_at(6) & 0xffff, flags, clusters),
            flaw: (total > room).then_some("it says that it is longer than its partition"),
            fat_offset: reserved.saturating_mul(sector).saturating_add(active.saturating_mul(fat_length)),
            fat_length,
            fat_copies: self.bpb_num_fats,
            info_offset: fat_32
                .then(|| u64::from(u32_at(12) & 0xffff))
                .filter(|info| (1..reserved).contains(info))
                .map(|info| info.saturating_mul(sector)),
            root_offset: root_start.saturating_mul(sector),
            root_length,
            root_cluster: fat_32.then(|| u32_at(8)),
            data_offset: data_start.saturating_mul(sector),
        };
        match geometry.root_cluster.filter(|cluster| !geometry.has_cluster(*cluster)) {
            Some(cluster) => {
                lie("BPB_RootClus", cluster.into(), format!("2 to {}", clusters.saturating_add(1)))
            }
            None => Ok(geometry),
        }
    }
}
