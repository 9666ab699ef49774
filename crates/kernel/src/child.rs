//! A child process that becomes the actor and makes the calls.

use std::io::{Read, Write};
use std::os::fd::AsRawFd;
use std::path::Path;

use mivask_model::act::{Act, Verb};
use mivask_model::credentials::Credentials;

use crate::attempt::Effort;
use crate::process::{fork, keep_only, wait};
use crate::report::Record;
use crate::{Doing, KernelError, actor, attempt, id_map, namespace, report};

/// Supplementary groups of a process at most (`NGROUPS_MAX`, setgroups(2)).
const MOST_GROUPS: usize = 65_536;

/// Does the acts as `who` below `root`, one after the other, up to the first that changes something.
pub(crate) fn perform(
    root: &Path,
    who: &Credentials,
    acts: &[Act],
    effort: Effort,
) -> Result<Vec<Record>, KernelError> {
    if who.groups.len() > MOST_GROUPS {
        let text = format!(
            "the actor has {} groups, and no process can have more than {MOST_GROUPS}",
            who.groups.len()
        );
        return Err(KernelError::Unsupported(text));
    }
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
        for (index, act) in acts.iter().enumerate() {
            // An act that fails may leave a copy in an overlay's upper layer, and those see whether there is one.
            if index > 0 && matches!(act.verb, Verb::RemovesAcl | Verb::RemovesDefaultAcl) {
                return;
            }
            let tried = attempt::attempt(&act.verb, &act.path, effort);
            // What was seen is looked up on the disk, so nothing may happen to it before that.
            let ends = tried.as_ref().is_ok_and(|seen| !act.verb.only_looks() || seen.left.is_some());
            if say.write_all(report::encode(&tried).as_bytes()).is_err() || ends {
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
