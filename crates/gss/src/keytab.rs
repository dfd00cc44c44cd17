//! Keys that live in memory alone.
//!
//! The library reads keytabs from files. Ours come out of a seal, so each lies in an anonymous file of memory (`memfd_create`),
//! which nothing on the machine's disks ever holds and which is gone with the last reference.

use std::ffi::CString;
use std::fs::File;
use std::io::Write;
use std::os::fd::{AsRawFd, FromRawFd};
use std::ptr;
use std::sync::Arc;

use crate::failure::Failure;
use crate::krb5::{self, Context};

/// An open keytab, closed when it is dropped.
pub(crate) struct Open<'c>(&'c Context, pub(crate) krb5::krb5_keytab);

impl Drop for Open<'_> {
    fn drop(&mut self) {
        // SAFETY: made by krb5_kt_resolve and closed once.
        unsafe { krb5::krb5_kt_close(self.0.0, self.1) };
    }
}

/// A keytab (file format 0502) in memory.
#[derive(Clone, Debug)]
pub struct Keytab(Arc<File>);

impl Keytab {
    /// Holds these bytes, as they would stand in a file.
    ///
    /// # Errors
    /// When the system gives no memory for it.
    pub fn new(bytes: &[u8]) -> std::io::Result<Keytab> {
        // SAFETY: the name is a constant C string; the number is checked before anything is made of it.
        let fd = unsafe { libc::memfd_create(c"passeur-keytab".as_ptr(), libc::MFD_CLOEXEC) };
        if fd < 0 {
            return Err(std::io::Error::last_os_error());
        }
        // SAFETY: a descriptor that was just opened, and that nothing else owns.
        let mut file = unsafe { File::from_raw_fd(fd) };
        file.write_all(bytes)?;
        Ok(Keytab(Arc::new(file)))
    }

    /// Opens it for the library.
    pub(crate) fn open<'c>(&self, context: &'c Context) -> Result<Open<'c>, Failure> {
        let name = CString::new(self.name()).unwrap_or_default();
        let mut open = ptr::null_mut();
        // SAFETY: the name outlives the call; on success `open` is a new handle.
        context.check(unsafe { krb5::krb5_kt_resolve(context.0, name.as_ptr(), &mut open) })?;
        Ok(Open(context, open))
    }

    /// The name by which the library opens it, in this process alone.
    pub(crate) fn name(&self) -> String {
        format!("FILE:/proc/self/fd/{}", self.0.as_raw_fd())
    }
}
