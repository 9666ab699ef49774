//! Taking on an identity, for one thread.

use std::path::Path;

use mivask_core::identity::Credentials;
use rustix::fs::Mode;
use rustix::process::{Gid, Uid};
use rustix::thread::{CapabilitySet, CapabilitySets, UnshareFlags};

use crate::{Doing, KernelError};

/// Turns the calling thread into the actor, with `root` as its root directory. There is no way back.
pub(crate) fn become_actor(who: &Credentials, root: &Path) -> Result<(), KernelError> {
    // SAFETY: a freshly spawned thread that uses absolute paths only; root, working directory and umask
    // become its own.
    #[expect(unsafe_code, reason = "unshare changes what paths mean for this thread")]
    let unshared = unsafe { rustix::thread::unshare_unsafe(UnshareFlags::FS) };
    unshared.doing(|| "unshare of root and umask".to_owned())?;
    rustix::process::chroot(root).doing(|| format!("chroot to {}", root.display()))?;
    rustix::process::chdir("/").doing(|| "chdir to the new root".to_owned())?;
    let groups: Vec<Gid> = who.groups.iter().map(|gid| Gid::from_raw(gid.raw())).collect();
    rustix::thread::set_thread_groups(&groups).doing(|| "setgroups".to_owned())?;
    let gid = Gid::from_raw(who.fsgid.raw());
    rustix::thread::set_thread_res_gid(gid, gid, gid).doing(|| "setresgid".to_owned())?;
    rustix::thread::set_keep_capabilities(true).doing(|| "keeping capabilities".to_owned())?;
    let uid = Uid::from_raw(who.fsuid.raw());
    rustix::thread::set_thread_res_uid(uid, uid, uid).doing(|| "setresuid".to_owned())?;
    let wanted = CapabilitySet::from_bits_retain(who.effective.bits());
    let held = rustix::thread::capabilities(None).doing(|| "reading capabilities".to_owned())?;
    // Some machines lack a capability altogether; those that decide about files are checked for earlier.
    let set = wanted & held.permitted;
    let sets = CapabilitySets { effective: set, permitted: set, inheritable: CapabilitySet::empty() };
    rustix::thread::set_capabilities(None, sets).doing(|| "capset".to_owned())?;
    // It can be set, never taken back; a thread starts without it.
    if who.no_new_privileges {
        rustix::thread::set_no_new_privs(true).doing(|| "setting no_new_privs".to_owned())?;
    }
    rustix::process::umask(Mode::from_raw_mode(u32::from(who.umask.bits())));
    Ok(())
}
