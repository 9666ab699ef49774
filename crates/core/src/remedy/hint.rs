//! What to know about an act that no change of owners, modes, mounts or ids mends.

use mivask_model::outcome::Errno;
use mivask_rules::settle::Outcome;
use mivask_rules::trace::Check;

use crate::question::Answer;

/// A sentence about what stops it, where the search has nothing for that.
pub(super) fn hint(answer: &Answer) -> Option<String> {
    match &answer.outcome {
        Outcome::NeverRuns(refusal) => return Some(format!("it never runs: {}", refusal.reason)),
        Outcome::Depends => {
            let facts: Vec<&str> = answer.depends_on.iter().map(|one| one.fact.as_str()).take(1).collect();
            return Some(format!("it depends on {}: supply that first", facts.join("; ")));
        }
        // Refused whatever the case is: which of them it is decides what would help.
        Outcome::Denied(None) if !answer.depends_on.is_empty() => {
            let fact = answer.depends_on.first().map_or("", |one| one.fact.as_str());
            return Some(format!("it turns on {fact}: supply that first"));
        }
        Outcome::Allowed | Outcome::Denied(_) => {}
    }
    if answer.outcome.errno() == Some(Errno::ENODATA) {
        return Some("it is not there, or not shown: set it first, no permission helps".to_owned());
    }
    let step = answer.deciding().filter(|_| answer.outcome != Outcome::Allowed)?;
    about(step.check).map(ToOwned::to_owned)
}

/// What is to be done about the profile of engines.
const BY_PROFILE: &str = "the engine's AppArmor profile keeps every container from it: let the host set it, or give the container a profile of its own that permits this one path";

/// What to do about a label.
const BY_LABEL: &str = "SELinux stops it, no owner or mode does: let the engine label the mount (`z` where containers share it, \
                        `Z` for one alone), give the files a label that lasts (semanage fcontext, then restorecon), or set the \
                        boolean that `why` names";

/// What to do about a check that no narrow change gets past.
const fn about(check: Check) -> Option<&'static str> {
    let text = match check {
        Check::Lookup => "no such entry: the path is wrong, or something has to create it first",
        Check::Link | Check::ProtectedSymlink => {
            "a symbolic link stops it: name what it points to, or let its owner and the directory's be the same"
        }
        Check::MountPoint => "something is mounted there: unmount it in the description, no permission helps",
        Check::Kind => "it is the wrong kind of file for that act, or exists already: no permission helps",
        Check::ReadOnlyFilesystem => {
            "the file system itself is read-only, which no mount option of the container changes: write to another volume"
        }
        Check::DeviceList => {
            "the container's device list leaves the device out: ask the runtime for that one device"
        }
        Check::Immutable => "the immutable attribute is set: whoever set it has to clear it on disk",
        Check::AppendOnly => {
            "the append-only attribute is set: append to it, or let whoever set it clear it on disk"
        }
        Check::Unmapped => {
            "its ids have no mapping in the user namespace or mount: give it an owner that has one"
        }
        Check::OneMount => "the two names are on different mounts: put both on one, or copy and delete",
        Check::Feature => "the file system does not do that: use another kind of volume",
        Check::Server => "a server decides: its export, not the container, has to change",
        Check::Fuse => "the FUSE mount lets only its owner in: mount it with allow_other",
        Check::Empty => "the directory is not empty: remove what is in it first",
        Check::ProtectedFile => {
            "another user's file in a sticky directory: let the directory's owner create it, or open it without O_CREAT"
        }
        Check::Format => {
            "the kernel knows no format with these first bytes: the file is not a program, or its interpreter is missing"
        }
        Check::FileCapabilities => {
            "the program's file capabilities cannot all be given: add them to the bounding set, or take them from the file"
        }
        Check::GivingAway => {
            "only root with CHOWN gives files away: let an init container that runs as root do it"
        }
        Check::Capability => {
            "that takes a capability on the host itself (MKNOD for devices): let the runtime, or root there, do it"
        }
        Check::Label => BY_LABEL,
        Check::Profile => BY_PROFILE,
        Check::OwnerBits
        | Check::AclUser
        | Check::AclGroup
        | Check::GroupBits
        | Check::OtherBits
        | Check::UnmappedOwner
        | Check::ReadOnlyMount
        | Check::NoExec
        | Check::NoDev
        | Check::Sticky
        | Check::Owner
        | Check::ProtectedHardlink
        | Check::SetId
        | Check::Imprint
        | Check::Unknown => return None,
    };
    Some(text)
}
