//! What is not there, and what could not be looked at: one is an answer, and the other says nothing (R14).

use std::io;

/// What was read of something that may be gone: none where it is. All other failures say nothing of it: this program may have no
/// descriptor left, or the system no memory.
///
/// # Errors
/// Whatever else kept it from being read.
pub(crate) fn unless_gone<T>(read: io::Result<T>) -> io::Result<Option<T>> {
    match read {
        Ok(read) => Ok(Some(read)),
        // One that ends while it is read is said so by the second.
        Err(error) if error.kind() == io::ErrorKind::NotFound || error.raw_os_error() == Some(libc::ESRCH) => Ok(None),
        Err(error) => Err(error),
    }
}
