//! What the filesystem groups of the pods that share a volume make of it (docs/facts/kubelet.md section 7).

use std::sync::Arc;

use mivask_model::fact::{Fact, Unknown};
use mivask_model::ids::DiskOwner;
use mivask_model::mode::Mode;
use mivask_model::mount::{Preparation, RootFacts, Source, Variant};
use mivask_model::mount_kind::MountKind;
use mivask_model::tree::{Certainty, InodeId, Tree};

use super::context::Context;
use super::fs_group::{self, GroupStep, Masks, Policy, StepReport};
use super::group_step::Reach;
use super::prepared::{Prepared, root_facts};
use crate::stage::Stage;

/// A pod's filesystem group, and when the kubelet walks a volume for it.
#[derive(Clone, Debug)]
pub(super) struct Step {
    pub group: Fact<u32>,
    pub policy: Policy,
}

/// The step of another pod.
#[derive(Clone, Debug)]
pub(super) struct Rival {
    pub pod: String,
    pub step: Step,
}

/// Every step that may have reached a volume.
#[derive(Debug, Default)]
pub(super) struct GroupSteps<'a> {
    /// The pod's own, and whether it reaches the volume.
    pub own: Option<(&'a Step, Reach)>,
    /// Those of other pods, one for each other group.
    pub others: Vec<Rival>,
    /// Whether those reach it for certain.
    pub others_reach: bool,
}

/// The pods that mount `claim` under another group than `own`. The kubelet leaves a local volume alone while another
/// pod has it, and walks others for each pod that starts: either way the order decides whose group is found.
pub(super) fn rivals(context: &Context<'_>, claim: &str, own: Option<&Step>) -> Vec<Rival> {
    let mounting = context.sharing.on(&context.workload.namespace, claim);
    let assigned = context.scene.assigned.filesystem_group.as_ref();
    let mut all: Vec<Rival> = Vec::new();
    for one in mounting {
        // A platform gives its own to pods that name none.
        let Some(group) = one.group.as_ref().or(assigned) else { continue };
        let mut known = all.iter().map(|rival| &rival.step).chain(own).map(|step| step.group.value);
        if !known.any(|other| other == group.value) {
            let policy = Policy::of(one.on_root_mismatch);
            all.push(Rival { pod: one.pod.clone(), step: Step { group: group.clone(), policy } });
        }
    }
    all
}

/// The volume with each step that may have been the last, below `top`.
pub(super) fn with_steps(
    stage: &mut Stage,
    base: Source,
    kind: MountKind,
    top: InodeId,
    steps: &GroupSteps<'_>,
) -> Prepared {
    let name = base.facts.name.clone();
    let before = known_root(&base.tree, top);
    let mut variants = Vec::new();
    // Every tree is made where no one knows which it is; the question then chooses between them.
    let mut step = |step: &Step, when: String| {
        let mut tree = base.tree.clone();
        let report = stepped(Arc::make_mut(&mut tree), top, step);
        let preparation = Preparation {
            before,
            touches: report.touched,
            notes: report.note.into_iter().collect(),
            made: false,
        };
        let source = stage.add_source(Source { tree, ..base.clone() });
        variants.push(Variant { when: when.into(), source, preparation: Arc::new(preparation) });
    };
    let own = match &steps.own {
        Some((own, Reach::Yes | Reach::Open(_))) => Some(*own),
        Some((_, Reach::No(_))) | None => None,
    };
    let alone = steps.others.is_empty();
    let of_own = own.map(|own| {
        let group = own.group.value;
        let shared = format!("{name} has the pod's own filesystem group, {group}");
        (own, if alone { format!("filesystem group {group} reaches {name}") } else { shared })
    });
    let of_others = steps.others.iter().map(|rival| {
        let group = rival.step.group.value;
        (&rival.step, format!("{name} has the filesystem group of {}, {group}", rival.pod))
    });
    // By number, so that the possibilities of every pod on the volume are the same ones in the same order.
    let mut all: Vec<(&Step, String)> = of_own.into_iter().chain(of_others).collect();
    all.sort_by_key(|(step, _)| step.group.value);
    all.into_iter().for_each(|(one, when)| step(one, when));
    let reached = matches!(steps.own, Some((_, Reach::Yes)));
    if !reached {
        let note = match &steps.own {
            None => None,
            Some((_, Reach::No(why))) => Some(why.clone()),
            Some((_, Reach::Yes | Reach::Open(_))) => {
                Some(Arc::from("the filesystem group is not applied to this volume"))
            }
        };
        let preparation = Preparation { before, notes: note.into_iter().collect(), ..Preparation::default() };
        let when = match steps.others.first() {
            Some(rival) if steps.others_reach => format!("{} has not mounted {name} yet", rival.pod),
            None if steps.own.is_none() => String::new(),
            Some(_) | None => format!("it does not reach {name} (as with hostPath and NFS volumes)"),
        };
        let source = stage.add_source(base);
        variants.push(Variant { when: when.into(), source, preparation: Arc::new(preparation) });
    }
    let question = match (&steps.own, steps.others.as_slice()) {
        (Some((_, Reach::Open(unknown))), []) => Some(unknown.clone()),
        (_, []) => None,
        (_, [first, ..]) => Some(order(&name, &first.pod)),
    };
    let first = variants[0].source;
    Prepared { variants, question, ..Prepared::single(first, kind, Preparation::default()) }
}

fn order(name: &str, other: &str) -> Unknown {
    let settle = "give the volume's tree as it is once both run, and `group-ownership: skip`";
    Unknown::new(
        &format!("whether {other} mounts {name} before, and so whose filesystem group it has"),
        settle,
    )
}

/// The step below `top`. One whose root is unknown is known in part then: its group, and at least 2770, whether the
/// step walked it or found that it matched.
pub(super) fn stepped(tree: &mut Tree, top: InodeId, step: &Step) -> StepReport {
    let Step { group: Fact { value: group, from, .. }, policy } = step;
    let (group, policy) = (*group, *policy);
    if known_root(tree, top).is_some() {
        return fs_group::apply(tree, &GroupStep { top, group, policy, masks: Masks::WRITABLE, from });
    }
    let text =
        "after the filesystem-group step the volume's root is at least 2770; its owner is taken to be root";
    tree.doubt_attributes(top, Certainty::Assumed(text.into()));
    tree.own(top, DiskOwner::new(0, group), Mode::new(0o2770), from.clone());
    let note = format!("the kubelet gives the volume to group {group}, its root at least 2770");
    StepReport { touched: 0, note: Some(note.into()) }
}

fn known_root(tree: &Tree, root: InodeId) -> Option<RootFacts> {
    let unknown = tree.doubt(root).is_some_and(|doubt| doubt.unknown_attribute().is_some());
    (!unknown).then(|| root_facts(tree, root))
}
