//! A child process that becomes the actor and makes the calls.

use std::io::{Read, Write};
use std::os::fd::{AsRawFd, RawFd};
use std::path::Path;

use mivask_core::act::Act;
use mivask_core::identity::Credentials;

use crate::report::Record;
use crate::{Doing, KernelError, actor, attempt, id_map, namespace, report};

/// Does the acts as `who` below `root`, one after the other, up to the first that changes something.
pub(crate) fn perform(root: &Path, who: &Credentials, acts: &[Act]) -> Result<Vec<Record>, KernelError> {
    let (mut hear, mut say) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    let (mut wait_for, mut go) = std::io::pipe().doing(|| "making a pipe".to_owned())?;
    let alone = namespace::nobody_builds();
    let pid = fork(|| {
        keep_only(&[say.as_raw_fd(), wait_for.as_raw_fd()]);
        let entered = actor::enter(root, who);
        let _ = say.write_all(b".");
        if wait_for.read_exact(&mut [0]).is_err() {
            return;
        }
        let ready = entered.and_then(|()| actor::become_actor(who));
        if let Err(error) = ready {
            let _ = say.write_all(report::failure(&error.to_string()).as_bytes());
            return;
        }
        for act in acts {
            let tried = attempt::attempt(&act.verb, &act.path);
            let changed = tried.is_ok() && !act.verb.only_looks();
            if say.write_all(report::encode(&tried).as_bytes()).is_err() || changed {
                return;
            }
        }
    })?;
    drop((say, wait_for));
    let ready = hear.read_exact(&mut [0]).doing(|| "waiting for the actor".to_owned());
    drop(alone);
    let namespace = &who.namespace;
    let mapped = match (&ready, namespace.is_initial()) {
        (Ok(()), false) => id_map::write(pid, &namespace.uids, &namespace.gids),
        _ => Ok(()),
    };
    let _ = go.write_all(b"!");
    let mut text = String::new();
    let heard = hear.read_to_string(&mut text).doing(|| "hearing from the actor".to_owned());
    wait(pid)?;
    ready?;
    heard?;
    // Where entering the namespace failed, the child's word on it says more than that no map could be written.
    let records = report::decode(&text)?;
    mapped.map(|()| records)
}

/// Runs `work` in a child process and ends it; gives the child's process id.
///
/// Only the calling thread lives on in the child, with every lock of other threads as it was; the C library keeps
/// its allocator usable there, and `work` takes no other lock.
#[expect(unsafe_code, reason = "no safe function forks")]
pub(crate) fn fork(work: impl FnOnce()) -> Result<i32, KernelError> {
    // SAFETY: the child runs `work`, which only makes system calls and allocates, and never returns from here.
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
