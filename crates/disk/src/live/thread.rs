//! A working directory for each thread.

use rustix::thread::UnshareFlags;

/// Gives the calling thread a working directory of its own, so that names can be looked up in it: that is cheaper
/// than from a directory's descriptor, and the calls for extended attributes know no other way.
pub(super) fn own_working_directory() -> rustix::io::Result<()> {
    // SAFETY: the thread is freshly spawned and holds nothing that depends on the working directory; CLONE_FS
    // changes nothing else that other threads could see.
    #[expect(unsafe_code, reason = "unshare changes what relative paths mean for this thread")]
    unsafe {
        rustix::thread::unshare_unsafe(UnshareFlags::FS)
    }
}
