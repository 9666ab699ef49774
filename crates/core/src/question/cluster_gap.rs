//! Whether objects of a cluster would say more about a pod's volumes than the input does.

use mivask_stage::runtime::Flavour;
use mivask_stage::scene::{Scene, VolumeKind, Workload};

use super::remark::Remark;

/// What to ask the cluster for: everything that is read beside pods.
const OBJECTS: &str = "pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount";

/// How the cluster tells what is missing, where a claim of the pod is bound to no volume that is given, and no scene says what is on it.
pub(super) fn cluster_gap(scene: &Scene, workload: &Workload) -> Option<Remark> {
    if workload.flavour != Flavour::Pod {
        return None;
    }
    let claim = workload.volumes.iter().find(|volume| {
        let VolumeKind::Claim { claim, .. } = &volume.kind else { return false };
        let bound = scene.cluster.bound(&workload.namespace, claim).1.is_some();
        let told = scene.claim(&workload.namespace, claim).is_some_and(|facts| facts.tree.is_some());
        !bound && !told
    })?;
    let namespace = match workload.namespace.as_str() {
        "" | "default" => String::new(),
        name => format!(" -n {name}"),
    };
    Some(Remark {
        message: "what is behind its claims is not in the input: a cluster that runs this can tell"
            .to_owned(),
        help: Some(format!(
            "pipe `... get {OBJECTS}{namespace} -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots"
        )),
        from: claim.name.from.clone(),
        note: true,
    })
}
