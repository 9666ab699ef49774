//! Objects beside a pod as facts: what `get pod,pvc,pv,storageclass,csidriver,configmap,secret -o yaml` gives.

mod fixtures;

use fixtures::{identity, read, stage};
use mivask_core::question::{facts_at, mounts};
use mivask_core::stage::Stage;

/// A pod with one volume `v` at /v under filesystem group 7000, and other objects.
fn pod(volume: &str, mount: &str, objects: &[&str]) -> Stage {
    with("{ fsGroup: 7000 }", volume, mount, objects)
}

fn with(security: &str, volume: &str, mount: &str, objects: &[&str]) -> Stage {
    let mut text = format!(
        "{{ apiVersion: v1, kind: Pod, metadata: {{ name: p }}, spec: {{ securityContext: {security}, volumes: [ {{ name: v, {volume} }} ], \
         containers: [ {{ name: c, image: i, securityContext: {{ runAsUser: 5 }}, volumeMounts: [ {{ name: v, mountPath: /v{mount} }} ] }} ] }} }}\n"
    );
    for object in objects {
        text.push_str("---\n");
        text.push_str(object);
        text.push('\n');
    }
    stage("pod.yaml", &[("pod.yaml", &text)])
}

/// `uid:gid mode` of a path inside.
fn facts(stage: &Stage, path: &str) -> String {
    let Some(facts) = facts_at(stage, &stage.actors[0], path.as_bytes()) else { return "nothing".to_owned() };
    let id = |id: Option<u32>| id.map_or("?".to_owned(), |id| id.to_string());
    let mode = facts.mode.map_or("?".to_owned(), |mode| mode.to_string());
    format!("{}:{} {mode}", id(facts.uid.map(|uid| uid.raw())), id(facts.gid.map(|gid| gid.raw())))
}

const CONF: &str = "{ apiVersion: v1, kind: ConfigMap, metadata: { name: conf }, data: { a: x, b: y } }";
const KEYS: &str = "{ apiVersion: v1, kind: Secret, metadata: { name: keys }, stringData: { k: x } }";
const NO_GROUP: &str = "{}";

macro_rules! api {
    ($($name:ident: $security:expr, $volume:literal, $path:literal => $facts:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(facts(&with($security, $volume, "", &[CONF, KEYS]), $path), $facts);
        }
    )+};
}

const GROUP: &str = "{ fsGroup: 7000 }";

// The rows of facts/kubelet.md 6.1 to 6.3.
api! {
    config_map_root: NO_GROUP, "configMap: { name: conf }", "/v" => "0:0 0777";
    config_map_root_with_a_group: GROUP, "configMap: { name: conf }", "/v" => "0:7000 2777";
    secret_root: NO_GROUP, "secret: { secretName: keys }", "/v" => "0:0 1777";
    secret_root_with_a_group: GROUP, "secret: { secretName: keys }", "/v" => "0:7000 3777";
    downward_root: NO_GROUP, "downwardAPI: { items: [] }", "/v" => "0:0 1777";
    the_real_directory: NO_GROUP, "configMap: { name: conf }", "/v/..data" => "0:0 0755";
    the_real_directory_with_a_group: GROUP, "configMap: { name: conf }", "/v/..data" => "0:7000 2755";
    a_directory_of_items: GROUP, "configMap: { name: conf, items: [ { key: a, path: p/q/a } ] }", "/v/p/q" => "0:7000 2755";
    a_default_mode: NO_GROUP, "configMap: { name: conf }", "/v/a" => "0:0 0644";
    a_key_that_is_no_item: NO_GROUP, "configMap: { name: conf, items: [ { key: a, path: a } ] }", "/v/b" => "nothing";
    an_items_mode: NO_GROUP, "configMap: { name: conf, defaultMode: 0400, items: [ { key: a, path: a, mode: 0755 } ] }", "/v/a" => "0:0 0755";
    mode_0400: NO_GROUP, "secret: { secretName: keys, defaultMode: 0400 }", "/v/k" => "0:0 0400";
    mode_0400_with_a_group: GROUP, "secret: { secretName: keys, defaultMode: 0400 }", "/v/k" => "0:7000 0440";
    mode_0600_with_a_group: GROUP, "secret: { secretName: keys, defaultMode: 0600 }", "/v/k" => "0:7000 0640";
    mode_0000_with_a_group: GROUP, "secret: { secretName: keys, defaultMode: 0 }", "/v/k" => "0:7000 0440";
    mode_0222_with_a_group: GROUP, "secret: { secretName: keys, defaultMode: 0222 }", "/v/k" => "0:7000 0662";
    a_mode_in_decimal: NO_GROUP, "secret: { secretName: keys, defaultMode: 384 }", "/v/k" => "0:0 0600";
    a_token_of_one_user: NO_GROUP, "projected: { defaultMode: 0444, sources: [ { serviceAccountToken: { path: t } } ] }", "/v/t" => "5:0 0600";
    a_token_with_a_group: GROUP, "projected: { sources: [ { serviceAccountToken: { path: t } } ] }", "/v/t" => "5:7000 0640";
    beside_a_token: NO_GROUP, "projected: { defaultMode: 0440, sources: [ { serviceAccountToken: { path: t } }, { configMap: { name: conf } } ] }", "/v/a" => "0:0 0440";
    the_automatic_token: NO_GROUP, "configMap: { name: conf }", "/var/run/secrets/kubernetes.io/serviceaccount/token" => "5:0 0600";
    the_automatic_certificate: NO_GROUP, "configMap: { name: conf }", "/var/run/secrets/kubernetes.io/serviceaccount/ca.crt" => "0:0 0644";
    the_automatic_volume: GROUP, "configMap: { name: conf }", "/var/run/secrets/kubernetes.io/serviceaccount" => "0:7000 3777";
}

#[test]
fn a_sub_path_of_a_missing_key_is_a_directory() {
    let stage = with(NO_GROUP, "configMap: { name: conf }", ", subPath: none", &[CONF]);
    assert_eq!(facts(&stage, "/v"), "0:0 0777");
    let stage = with(NO_GROUP, "configMap: { name: conf }", ", subPath: a", &[CONF]);
    assert_eq!(facts(&stage, "/v"), "0:0 0644");
}

#[test]
fn a_missing_key_keeps_the_pod_waiting() {
    let stage = with(NO_GROUP, "configMap: { name: conf, items: [ { key: z, path: z } ] }", "", &[CONF]);
    assert_eq!(identity(&stage), "refused: ConfigMap conf has no key `z`, so the pod waits for ever");
}

fn claim(spec: &str) -> String {
    format!(
        "{{ apiVersion: v1, kind: PersistentVolumeClaim, metadata: {{ name: data }}, spec: {{ accessModes: [ReadWriteOnce], {spec} }} }}"
    )
}

fn persistent(spec: &str) -> String {
    format!(
        "{{ apiVersion: v1, kind: PersistentVolume, metadata: {{ name: pv }}, spec: {{ accessModes: [ReadWriteOnce], {spec} }} }}"
    )
}

const CLAIMED: &str = "persistentVolumeClaim: { claimName: data }";
const DRIVER: &str = "{ apiVersion: storage.k8s.io/v1, kind: CSIDriver, metadata: { name: d }, spec: {} }";

/// What is said of the mount at /v.
fn notes(stage: &Stage) -> String {
    let row = mounts(stage, &stage.actors[0]).into_iter().find(|row| row.at == b"/v").expect("it is mounted");
    let unknown = row.question.map_or(String::new(), |unknown| format!(" ? {}", unknown.fact));
    format!("{} {}{unknown}", row.filesystem.as_deref().unwrap_or("-"), row.notes.join("; "))
}

#[test]
fn a_claim_is_what_its_volume_is_made_of() {
    let nfs = persistent("nfs: { server: s, path: / }, mountOptions: [noexec, nfsvers=4.1]");
    let stage = pod(CLAIMED, "", &[&claim("volumeName: pv"), &nfs]);
    assert_eq!(notes(&stage), "nfs an NFS volume never gets the filesystem group");
    let row =
        mounts(&stage, &stage.actors[0]).into_iter().find(|row| row.at == b"/v").expect("it is mounted");
    assert_eq!(row.flags.to_string(), "rw,noexec");
}

#[test]
fn a_volume_may_name_its_claim() {
    let csi = persistent(
        "claimRef: { name: data, namespace: default }, csi: { driver: d, volumeHandle: h, fsType: xfs }",
    );
    let stage = pod(CLAIMED, "", &[&csi, DRIVER]);
    assert_eq!(notes(&stage), "xfs the kubelet gives the volume to group 7000, its root at least 2770");
}

#[test]
fn a_class_says_which_driver() {
    let class =
        "{ apiVersion: storage.k8s.io/v1, kind: StorageClass, metadata: { name: fast }, provisioner: d }";
    let stage = pod(CLAIMED, "", &[&claim("storageClassName: fast"), class, DRIVER]);
    assert_eq!(notes(&stage), "- fsGroupPolicy of d is ReadWriteOnceWithFSType, and no fsType is set");
    let stage = pod(CLAIMED, "", &[&claim("storageClassName: fast"), class]);
    assert!(notes(&stage).ends_with(
        "? the fsGroupPolicy of CSI driver d, so whether the filesystem group reaches claim data"
    ));
}

#[test]
fn a_local_volume_is_stepped_on_the_host() {
    let local = persistent("local: { path: /srv/disk }");
    let scene = "scene: 1\nworkloads: [pod.yaml]\nhost: { tree: [ { path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /srv, kind: dir, owner: '0:0', mode: 0755 }, \
                 { path: /srv/key, owner: '7:8', mode: 0400 }, { path: /srv/disk, kind: dir, owner: '7:8', mode: 0700 }, { path: /srv/disk/key, owner: '7:8', mode: 0400 } ] }\n";
    let pod = |read_only: &str| {
        let text = format!(
            "{{ apiVersion: v1, kind: Pod, metadata: {{ name: p }}, spec: {{ securityContext: {{ fsGroup: 7000 }}, volumes: [ {{ name: v, \
             persistentVolumeClaim: {{ claimName: data{read_only} }} }}, {{ name: h, hostPath: {{ path: /srv }} }} ], containers: [ {{ name: c, image: i, \
             volumeMounts: [ {{ name: v, mountPath: /v }}, {{ name: h, mountPath: /h }} ] }} ] }} }}\n---\n{}\n---\n{local}\n",
            claim("volumeName: pv")
        );
        stage("s.yaml", &[("s.yaml", scene), ("pod.yaml", &text)])
    };
    let stepped = pod("");
    assert_eq!(
        (facts(&stepped, "/v"), facts(&stepped, "/v/key")),
        ("7:7000 2770".into(), "7:7000 0660".into())
    );
    assert_eq!(facts(&stepped, "/h/key"), "7:8 0400", "the rest of the host stays");
    assert_eq!(facts(&pod(", readOnly: true"), "/v/key"), "7:8 0400");
}

#[test]
fn a_pod_with_users_of_its_own_sees_stored_ids() {
    let text = "{ apiVersion: v1, kind: Pod, metadata: { name: p }, spec: { hostUsers: false, volumes: [ { name: v, hostPath: { path: /srv } } ], \
                containers: [ { name: c, image: i, volumeMounts: [ { name: v, mountPath: /v } ] } ] } }\n";
    let scene = "scene: 1\nworkloads: [pod.yaml]\nhost: { tree: [ { path: /srv, kind: dir, owner: '7:8', mode: 0700 } ] }\n";
    let stage = stage("s.yaml", &[("s.yaml", scene), ("pod.yaml", text)]);
    assert_eq!(facts(&stage, "/v"), "7:8 0700");
}

#[test]
fn a_platform_assigns_ids_to_pods_that_name_none() {
    let scene = "scene: 1\nworkloads: [pod.yaml]\nassigned: { user: 1000650000, group: 0, filesystem-group: 1000650000 }\nimages: { i: { user: null, accounts: null } }\n";
    let pod = |security: &str| {
        let text = format!(
            "{{ apiVersion: v1, kind: Pod, metadata: {{ name: p }}, spec: {{ containers: [ {{ name: c, image: i{security} }} ] }} }}\n"
        );
        identity(&stage("s.yaml", &[("s.yaml", scene), ("pod.yaml", &text)]))
    };
    assert_eq!(pod(""), "1000650000:0 0,1000650000");
    assert_eq!(pod(", securityContext: { runAsUser: 5, runAsGroup: 6 }"), "5:6 6,1000650000");
}

#[test]
fn containerd_1_6_captures_group_names() {
    let accounts = format!(
        "images: {{ i: {{ user: null, accounts: {{ passwd: 'root:x:0:0', group: {:?} }} }} }}",
        fixtures::GROUP
    );
    let under = |runtime: &str| {
        let scene = format!("scene: 1\nruntime: {runtime}\nworkloads: [pod.yaml]\n{accounts}\n");
        let text = "{ apiVersion: v1, kind: Pod, metadata: { name: p }, spec: { securityContext: { runAsUser: 5, fsGroup: 4300 }, containers: [ { name: c, image: i } ] } }\n";
        identity(&stage("s.yaml", &[("s.yaml", &scene), ("pod.yaml", text)]))
    };
    assert_eq!((under("containerd"), under("containerd-1.6")), ("5:0 0,4300".into(), "5:0 0,4301".into()));
}

macro_rules! kinds {
    ($($name:ident: $text:literal => $workload:literal;)+) => {$(
        #[test]
        fn $name() {
            let (scene, slips) = read("m.yaml", &[("m.yaml", &$text.replace("POD", "{ containers: [ { name: c, image: i } ] }"))]);
            assert_eq!(slips, [] as [&str; 0]);
            let all = scene.workloads.iter().map(|workload| format!("{} {}/{}", workload.kind, workload.namespace, workload.name));
            assert_eq!(all.collect::<Vec<_>>().join(", "), $workload);
        }
    )+};
}

kinds! {
    a_daemon_set: "{ apiVersion: apps/v1, kind: DaemonSet, metadata: { name: x, namespace: sea }, spec: { template: { spec: POD } } }" => "DaemonSet sea/x";
    a_replica_set: "{ apiVersion: apps/v1, kind: ReplicaSet, metadata: { name: x }, spec: { template: { spec: POD } } }" => "ReplicaSet default/x";
    a_replication_controller: "{ apiVersion: v1, kind: ReplicationController, metadata: { name: x }, spec: { template: { spec: POD } } }" => "ReplicationController default/x";
    a_job: "{ apiVersion: batch/v1, kind: Job, metadata: { generateName: x- }, spec: { template: { spec: POD } } }" => "Job default/x";
    a_cron_job: "{ apiVersion: batch/v1, kind: CronJob, metadata: { name: x }, spec: { schedule: '* * * * *', jobTemplate: { spec: { template: { spec: POD } } } } }" => "CronJob default/x";
    a_pod_template: "{ apiVersion: v1, kind: PodTemplate, metadata: { name: x }, template: { spec: POD } }" => "PodTemplate default/x";
    a_list: "{ apiVersion: v1, kind: PodList, items: [ { apiVersion: v1, kind: Pod, metadata: { name: x }, spec: POD }, { apiVersion: v1, kind: Pod, metadata: { name: z }, spec: POD } ] }" => "Pod default/x, Pod default/z";
}
