//! Children of a process with several threads, and what only they can do.

use std::os::fd::RawFd;

use crate::{Doing, KernelError};

/// Runs `work` in a child process and ends it; gives the child's process id.
///
/// Only the calling thread lives on in the child, with every lock as the other threads left it. `work` allocates, so
/// it matters which allocator is linked. That of glibc is locked around fork and usable in the child. musl's promises
/// nothing after fork in a program with threads, so the static binary links mimalloc, whose heaps belong to one
/// thread each and allocate without a lock. Apart from that the program's other threads wait while a bench works: the
/// one that asked for it is blocked on its answer. `work` takes no other lock.
#[expect(unsafe_code, reason = "no safe function forks")]
pub(crate) fn fork(work: impl FnOnce()) -> Result<i32, KernelError> {
    // SAFETY: the child runs `work`, which makes system calls and allocates (see above for why it may), and never
    // returns from here.
    let pid = unsafe { libc::fork() };
    match pid {
        0 => {
            let ended = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
            // SAFETY: ends the child without running what the parent registered for its own exit.
            unsafe { libc::_exit(i32::from(ended.is_err())) }
        }
        1.. => Ok(pid),
        _ => Err(std::io::Error::last_os_error()).doing(|| "fork".to_owned()),
    }
}

/// Waits for a child of this thread.
#[expect(unsafe_code, reason = "the child is known by number only")]
pub(crate) fn wait(pid: i32) -> Result<(), KernelError> {
    let mut status = 0;
    loop {
        // SAFETY: `status` outlives the call.
        match unsafe { libc::waitpid(pid, &raw mut status, 0) } {
            waited if waited == pid => return Ok(()),
            _ => {
                let error = std::io::Error::last_os_error();
                if error.kind() != std::io::ErrorKind::Interrupted {
                    return Err(error).doing(|| "waiting for a child".to_owned());
                }
            }
        }
    }
}

/// Closes every descriptor but the three standard ones and `kept`.
#[expect(unsafe_code, reason = "descriptors of other threads have no owner here")]
pub(crate) fn keep_only(kept: &[RawFd]) {
    let mut kept: Vec<u32> = kept.iter().filter_map(|fd| u32::try_from(*fd).ok()).collect();
    kept.sort_unstable();
    let mut start = 3;
    for fd in kept.into_iter().chain([u32::MAX]) {
        if fd > start {
            // SAFETY: this is a forked child; what it closes are its own copies.
            unsafe { libc::syscall(libc::SYS_close_range, start, fd - 1, 0) };
        }
        start = fd.saturating_add(1);
    }
}

/// Puts the calling process, which must have one thread, into a user namespace of its own.
#[expect(unsafe_code, reason = "the library takes unshare to be unsafe")]
pub(crate) fn enter_user_namespace() -> Result<(), KernelError> {
    // SAFETY: a freshly forked child with one thread.
    unsafe { rustix::thread::unshare_unsafe(rustix::thread::UnshareFlags::NEWUSER) }
        .doing(|| "unshare of the user namespace".to_owned())
}
