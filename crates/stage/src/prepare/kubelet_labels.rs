//! What the kubelet makes of the labels of a pod's volumes: it has the runtime label what can be labelled and is written to, or mounts
//! it with the option `context=`.

use mivask_label::Behavior;
use mivask_model::labels::{Labels, Relabelled};

use super::asked::Asked;
use super::context::Context;
use super::usual_policy;
use crate::cluster::Backing;
use crate::runtime::Flavour;
use crate::scene::{Container, VolumeFacts};

/// The levels that the pod's containers ask for: `None` where they differ.
fn level(context: &Context<'_>) -> Option<Option<String>> {
    let level = |container: &Container| container.label.level.as_ref().map(|level| level.value.clone());
    let mut levels = context.workload.containers.iter().map(level);
    let first = levels.next().flatten();
    levels.all(|level| level == first).then_some(first)
}

/// The labels of a volume that the kubelet makes for a pod: it labels everything there for the pod's containers, as long as
/// these agree.
pub(super) fn of_pods_own(context: &Context<'_>) -> Labels {
    if level(context).is_some() { Labels::Container } else { Labels::Open }
}

/// The labels of a volume of which scene and cluster tell no more than that. What was told is of no use where the kubelet labels it
/// before the pod starts.
pub(super) fn of_volume(
    context: &Context<'_>,
    asked: &Asked<'_>,
    (facts, filesystem): (Option<&VolumeFacts>, Option<&str>),
) -> Labels {
    let told = facts.map(|facts| &facts.labels).filter(|labels| **labels != Labels::default());
    let given = told.or(asked.labels).cloned().unwrap_or_default();
    let policy = context.scene.host.selinux.as_ref().and_then(usual_policy::read_by);
    let Some(policy) = policy.filter(|_| context.workload.flavour == Flavour::Pod) else { return given };
    // What has no attributes cannot be labelled.
    let stored = |name| policy.file_system(name).behavior != Behavior::Paths;
    match filesystem.map(stored) {
        Some(true) => {}
        Some(false) if given == Labels::default() => return Labels::ByPath,
        Some(false) => return given,
        None if matches!(given, Labels::Stored(_)) => return Labels::Open,
        None => return given,
    }
    // Of these the kubelet says that they are not to be labelled (`SELinuxRelabel` of the plugins).
    if matches!(asked.backing, Some(Backing::Nfs | Backing::AzureFile | Backing::Remote(_))) {
        return given;
    }
    match given {
        Labels::Stored(_) if asked.read_only => of_read_only(context, asked, given),
        // Whoever labelled it last labelled it as this pod would.
        Labels::Stored(_) if is_alone(context, asked) || is_alike(context, asked) => of_pods_own(context),
        Labels::Stored(_) => Labels::Open,
        Labels::Mounted(_) | Labels::Container | Labels::Open | Labels::ByPath => given,
    }
}

/// What the kubelet makes of the labels of a local volume, whose files are the host's: as of any other.
pub(super) fn of_local(context: &Context<'_>, asked: &Asked<'_>) -> Option<Relabelled> {
    let pod = context.workload.flavour == Flavour::Pod && context.scene.host.selinux.is_some();
    let alone = is_alone(context, asked) || is_alike(context, asked);
    (pod && !asked.read_only).then_some(if alone && level(context).is_some() {
        Relabelled::Private
    } else {
        Relabelled::Contested
    })
}

/// What is only read is left as it is, but where a CSI driver takes the option `context=` (`seLinuxMount`), and the pod has a level to
/// put there: for a claim of one pod the kubelet does so, for others where a feature is on.
fn of_read_only(context: &Context<'_>, asked: &Asked<'_>, given: Labels) -> Labels {
    let recursively = context.workload.security.labels_recursively.as_ref().is_some_and(|fact| fact.value);
    let by_option = match asked.backing {
        _ if recursively => Some(false),
        Some(Backing::Csi { driver, .. }) => {
            context.scene.cluster.drivers.get(driver).map(|driver| driver.mounts_with_label)
        }
        Some(_) => Some(false),
        None => None,
    };
    let levelled = level(context).is_none_or(|level| level.is_some());
    match by_option.filter(|_| levelled).or((!levelled).then_some(false)) {
        Some(false) if is_alone(context, asked) => given,
        Some(true) if is_for_one_pod(asked) => of_pods_own(context),
        Some(_) | None => Labels::Open,
    }
}

/// `ReadWriteOncePod`
fn is_for_one_pod(asked: &Asked<'_>) -> bool {
    let one = |mode: &String| mode == "ReadWriteOncePod";
    asked.access_modes.is_some_and(|modes| !modes.is_empty() && modes.iter().all(one))
}

/// Whether no other pod has the volume meanwhile, with a level of its own.
fn is_alone(context: &Context<'_>, asked: &Asked<'_>) -> bool {
    is_for_one_pod(asked) || context.workload.kind == "Pod" && !is_shared(context, asked)
}

/// Whether all pods that may have it are made alike, and ask for one level.
fn is_alike(context: &Context<'_>, asked: &Asked<'_>) -> bool {
    level(context).flatten().is_some() && !is_shared(context, asked)
}

fn is_shared(context: &Context<'_>, asked: &Asked<'_>) -> bool {
    context.sharing.workloads_on(&context.workload.namespace, asked.key) > 1
}
