//! execve in a child of the actor's process.

use std::ffi::{CStr, CString};
use std::io::{self, Read};
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use crate::program;
use crate::report::Seen;

/// Starts the program; for a script, its interpreter opens it, as whoever that runs as.
pub(super) fn run(path: &Path) -> io::Result<Seen> {
    let name = CString::new(path.as_os_str().as_bytes())?;
    let written = execute(&name)?;
    Ok(Seen { left: None, runs_as: program::runs_as(&written) })
}

/// What the program wrote. The library's own way of starting programs tries a shell on ENOEXEC, so this is
/// the bare call.
#[expect(unsafe_code, reason = "no safe function makes a bare execve in a child")]
fn execute(program: &CStr) -> io::Result<Vec<u8>> {
    let arguments = [program.as_ptr(), std::ptr::null()];
    let environment = [std::ptr::null()];
    let (mut reader, writer) = io::pipe()?;
    let output = writer.as_raw_fd();
    // SAFETY: between fork and _exit the child makes nothing but system calls; all pointers were made before.
    let child = unsafe {
        match libc::fork() {
            0 => {
                libc::dup2(output, libc::STDOUT_FILENO);
                libc::execve(program.as_ptr(), arguments.as_ptr(), environment.as_ptr());
                libc::_exit(*libc::__errno_location());
            }
            child => child,
        }
    };
    if child < 0 {
        return Err(io::Error::last_os_error());
    }
    drop(writer);
    let mut written = Vec::new();
    reader.read_to_end(&mut written)?;
    let mut status = 0;
    // SAFETY: `status` outlives the call, and the child is this process's own.
    if unsafe { libc::waitpid(child, &raw mut status, 0) } != child {
        return Err(io::Error::last_os_error());
    }
    // The program ends with 0; the child that could not become it ends with the errno.
    match libc::WIFEXITED(status).then(|| libc::WEXITSTATUS(status)) {
        Some(0) => Ok(written),
        Some(errno) => Err(io::Error::from_raw_os_error(errno)),
        None => Err(io::Error::other("the program was killed")),
    }
}
