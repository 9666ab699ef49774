//! Names of accounts in the tables of a page; its figures keep ids.

use mivask_core::names::AccountNames;
use mivask_core::prepare::HOST;

use super::view::{ActorView, FindingView, MatrixView, MountsView};

/// Names beside the ids of who each actor is.
pub(super) fn actors(all: &mut [ActorView], names: &AccountNames) {
    for actor in all {
        for fact in &mut actor.facts {
            let name = match (fact.field, fact.value.parse()) {
                ("uid" | "real uid", Ok(id)) => names.user(&actor.name, id),
                ("gid" | "real gid" | "group", Ok(id)) => names.group(&actor.name, id),
                _ => None,
            };
            if let Some(name) = name {
                fact.value = format!("{} ({})", fact.value, crate::safe::safe(name));
            }
        }
    }
}

/// Names in place of the ids that disks keep.
pub(super) fn mounts(one: &mut MountsView, names: &AccountNames) {
    for row in &mut one.rows {
        row.root = names.in_text(HOST, &row.root);
        row.before = names.in_text(HOST, &row.before);
    }
}

/// Names in place of the owners that each actor sees.
pub(super) fn matrix(all: &mut [MatrixView], names: &AccountNames) {
    for one in all {
        for row in &mut one.rows {
            row.owner = names.in_text(&one.actor, &row.owner);
        }
    }
}

/// The same where something is open too wide, as the first who reaches it sees it.
pub(super) fn findings(all: &mut [FindingView], names: &AccountNames) {
    for one in all {
        let first = one.actors.split(", ").next().unwrap_or_default().to_owned();
        one.fact = names.in_text(&first, &one.fact);
    }
}
