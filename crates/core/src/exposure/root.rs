//! Actors that run as root though nothing that is mounted needs it.

use std::collections::{BTreeMap, BTreeSet};

use mivask_model::caps::CapabilitySet;
use mivask_model::fact::Provenance;
use mivask_model::held::Held;
use mivask_model::ids::{InsideUid, KernelUid};
use mivask_model::mount::MountOrigin;
use mivask_rules::settle::Outcome;
use mivask_stage::identity::{CRI_DEFAULT, IdentityField};
use mivask_stage::stage::{Actor, Role, Stage};

use super::{Kind, Severity, Single};
use crate::question::{Cell, Column, Event, access, follow};

/// Other users that are tried.
const MOST_TRIED: usize = 4;
/// Paths that are looked at; of more no one says that nothing needs root.
const MOST_PATHS: usize = 100_000;
/// A user whom no file belongs to.
const NOBODYS: u32 = 4_294_000_001;

/// What root may do that somebody else has to be able to do, too: the columns of each path, as bits.
type Needed = BTreeMap<Vec<u8>, u8>;

/// Adds a finding where another user could do all that root can do below what the description mounts.
pub(super) fn look(stage: &Stage, actor: &Actor, singles: &mut Vec<Single>) {
    let [who] = actor.credentials.as_slice() else { return };
    // An init container is root to change owners, which no column tells; a guest is whom the question names.
    let meant = matches!(actor.role, Role::App | Role::Sidecar) && !actor.guest;
    let plain = who.fsuid.is(KernelUid::new(0)) && who.real.is_none();
    let more = who.effective.iter().any(|capability| !CRI_DEFAULT.has(capability));
    if !meant || !plain || more {
        return;
    }
    let starts: BTreeSet<&[u8]> = actor
        .mounts
        .iter()
        .filter(|(_, mount)| mount.origin == MountOrigin::Declared)
        .map(|(_, mount)| &*mount.facts.at)
        .collect();
    let Some((needed, owners)) = used(stage, actor, &starts) else { return };
    let mut others: Vec<u32> = owners.into_iter().filter(|uid| *uid != 0).take(MOST_TRIED).collect();
    others.insert(0, NOBODYS);
    let Some(other) = others.into_iter().find(|uid| does(stage, actor, *uid, &starts, &needed)) else {
        return;
    };
    let consequence = match (starts.is_empty(), other) {
        (true, _) => "nothing is mounted that needs root; what its program does in the image is not looked at".to_owned(),
        (false, NOBODYS) => {
            "any other user could do the same with what is mounted; what its program does in the image is not looked at".to_owned()
        }
        (false, owner) => format!(
            "user {owner}, who owns what is mounted, could do the same with it; what its program does in the image is not looked at"
        ),
    };
    let from = actor.facts().iter().find(|fact| fact.field == IdentityField::Uid);
    singles.push(Single {
        kind: Kind::RunsAsRoot,
        severity: Severity::Low,
        on: actor.name.clone(),
        path: Vec::new(),
        actor: Some(actor.name.to_string()),
        fact: "uid 0".to_owned(),
        consequence,
        from: from.map_or_else(|| Provenance::rule("no user is named, so root"), |fact| fact.from.clone()),
        declared: false,
        usual: false,
    });
}

/// What the actor may do below `starts`, and who owns what is there (inside ids); `None` where not all is known.
fn used(stage: &Stage, actor: &Actor, starts: &BTreeSet<&[u8]>) -> Option<(Needed, BTreeSet<u32>)> {
    let mut needed = Needed::new();
    let mut owners = BTreeSet::new();
    let mut open = false;
    for start in starts {
        let row = access(stage, actor, start);
        owners.extend(row.facts.and_then(|facts| facts.uid).map(InsideUid::raw));
        let allowed = bits(|column| row.cells.of(column).as_ref() == Some(&Outcome::Allowed));
        open |=
            Column::ALL.into_iter().any(|column| row.cells.of(column).as_ref() == Some(&Outcome::Depends));
        needed.insert(start.to_vec(), allowed);
        let _ = follow(stage, actor, 0, start, |event| {
            let Event::Entry(swept) = event else { return };
            open |= Column::ALL.into_iter().any(|column| swept.cell(column) == Cell::Open);
            let allowed = bits(|column| swept.cell(column) == Cell::Allowed);
            if needed.len() <= MOST_PATHS {
                needed.insert(swept.path.to_vec(), allowed);
            }
            let owner = crate::question::facts_of(stage, actor, swept.place).and_then(|facts| facts.uid);
            if owners.len() <= MOST_TRIED {
                owners.extend(owner.map(InsideUid::raw));
            }
        });
    }
    (!open && needed.len() <= MOST_PATHS).then_some((needed, owners))
}

/// Whether the actor as user `uid`, without root's capabilities, may do all that is `needed`.
fn does(stage: &Stage, actor: &Actor, uid: u32, starts: &BTreeSet<&[u8]>, needed: &Needed) -> bool {
    let mut other = actor.clone();
    let [who] = other.credentials.as_mut_slice() else { return false };
    let Some(kernel) = who.namespace.to_kernel_uid(InsideUid::new(uid)) else { return false };
    who.fsuid = Held::Id(kernel);
    who.effective = CapabilitySet::EMPTY;
    who.permitted = CapabilitySet::EMPTY;
    let mut left = needed.clone();
    let mut take = |path: &[u8], allowed: u8| {
        if let Some(bits) = left.get_mut(path) {
            *bits &= !allowed;
        }
    };
    for start in starts {
        let row = access(stage, &other, start);
        take(start, bits(|column| row.cells.of(column).as_ref() == Some(&Outcome::Allowed)));
        let _ = follow(stage, &other, 0, start, |event| {
            if let Event::Entry(swept) = event {
                take(swept.path, bits(|column| swept.cell(column) == Cell::Allowed));
            }
        });
    }
    left.values().all(|bits| *bits == 0)
}

fn bits(is: impl Fn(Column) -> bool) -> u8 {
    Column::ALL.into_iter().enumerate().map(|(at, column)| u8::from(is(column)) << at).sum()
}
