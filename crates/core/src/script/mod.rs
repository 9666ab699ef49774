//! What an administrator types to make what was tried, and to take it back.
//!
//! Nothing here is a decision: what is typed is the difference between the stage before a line and the stage behind it.

mod accounts;
mod inode;

use std::sync::Arc;

use mivask_model::act::{Act, Node, Verb};
use mivask_model::mode::ModeChange;
use mivask_stage::scene::Scene;
use mivask_stage::stage::{Actor, Stage};

use crate::change::{Change, Security};
use crate::place::{ChangedPlace, place_of};
use crate::recursion::whole;
use crate::rehearse::{Rehearsal, RehearsalStep};
pub use accounts::AccountLine;
use inode::Sides;

/// What is done to one path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Action {
    /// Owner and group as stored; of a link itself.
    Owner {
        /// Stored user id.
        uid: Option<u32>,
        /// Stored group id.
        gid: Option<u32>,
    },
    /// Permission bits.
    Mode(ModeChange),
    /// The whole access ACL in text form, with stored ids.
    Acl(String),
    /// No access ACL.
    NoAcl,
    /// The whole default ACL in text form, with stored ids.
    DefaultAcl(String),
    /// No default ACL.
    NoDefaultAcl,
    /// A new empty file.
    File,
    /// A new directory.
    Directory,
    /// A new named pipe.
    Fifo,
    /// A new device or socket.
    Node(Node),
    /// A new symbolic link to this target.
    Link(Vec<u8>),
    /// A further name of the file at this path, in the same place.
    Name(Vec<u8>),
    /// The name becomes this path, in the same place.
    Move(Vec<u8>),
    /// The name goes.
    Remove,
    /// The empty directory goes.
    RemoveDirectory,
}

/// One thing to type.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Typed {
    /// Something about a path.
    Path {
        /// Who sees the path, for places that have no path of their own.
        actor: Arc<str>,
        /// Where.
        place: ChangedPlace,
        /// Whether everything below is meant, too.
        below: bool,
        /// What.
        action: Action,
    },
    /// Something about accounts.
    Account(AccountLine),
    /// Something about the host's SELinux.
    Security(Security),
    /// No label of its own for a path of the host any more: its policy says what is there.
    NoLabel(Vec<u8>),
    /// What no command does.
    Note(String),
}

/// What an administrator types to make what the lines of a rehearsal made, in order.
#[must_use]
pub fn commands(rehearsal: &Rehearsal) -> Vec<Typed> {
    steps(rehearsal).iter().flat_map(Step::there).collect()
}

/// What takes it back, the last line first.
#[must_use]
pub fn way_back(rehearsal: &Rehearsal) -> Vec<Typed> {
    steps(rehearsal).iter().rev().flat_map(Step::back).collect()
}

fn steps(rehearsal: &Rehearsal) -> Vec<Step<'_>> {
    rehearsal.lines().map(|(step, before, after)| Step { step, before, after }).collect()
}

/// What one line of a rehearsal made different.
struct Step<'a> {
    step: &'a RehearsalStep,
    before: (&'a Scene, &'a Stage),
    after: &'a Stage,
}

impl Step<'_> {
    /// What makes it.
    fn there(&self) -> Vec<Typed> {
        if let RehearsalStep::Change { change, .. } = self.step
            && let Some(lines) = self.of_description(change, true)
        {
            return lines;
        }
        if let Some(lines) = self.at_once() {
            return lines;
        }
        self.acts()
            .iter()
            .flat_map(|act| self.sides(act).map(|sides| sides.there()).unwrap_or_default())
            .collect()
    }

    /// What takes it back.
    fn back(&self) -> Vec<Typed> {
        if let RehearsalStep::Change { change, .. } = self.step
            && let Some(lines) = self.of_description(change, false)
        {
            return lines;
        }
        let acts = self.acts();
        acts.iter()
            .rev()
            .flat_map(|act| self.sides(act).map(|sides| sides.back()).unwrap_or_default())
            .collect()
    }

    fn acts(&self) -> &[Act] {
        self.step.carried()
    }

    fn sides<'s>(&'s self, act: &'s Act) -> Option<Sides<'s>> {
        let after = self.after.actor(&act.actor).ok()?;
        let before = self.before.1.actor(&act.actor).unwrap_or(after);
        Some(Sides { act, before: (self.before.1, before), after: (self.after, after) })
    }

    /// A change of everything in a directory that met no refusal is one command.
    fn at_once(&self) -> Option<Vec<Typed>> {
        let act = match self.step {
            RehearsalStep::Several(several) if several.refused + several.open == 0 => &several.act,
            RehearsalStep::Change { change: Change::Files(act), .. } => act,
            RehearsalStep::Act { .. } | RehearsalStep::Several(_) | RehearsalStep::Change { .. } => {
                return None;
            }
        };
        let directory = whole(&act.path)?;
        let plain = self.is_plain(act);
        let action = if let Verb::SetsMode(change) = &act.verb {
            Action::Mode(change.clone())
        } else if let Verb::SetsOwner(owner) = &act.verb
            && plain
        {
            Action::Owner { uid: owner.uid, gid: owner.gid }
        } else if let Verb::SetsGroup(gid) = &act.verb
            && plain
        {
            Action::Owner { uid: None, gid: Some(*gid) }
        } else {
            return None;
        };
        let actor = self.before.1.actor(&act.actor).ok()?;
        let place = place_of(self.before.1, actor, directory)?;
        Some(vec![Typed::Path { actor: actor.name.clone(), place, below: true, action }])
    }

    /// Whether the ids the actor sees are those that are stored.
    fn is_plain(&self, act: &Act) -> bool {
        let Ok(actor) = self.before.1.actor(&act.actor) else { return false };
        let initial = mivask_model::ids::UserNamespace::initial();
        let unmapped = |actor: &Actor| actor.credentials.iter().all(|who| *who.namespace == initial);
        unmapped(actor) && actor.mounts.iter().all(|(_, mount)| mount.facts.ids == Default::default())
    }

    fn of_security(&self, what: &Security, there: bool) -> Typed {
        match what {
            _ if there => Typed::Security(what.clone()),
            Security::Boolean(name, on) => {
                let policy = self.before.0.host.selinux.as_ref().and_then(|host| host.policy.as_ref());
                let was = policy.and_then(|policy| policy.booleans().find(|(one, _)| one == name));
                Typed::Security(Security::Boolean(name.clone(), was.map_or(!on, |(_, was)| was)))
            }
            Security::Labels(path, _) => Typed::NoLabel(path.clone()),
        }
    }

    /// A change that no file shows; `None` where it is one of files.
    fn of_description(&self, change: &Change, there: bool) -> Option<Vec<Typed>> {
        match change {
            Change::Files(_) => None,
            Change::Image(act) => Some(vec![Typed::Note(if there {
                format!("in the build of the image: {act}")
            } else {
                format!("take it out of the build of the image again: {act}")
            })]),
            Change::Security(what) => Some(vec![self.of_security(what, there)]),
            Change::Accounts(whose, what) => Some(accounts::lines(self.before.0, whose, what, there)),
            Change::Process(..) | Change::FilesystemGroup(_) | Change::Joins(_) => {
                Some(vec![Typed::Note(if there {
                    format!("in the description, not by a command: {change}")
                } else {
                    format!("put the description back as it was before: {change}")
                })])
            }
        }
    }
}
