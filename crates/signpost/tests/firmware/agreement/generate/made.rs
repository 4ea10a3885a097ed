//! A machine that was made, and what lies where.

use super::*;

/// A machine, with what lies where.
pub struct Made {
    pub spec: BenchSpec,
    pub text: String,
    pub slots: [Vec<u8>; 2],
    /// Changes to the firmware's entries, as they are typed behind `firmware`.
    pub changes: Vec<Vec<String>>,
    /// Whether the menu is made and applied by the program itself; else it lies there.
    pub is_drafted: bool,
    /// Disks that have an MBR: their images and signatures.
    pub mbr: Vec<(&'static str, u32)>,
    /// What the roots are.
    pub roots: Vec<Root>,
    /// Files of each disk's root.
    pub(super) files: Vec<Vec<(String, Vec<u8>)>>,
    /// The image of which another one is a copy.
    pub(super) clone_of: Option<&'static str>,
    /// Initrds: place and contents.
    pub(super) initrds: Vec<(String, Vec<u8>)>,
}

impl Made {
    /// The title of the program at a place of the rehearsal: the place by the disk's number as it was made.
    pub fn title_at(&self, place: &str) -> String {
        // Logical volumes and mirrors are called by their own names.
        let parts = place.strip_prefix('d').and_then(|rest| {
            let end = rest.find(|c: char| !c.is_ascii_digit())?;
            Some((rest[..end].parse::<usize>().ok()?, &rest[end..]))
        });
        let Some((disk, rest)) = parts else { return place.to_string() };
        let image = self.original(self.spec.disks[disk - 1].image);
        let made = IMAGES.iter().position(|name| *name == image).unwrap() + 1;
        format!("d{made}{rest}")
    }

    /// Codes of what a machine that nobody hurt may have: an update that is half done, a disk and its copy.
    pub fn may_have(&self) -> &'static [&'static str] {
        &["initrd-missing", "clone"]
    }

    /// The machine with its roots in it.
    pub fn complete(&self) -> BenchSpec {
        let mut spec = self.spec.clone();
        let originals: Vec<&str> = self.spec.disks.iter().map(|disk| self.original(disk.image)).collect();
        for (disk, original) in spec.disks.iter_mut().zip(originals) {
            let index = IMAGES.iter().position(|name| *name == original).unwrap();
            let kind = self.roots[index];
            let name = if kind == Root::Lvm { format!("tide{index}") } else { format!("kestrel{index}") };
            let root = roots::made(kind, &name, &root_uuid(index), &self.files[index]);
            disk.partitions[1].content = Content::Bytes(root);
        }
        spec
    }

    /// The image that one is a copy of, or itself.
    fn original<'i>(&'i self, image: &'i str) -> &'i str {
        if image == CLONE { self.clone_of.unwrap() } else { image }
    }

    /// Gives the disks that have one their MBR in place of the GPT.
    pub fn finish(&self, folder: &std::path::Path) {
        for (image, signature) in &self.mbr {
            let path = folder.join(image);
            let mut disk = std::fs::read(&path).unwrap();
            let entries: Vec<(u8, u32, u32)> = (0..2)
                .map(|number| {
                    let entry = 1024 + number * 128;
                    let lba =
                        |at: usize| u32::from_le_bytes(disk[entry + at..entry + at + 4].try_into().unwrap());
                    let kind = if number == 0 { 0xef } else { 0x83 };
                    (kind, lba(32), lba(40) - lba(32) + 1)
                })
                .collect();
            let length = disk.len();
            disk[..34 * 512].fill(0);
            disk[length - 33 * 512..].fill(0);
            disk[440..444].copy_from_slice(&signature.to_le_bytes());
            for (number, (kind, first, sectors)) in entries.into_iter().enumerate() {
                let at = 446 + number * 16;
                disk[at + 4] = kind;
                disk[at + 8..at + 12].copy_from_slice(&first.to_le_bytes());
                disk[at + 12..at + 16].copy_from_slice(&sectors.to_le_bytes());
            }
            disk[510..512].copy_from_slice(&[0x55, 0xaa]);
            std::fs::write(path, disk).unwrap();
        }
    }

    /// What a made-up system says of these initrds of the volume of a place, joined as the boot program does.
    pub fn joined_initrd(&self, place: &str, paths: &[&str]) -> String {
        if paths.is_empty() {
            return "none".into();
        }
        let made = self.title_at(place);
        let volume = made.split(':').next().unwrap();
        let mut joined = Vec::new();
        for path in paths {
            let wanted = format!("{volume}:{path}");
            let found = self.initrds.iter().find(|(place, _)| *place == wanted);
            joined.resize(joined.len().next_multiple_of(4), 0);
            joined.extend(&found.unwrap_or_else(|| panic!("no initrd {wanted}")).1);
        }
        format!("{} {:08x}", joined.len(), crc32fast::hash(&joined))
    }
}
