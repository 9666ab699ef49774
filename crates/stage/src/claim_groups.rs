//! Which filesystem groups the pods that mount a claim have: known before the first of them is prepared.

use std::collections::BTreeMap;

use mivask_model::fact::Fact;

use crate::scene::{VolumeKind, Workload};

/// A pod that mounts a claim so that its filesystem group may reach it.
#[derive(Clone, Debug)]
pub struct Mounting {
    /// The pod's name.
    pub pod: String,
    /// Its `fsGroup`.
    pub group: Option<Fact<u32>>,
    /// Whether `fsGroupChangePolicy` is OnRootMismatch.
    pub on_root_mismatch: bool,
}

/// The pods on each claim, one for each group.
#[derive(Clone, Debug, Default)]
pub struct ClaimGroups {
    by_claim: BTreeMap<(String, String), Vec<Mounting>>,
}

impl ClaimGroups {
    /// Those of `workloads`.
    #[must_use]
    pub fn of<'a>(workloads: impl IntoIterator<Item = &'a Workload>) -> Self {
        let mut all = Self::default();
        workloads.into_iter().for_each(|workload| all.take(workload));
        all
    }

    /// Adds what `workload` mounts. Of pods with one group, the first stands for all.
    pub fn take(&mut self, workload: &Workload) {
        for volume in &workload.volumes {
            let VolumeKind::Claim { claim, read_only: false } = &volume.kind else { continue };
            let on_claim = self.by_claim.entry((workload.namespace.clone(), claim.clone())).or_default();
            let group = &workload.security.fs_group;
            let value = |group: &Option<Fact<u32>>| group.as_ref().map(|group| group.value);
            if !on_claim.iter().any(|other| value(&other.group) == value(group)) {
                let on_root_mismatch =
                    workload.security.on_root_mismatch.as_ref().is_some_and(|fact| fact.value);
                on_claim.push(Mounting {
                    pod: workload.name.clone(),
                    group: group.clone(),
                    on_root_mismatch,
                });
            }
        }
    }

    /// The pods on `claim` of `namespace`.
    #[must_use]
    pub fn on(&self, namespace: &str, claim: &str) -> &[Mounting] {
        let key = (namespace.to_owned(), claim.to_owned());
        self.by_claim.get(&key).map_or(&[], Vec::as_slice)
    }
}
