//! Whether a FAT holds together: each cluster in one chain alone, and chains as long as their files.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use super::folder::FolderEntry;
use super::volume::{FatVolume, FatWindow, MAX_FOLDER, Reader};
use crate::error::VolumeError;

/// Files and folders that are looked at; more has no volume that firmware starts from.
const MAX_ITEMS: usize = 1 << 16;
/// Folders in one another.
const MAX_DEPTH: usize = 64;

impl FatVolume {
    /// Looks at every chain of clusters. Clusters that belong to nothing, and copies of the FAT that differ, do no harm and are
    /// skipped: a write that was cut leaves such.
    ///
    /// # Errors
    /// What does not hold together.
    pub fn check(&self) -> Result<(), VolumeError> {
        let reader = self.reader();
        let mut walk = Walk {
            owned: vec![0; usize::try_from(self.geometry.clusters / 8).unwrap_or(0).saturating_add(1)],
            items: 0,
        };
        if let Some(root) = self.geometry.root_cluster {
            walk.own(&reader, root, None, "/")?;
        }
        let mut folders: Vec<(String, usize, Vec<FolderEntry>)> =
            vec![(String::new(), 0, self.root()?.to_vec())];
        while let Some((above, depth, entries)) = folders.pop() {
            for entry in entries.iter().filter(|entry| entry.name != "." && entry.name != "..") {
                let path = [&above, "/", &entry.name].concat();
                walk.items = walk.items.saturating_add(1);
                if walk.items > MAX_ITEMS || depth > MAX_DEPTH {
                    return Err(VolumeError::Corrupt(format!(
                        "{path}: more files and folders than there can be"
                    )));
                }
                let size = (!entry.is_folder).then(|| u64::from(entry.size));
                if entry.first_cluster != 0 || size != Some(0) {
                    walk.own(&reader, entry.first_cluster, size, &path)?;
                }
                if entry.is_folder {
                    let below = self.entries(entry, &path)?.into_owned();
                    folders.push((path, depth.saturating_add(1), below));
                }
            }
        }
        Ok(())
    }
}

struct Walk {
    /// A bit for each cluster.
    owned: Vec<u8>,
    items: usize,
}

impl Walk {
    /// Takes a chain for a file of this size in bytes, or for a folder.
    fn own(
        &mut self,
        reader: &Reader<'_>,
        first: u32,
        size: Option<u64>,
        path: &str,
    ) -> Result<(), VolumeError> {
        let broken = |why: String| Err(VolumeError::Corrupt(format!("{path}: {why}")));
        let cluster_size = u64::from(reader.geometry.cluster_size).max(1);
        let most = size.unwrap_or(MAX_FOLDER).div_ceil(cluster_size);
        let mut table = FatWindow::new(reader);
        let (mut next, mut count) = (Some(first), 0u64);
        while let Some(cluster) = next {
            if !reader.geometry.has_cluster(cluster) {
                return broken(format!("its chain leads to cluster {cluster}"));
            }
            if count >= most && size.is_none() {
                return broken("it is longer than a folder can be".to_string());
            }
            let index = cluster.saturating_sub(2);
            let Some(byte) = self.owned.get_mut(usize::try_from(index / 8).unwrap_or(usize::MAX)) else {
                return broken(format!("its chain leads to cluster {cluster}"));
            };
            let bit = 1u8 << (index % 8);
            if *byte & bit != 0 {
                return broken(format!("cluster {cluster} is another file's too"));
            }
            *byte |= bit;
            count = count.saturating_add(1);
            next = table.next(cluster)?;
        }
        match size {
            Some(size) if count < most => broken(format!("its clusters end before its size of {size} bytes")),
            _ => Ok(()),
        }
    }
}
