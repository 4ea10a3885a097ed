//! The slots of a home volume, as they are.

use alloc::format;

use signpost_disk::file_system::FileSystem;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot, SlotFault};

/// Both slots of a volume. One that is not there counts as empty.
pub fn read<F: FileSystem + ?Sized>(files: &F) -> [Result<Slot, SlotFault>; 2] {
    SLOT_NAMES.map(|name| {
        let bytes =
            files.read_head(&format!("{HOME_FOLDER}/{name}"), SLOT_SIZE).map_err(|_| SlotFault::Empty)?;
        Slot::decode(&bytes)
    })
}
