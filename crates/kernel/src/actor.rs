//! Taking on an identity, for one process.

use std::path::Path;

use mivask_model::caps::Capability;
use mivask_model::credentials::Credentials;
use mivask_model::held::Held;
use mivask_model::ids::{InsideGid, InsideUid};
use rustix::fs::Mode;
use rustix::process::{Gid, Uid};
use rustix::thread::{CapabilitySet, CapabilitySets};

use crate::{Doing, KernelError, process};

/// Makes `root` the root directory, in a user namespace where the actor has one of its own; someone outside
/// must then write its maps. The namespace comes first: a process with a root of its own gets none.
pub(crate) fn enter(root: &Path, who: &Credentials) -> Result<(), KernelError> {
    if keeps_groups(who) {
        // Nobody inside can ask for a group without a number there: it comes from outside, as an engine's `keep-groups` has it.
        let groups: Vec<Gid> = who.groups.iter().map(|gid| Gid::from_raw(gid.raw())).collect();
        rustix::thread::set_thread_groups(&groups).doing(|| "setgroups".to_owned())?;
    }
    if !who.namespace.is_initial() {
        process::enter_user_namespace()?;
    }
    rustix::process::chroot(root).doing(|| format!("chroot to {}", root.display()))?;
    rustix::process::chdir("/").doing(|| "chdir to the new root".to_owned())
}

/// Whether it is in a group that its user namespace does not map.
fn keeps_groups(who: &Credentials) -> bool {
    who.groups.iter().any(|gid| who.namespace.to_inside_gid(*gid).is_none())
}

/// Turns the calling process into the actor. There is no way back.
pub(crate) fn become_actor(who: &Credentials) -> Result<(), KernelError> {
    let unmapped = || KernelError::Unsupported("an id of the actor has no mapping".to_owned());
    let unnumbered =
        || KernelError::Unsupported("the number of the actor's user or group is not given".to_owned());
    for capability in Capability::ALL.iter().filter(|capability| !who.bounding.has(**capability)) {
        let set = CapabilitySet::from_bits_retain(1 << *capability as u64);
        // A kernel may lack the newest capabilities.
        let _ = rustix::thread::remove_capability_from_bounding_set(set);
    }
    if !keeps_groups(who) {
        let inside = who.groups.iter().filter_map(|gid| who.namespace.to_inside_gid(*gid));
        let groups: Vec<Gid> = inside.map(|gid| Gid::from_raw(gid.raw())).collect();
        match rustix::thread::set_thread_groups(&groups) {
            // A user namespace of an unprivileged user has no setgroups; its own groups match nothing in there.
            Err(rustix::io::Errno::PERM) if groups.len() < 2 => {}
            set => set.doing(|| "setgroups".to_owned())?,
        }
    }
    let gid = |gid: Option<Held<InsideGid>>| {
        gid.ok_or_else(unmapped)?.id().map(InsideGid::raw).map(Gid::from_raw).ok_or_else(unnumbered)
    };
    let uid = |uid: Option<Held<InsideUid>>| {
        uid.ok_or_else(unmapped)?.id().map(InsideUid::raw).map(Uid::from_raw).ok_or_else(unnumbered)
    };
    let (real, acting) = (gid(who.real_gid())?, gid(who.inside_gid())?);
    rustix::thread::set_thread_res_gid(real, acting, acting).doing(|| "setresgid".to_owned())?;
    rustix::thread::set_keep_capabilities(true).doing(|| "keeping capabilities".to_owned())?;
    let (real, acting) = (uid(who.real_uid())?, uid(who.inside_uid())?);
    rustix::thread::set_thread_res_uid(real, acting, acting).doing(|| "setresuid".to_owned())?;
    let held = rustix::thread::capabilities(None).doing(|| "reading capabilities".to_owned())?;
    // Some machines lack a capability altogether; those that decide about files are checked for earlier.
    let set = |bits: u64| CapabilitySet::from_bits_retain(bits) & held.permitted;
    let sets = CapabilitySets {
        effective: set(who.effective.bits()),
        permitted: set(who.permitted.bits() | who.effective.bits()),
        inheritable: set(who.inheritable.bits() | who.ambient.bits()),
    };
    rustix::thread::set_capabilities(None, sets).doing(|| "capset".to_owned())?;
    for capability in who.ambient.iter() {
        let set = CapabilitySet::from_bits_retain(1 << capability as u64);
        rustix::thread::configure_capability_in_ambient_set(set, true)
            .doing(|| "raising an ambient capability".to_owned())?;
    }
    // It can be set, never taken back; a process starts without it.
    if who.no_new_privileges {
        rustix::thread::set_no_new_privs(true).doing(|| "setting no_new_privs".to_owned())?;
    }
    rustix::process::umask(Mode::from_raw_mode(u32::from(who.umask.bits())));
    Ok(())
}
