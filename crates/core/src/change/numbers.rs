//! Group numbers: which are reserved, which are taken, which are free.

use std::collections::BTreeSet;
use std::fmt;

use mivask_model::accounts::Accounts;
use mivask_model::ids::OVERFLOW_ID;
use mivask_stage::identity::Knowledge;
use mivask_stage::scene::Scene;

/// Something to know about a number before it is given to a group.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NumberHint {
    /// Below 1000: given out by distributions to system accounts (Debian policy 9.2, systemd's UIDS-GIDS).
    System(u32),
    /// 65534 and 65535: nobody, and no id at all in 16 bits.
    Nobody(u32),
    /// From 524288 up: ranges that container tools and systemd hand out to user namespaces.
    Mapped(u32),
    /// A group of an image has it.
    Taken {
        /// The number.
        gid: u32,
        /// The group's name.
        group: String,
        /// The image, in words.
        whose: String,
    },
}

impl fmt::Display for NumberHint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::System(gid) => {
                write!(f, "{gid} is below 1000, where distributions number their system accounts")
            }
            Self::Nobody(gid) => write!(f, "{gid} means no id, or ids that cannot be shown"),
            Self::Mapped(gid) => {
                write!(f, "{gid} is in the ranges that are handed out to user namespaces (524288 and up)")
            }
            Self::Taken { gid, group, whose } => {
                write!(f, "{gid} is the group {group} {whose} already: whoever is in it gets the same access")
            }
        }
    }
}

/// What to know about `gid`. A group called `except` does not count.
#[must_use]
pub fn hints(scene: &Scene, gid: u32, except: Option<&str>) -> Vec<NumberHint> {
    let mut all = Vec::new();
    match gid {
        0..1000 => all.push(NumberHint::System(gid)),
        OVERFLOW_ID | 65535 => all.push(NumberHint::Nobody(gid)),
        524_288.. => all.push(NumberHint::Mapped(gid)),
        _ => {}
    }
    for (whose, accounts) in databases(scene) {
        let groups = accounts.group.iter().flatten();
        let same = groups.filter(|line| line.gid == gid && Some(line.name.as_str()) != except);
        all.extend(same.map(|line| NumberHint::Taken {
            gid,
            group: line.name.clone(),
            whose: whose.clone(),
        }));
    }
    all
}

/// Every account database that was given, and whose it is.
fn databases(scene: &Scene) -> impl Iterator<Item = (String, &Accounts)> {
    let images = scene.images.iter().filter_map(|(name, image)| match &image.identity.accounts {
        Knowledge::Known(accounts) => Some((format!("of image {name}"), accounts)),
        Knowledge::Unknown => None,
    });
    images.chain(scene.host.accounts.iter().map(|accounts| ("of the host".to_owned(), accounts)))
}

/// A group number that no account of the scene, no file and no description uses: the smallest above those in use by
/// hand, from 1000 to 59999.
#[must_use]
pub fn free_id(scene: &Scene) -> Option<u32> {
    let mut used: BTreeSet<u32> = BTreeSet::new();
    for (_, accounts) in databases(scene) {
        used.extend(accounts.group.iter().flatten().map(|line| line.gid));
        used.extend(accounts.passwd.iter().flatten().flat_map(|line| [line.gid, line.uid]));
    }
    let trees = scene.images.values().filter_map(|image| image.tree.as_ref());
    let trees = trees.chain(scene.volumes.values().filter_map(|volume| volume.tree.as_ref()));
    for tree in trees.chain(scene.host.tree.as_ref()) {
        used.extend(tree.ids().flat_map(|id| {
            [tree.inode(id).stored_owner().gid.raw(), tree.inode(id).stored_owner().uid.raw()]
        }));
    }
    for workload in &scene.workloads {
        let security = &workload.security;
        used.extend(security.fs_group.iter().chain(&security.supplemental_groups).map(|fact| fact.value));
        used.extend(security.run_as_group.iter().chain(&security.run_as_user).map(|fact| fact.value));
        for container in &workload.containers {
            used.extend(super::process::numbers(&container.who));
        }
    }
    let start = used.range(1000..59_999).next_back().map_or(1000, |last| last + 1);
    (start..60_000).chain(1000..start).find(|gid| !used.contains(gid))
}
