//! Levels that engines draw: what stands for them, so that no answer rests on which they are.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_label::{Policy, Range};
use mivask_model::labels::Labels;
use mivask_model::tree::Tree;
use mivask_rules::confined::OwnPair;

use crate::runtime::Flavour;
use crate::scene::{Container, Scene, Workload};
use crate::sharing::Sharing;

/// The number of the pair that stands for that of any other container; no stage has as many.
const OTHERS: usize = 300_000;

/// The categories that stand for drawn ones: those that no label names which was told.
#[derive(Clone, Debug, Default)]
pub(super) struct Drawn {
    /// Those that labels name.
    pub(super) named: Arc<BTreeSet<u32>>,
    /// The others, from the top.
    free: Vec<u32>,
}

impl Drawn {
    /// Of a scene and the containers of all its workloads; nothing where SELinux does not decide.
    pub(super) fn of(scene: &Scene, sharing: &Sharing) -> Self {
        if scene.host.selinux.is_none() {
            return Self::default();
        }
        let mut named = named_categories(scene);
        named.extend(sharing.levels().flat_map(categories));
        let free = (0..1024).rev().filter(|category| !named.contains(category)).collect();
        Self { named: Arc::new(named), free }
    }
}

/// The pair of another container, whichever that is.
pub(super) fn others(drawn: &Drawn, policy: &Policy) -> Option<OwnPair> {
    pair(drawn, policy, OTHERS, "another container")
}

/// The level that stands for the one that the engine draws: two categories that no given label names. Containers of a pod
/// have one together. `first` is how many containers there are before `workload`.
pub(super) fn own_pair(
    drawn: &Drawn,
    (workload, first): (&Workload, usize),
    container: &Container,
    policy: &Policy,
) -> Option<OwnPair> {
    if !policy.has_levels() {
        return None;
    }
    let together = workload.flavour == Flavour::Pod;
    let same = |one: &&Container| match (&container.pod, &one.pod) {
        (Some(pod), Some(other)) => pod == other,
        (_, _) => one.name == container.name,
    };
    let own = workload.containers.iter().position(|one| same(&one)).unwrap_or(0);
    let number = if together { first } else { first + own };
    let of = if together { workload.name.as_str() } else { container.name.as_str() };
    pair(drawn, policy, number, of)
}

/// The pair of this number, of the whole set of them.
fn pair(drawn: &Drawn, policy: &Policy, number: usize, of: &str) -> Option<OwnPair> {
    let free = &drawn.free;
    // The pairs of a growing set: (1, 0), (2, 0), (2, 1), (3, 0) ...
    let mut high = 1;
    let mut left = number;
    while left >= high {
        left -= high;
        high += 1;
    }
    let (one, other) = (free.get(left)?, free.get(high)?);
    let text = format!("s0:c{},c{}", one.min(other), one.max(other));
    let range: Range = policy.range(&text).ok()?;
    Some(OwnPair { range, of: of.into() })
}

/// Whether levels that stand for drawn ones in `before` may stand for those of others in `after`: a label names one of their
/// categories there.
#[must_use]
pub fn draws_anew(before: &Scene, after: &Scene) -> bool {
    let containers: usize = before.workloads.iter().map(|workload| workload.containers.len()).sum();
    // As many categories from the top as make a pair for each.
    let used = (1..1024).find(|used| used * (used - 1) / 2 > containers).unwrap_or(1024);
    let (was, is) = (named_categories(before), named_categories(after));
    let free = |named: &BTreeSet<u32>| -> Vec<u32> {
        (0..1024).rev().filter(|category| !named.contains(category)).take(used).collect()
    };
    free(&was) != free(&is)
}

/// Every category that a label of the scene names itself, and not as one of a range.
pub(super) fn named_categories(scene: &Scene) -> BTreeSet<u32> {
    let images = scene.images.values().filter_map(|image| image.tree.as_deref());
    let volumes = scene.volumes.values().filter_map(|volume| volume.tree.as_deref());
    let trees = images.chain(volumes).chain(scene.host.tree.as_deref());
    let mut named: BTreeSet<u32> = trees.flat_map(Tree::labels).flat_map(categories).collect();
    let mounts = scene.host.mounts.iter();
    let root = mounts.clone().filter_map(|mounts| mounts.covering(b"/"));
    let below = mounts.flat_map(|mounts| mounts.below(b"/")).map(|(mount, _)| mount);
    let mounts = root.chain(below).map(|mount| &mount.labels);
    let volumes = scene.volumes.values().map(|volume| &volume.labels);
    let claims = scene.cluster.volumes.values().map(|volume| &volume.labels);
    let classes = scene.cluster.classes.values().map(|class| &class.labels);
    for labels in mounts.chain(volumes).chain(claims).chain(classes) {
        let told: [Option<&Arc<str>>; 3] = match labels {
            Labels::Mounted(label) => [Some(label), None, None],
            Labels::Stored(beside) => {
                [beside.rest.as_ref(), beside.filesystem.as_ref(), beside.root.as_ref()]
            }
            Labels::Container | Labels::Open | Labels::ByPath => [None; 3],
        };
        named.extend(told.into_iter().flatten().flat_map(|label| categories(label)));
    }
    let containers = scene.workloads.iter().flat_map(|workload| &workload.containers);
    for asked in containers.map(|container| &container.label) {
        let facts = asked.level.iter().chain(&asked.whole).chain(&asked.files);
        facts.for_each(|fact| named.extend(categories(&fact.value)));
    }
    named
}

fn categories(label: &str) -> impl Iterator<Item = u32> {
    label.split([':', ',', '-']).filter_map(|part| part.strip_prefix('c')?.parse().ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn categories_that_a_label_names() {
        let named = |label| categories(label).collect::<Vec<_>>();
        assert_eq!(named("system_u:object_r:container_file_t:s0:c12,c40"), [12, 40]);
        assert_eq!(named("u:r:cron_t:s0-s0:c0.c1023"), [] as [u32; 0]);
        assert_eq!(named("s0:c1,c3.c5"), [1]);
    }
}
