//! Files that are there whole or not at all, over a power cut too, and that no link of others' leads elsewhere.

use std::{fs, io, io::Write, os::unix::fs::PermissionsExt, path::Path};

/// Writes a file in place of the one there: beside it under a name that nobody can know, made by us or not at all, with its
/// bytes on the disk before it has its name, and that there too where nothing had it yet.
///
/// # Errors
/// The system's; the file that was there is as it was.
pub fn write_whole(path: &Path, bytes: &[u8], mode: u32) -> io::Result<()> {
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut half = tempfile::Builder::new().prefix(".half-").tempfile_in(folder)?;
    half.write_all(bytes)?;
    half.as_file().set_permissions(fs::Permissions::from_mode(mode))?;
    half.as_file().sync_all()?;
    let is_new = fs::symlink_metadata(path).is_err();
    half.persist(path).map_err(|e| e.error)?;
    // Else a power cut leaves one of the two, each whole.
    if is_new { fs::File::open(folder)?.sync_all() } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_there_is_replaced_and_a_link_is_not_followed() {
        let dir = tempfile::tempdir().unwrap();
        let (path, other) = (dir.path().join("record.json"), dir.path().join("other"));
        fs::write(&other, "another's").unwrap();
        std::os::unix::fs::symlink(&other, &path).unwrap();
        write_whole(&path, b"ours", 0o640).unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), "ours");
        assert_eq!(fs::read_to_string(&other).unwrap(), "another's");
        assert_eq!(fs::symlink_metadata(&path).unwrap().permissions().mode() & 0o7777, 0o640);
        // Nothing is left beside it, nor where it could not be written.
        assert!(write_whole(&dir.path().join("nowhere/record.json"), b"", 0o600).is_err());
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2);
    }
}
