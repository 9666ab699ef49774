//! Ids that a path names, and one that it does not.

use mivask_model::ids::{InsideGid, InsideUid, KernelGid, KernelOwner, KernelUid, MountIds, UserNamespace};

use super::Named;

/// Groups on the way whose combinations are all tried; paths have fewer.
pub(super) const MOST_GROUPS: usize = 6;

pub(super) fn acl_ids(acl: &mivask_model::acl::Acl, ids: &MountIds, named: &mut Named) {
    named.users.extend(acl.users.iter().filter_map(|(uid, _)| ids.to_kernel_uid(*uid)).map(KernelUid::raw));
    named.groups.extend(acl.groups.iter().filter_map(|(gid, _)| ids.to_kernel_gid(*gid)).map(KernelGid::raw));
}

/// A user and a group of the namespace that nothing on the way names.
pub(super) fn unnamed(namespace: &UserNamespace, named: &Named) -> KernelOwner {
    let uid = (1..=u32::from(u16::MAX)).rev().find_map(|id| {
        let kernel = namespace.to_kernel_uid(InsideUid::new(id))?.raw();
        (!named.users.contains(&kernel)).then_some(kernel)
    });
    let gid = (1..=u32::from(u16::MAX)).rev().find_map(|id| {
        let kernel = namespace.to_kernel_gid(InsideGid::new(id))?.raw();
        (!named.groups.contains(&kernel)).then_some(kernel)
    });
    KernelOwner::new(uid.unwrap_or(u32::from(u16::MAX)), gid.unwrap_or(u32::from(u16::MAX)))
}

/// Every subset, the smaller ones first; where there are many, those of at most two.
pub(super) fn subsets(all: &[u32]) -> Vec<Vec<u32>> {
    if all.len() > MOST_GROUPS {
        let pairs = all
            .iter()
            .enumerate()
            .flat_map(|(at, first)| all[at + 1..].iter().map(move |second| vec![*first, *second]));
        let single = all.iter().map(|one| vec![*one]);
        return std::iter::once(Vec::new()).chain(single).chain(pairs).collect();
    }
    let mut sets: Vec<Vec<u32>> = (0..1_usize << all.len())
        .map(|bits| (0..all.len()).filter(|at| bits >> at & 1 == 1).map(|at| all[at]).collect())
        .collect();
    sets.sort_by_key(Vec::len);
    sets
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn smaller_sets_come_first() {
        assert_eq!(subsets(&[1, 2]), [vec![], vec![1], vec![2], vec![1, 2]]);
        let many: Vec<u32> = (0..10).collect();
        assert_eq!(subsets(&many).len(), 1 + 10 + 45, "two at a time");
    }
}
