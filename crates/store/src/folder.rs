//! The data folder: one service at a time, and nobody else's rights on what is in it.

use crate::error::ServiceError;
use std::fs::{self, File};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// File in the data folder with the first operator's token.
pub const TOKEN_FILE: &str = "operator.token";

/// Makes the data folder and locks it, so that two services never write to one.
///
/// # Errors
/// The folder cannot be made, or another service runs on it.
pub fn take_folder(data: &Path) -> Result<File, ServiceError> {
    let failed = |source| ServiceError::DataFolder { path: data.to_owned(), source };
    fs::DirBuilder::new().recursive(true).mode(0o700).create(data).map_err(failed)?;
    for narrowed in narrow_modes(data).map_err(failed)? {
        tracing::warn!("{narrowed}");
    }
    let lock = fs::OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(data.join("lock")).map_err(failed)?;
    match lock.try_lock() {
        Ok(()) => Ok(lock),
        Err(fs::TryLockError::WouldBlock) => Err(ServiceError::InUse { path: data.to_owned() }),
        Err(fs::TryLockError::Error(source)) => Err(failed(source)),
    }
}

/// Takes rights of others away from the data folder and the files in it; says what it changed.
///
/// # Errors
/// The folder cannot be read, or a mode not be changed.
fn narrow_modes(data: &Path) -> std::io::Result<Vec<String>> {
    let mut narrowed = Vec::new();
    for (path, mode) in wide_modes(data)? {
        let wanted = mode & 0o700;
        fs::set_permissions(&path, fs::Permissions::from_mode(wanted))?;
        narrowed.push(format!("others could read `{}` (mode {mode:04o}); it has the mode {wanted:04o} now", path.display()));
    }
    Ok(narrowed)
}

/// The data folder and files in it that others have any right to, each with its mode.
///
/// # Errors
/// The folder cannot be read.
pub fn wide_modes(data: &Path) -> std::io::Result<Vec<(PathBuf, u32)>> {
    let mode_of = |meta: &fs::Metadata| meta.permissions().mode() & 0o7777;
    let mut wide = vec![(data.to_owned(), mode_of(&fs::metadata(data)?))];
    for entry in fs::read_dir(data)? {
        let (entry, meta) = entry.and_then(|entry| entry.metadata().map(|meta| (entry, meta)))?;
        // What a link leads to is somebody else's to protect.
        if meta.is_file() || meta.is_dir() {
            wide.push((entry.path(), mode_of(&meta)));
        }
    }
    wide.retain(|(_, mode)| mode & 0o077 != 0);
    Ok(wide)
}
