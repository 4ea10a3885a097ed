//! Folders that are ours alone.

use signpost_menu::picture_place::is_picture_path;
use signpost_menu::slot::HOME_FOLDER;

/// The folder of a file, where it is one that is ours alone.
pub(crate) fn own_folder(path: &str) -> Option<&str> {
    let (folder, _) = path.rsplit_once('/')?;
    (folder.eq_ignore_ascii_case(HOME_FOLDER) || is_picture_path(path)).then_some(folder)
}
