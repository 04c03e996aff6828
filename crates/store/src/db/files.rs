//! Files of the data folder: for their owner alone, and on the disk when it is said.

use std::fs::{self, File, OpenOptions, Permissions};
use std::io;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;

/// A file made by these options is its owner's alone.
pub(crate) fn private(options: &mut OpenOptions) {
    options.mode(0o600);
}

/// Takes a folder and what is directly in it away from everybody but its owner. Below that the folder's own rights keep others out.
pub(crate) fn close(folder: &Path) -> io::Result<()> {
    fs::set_permissions(folder, Permissions::from_mode(0o700))?;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        let mode = if kind.is_dir() {
            0o700
        } else if kind.is_file() {
            0o600
        } else {
            continue;
        };
        // One that went away meanwhile is nobody's.
        match fs::set_permissions(entry.path(), Permissions::from_mode(mode)) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
    }
    Ok(())
}

/// Puts the names in a folder on the disk: what was made, renamed or taken away.
pub(crate) fn sync_folder(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}
