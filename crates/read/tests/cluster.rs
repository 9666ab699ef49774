//! Objects beside a pod as facts: what `get pod,pvc,pv,storageclass,csidriver,configmap,secret -o yaml` gives.

mod fixtures;

use mivask_core::question::{facts_at, mounts};
use mivask_core::stage::Stage;

use fixtures::{identity, read, stage};

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

// The rows of docs/facts/kubelet.md 6.1 to 6.3.
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
fn a_pod_with_users_of_its_own_does_not_start_on_what_takes_no_id_map() {
    let pod = |spec: &str| {
        let text = format!(
            "{{ apiVersion: v1, kind: Pod, metadata: {{ name: p }}, spec: {{ {spec}volumes: [ {{ name: v, nfs: {{ server: s, path: /x }} }} ], \
             containers: [ {{ name: c, image: i, volumeMounts: [ {{ name: v, mountPath: /v }} ] }} ] }} }}\n"
        );
        let stage = stage("s.yaml", &[("s.yaml", "scene: 1\nworkloads: [pod.yaml]\n"), ("pod.yaml", &text)]);
        stage.actors[0].refusal().map(|refusal| refusal.reason.clone())
    };
    let reason =
        "/v is on nfs, which no mount maps ids of: a pod with users of its own does not start (EINVAL)";
    assert_eq!(pod("hostUsers: false, ").as_deref(), Some(reason));
    assert_eq!(pod(""), None);
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
            let (scene, diagnostics) = read("m.yaml", &[("m.yaml", &$text.replace("POD", "{ containers: [ { name: c, image: i } ] }"))]);
            assert_eq!(diagnostics, [] as [&str; 0]);
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

/// A pod whose container mounts `volume` with these fields, and more fields of the container.
fn mounting(volume: &str, fields: &str, container: &str) -> Stage {
    let text = format!(
        "{{ apiVersion: v1, kind: Pod, metadata: {{ name: p, namespace: sea }}, spec: {{ securityContext: {{ fsGroup: 7000 }}, volumes: [ {{ name: v, {volume} }} ], \
         containers: [ {{ name: c, image: i{container}, volumeMounts: [ {{ name: v, mountPath: /v{fields} }} ] }} ] }} }}\n"
    );
    stage("pod.yaml", &[("pod.yaml", &text)])
}

const ENV: &str = ", env: [ { name: A, value: one }, { name: POD, valueFrom: { fieldRef: { fieldPath: metadata.name } } }, \
                   { name: NS, valueFrom: { fieldRef: { fieldPath: metadata.namespace } } }, { name: X, valueFrom: { configMapKeyRef: { name: m, key: k } } } ]";

#[test]
fn a_part_named_by_the_environment() {
    let part = |expression: &str| mounting("emptyDir: {}", &format!(", subPathExpr: {expression}"), ENV);
    let known = part("$(NS)/$(POD)-$(A)-$$x");
    let mount =
        known.actors[0].mounts.iter().find(|(_, mount)| &*mount.facts.at == b"/v").expect("it is mounted").1;
    let tree = &known.source(mount.variants[0].source).tree;
    assert_eq!((mount.root, facts(&known, "/v")), (tree.find(b"sea/p-one-$x"), "0:7000 2777".into()));
    assert_eq!(facts(&part("$(X)"), "/v"), "nothing", "nobody knows what it is");
    assert_eq!(
        identity(&part("$(NOPE)")),
        "refused: subPathExpr names $NOPE, which the container does not define"
    );
}

macro_rules! inline {
    ($($name:ident: $volume:literal => $notes:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(notes(&mounting($volume, "", "")), $notes);
        }
    )+};
}

inline! {
    an_inline_nfs: "nfs: { server: s, path: / }" => "nfs an NFS volume never gets the filesystem group";
    an_inline_iscsi: "iscsi: { targetPortal: t, iqn: q, lun: 0, fsType: xfs }" => "xfs the kubelet gives the volume to group 7000, its root at least 2770";
    an_inline_disk_has_the_apis_own_type: "fc: { }" => "ext4 the kubelet gives the volume to group 7000, its root at least 2770";
    a_read_only_disk: "rbd: { monitors: [m], image: x, readOnly: true }" => "ext4 it is asked for read-only, so the filesystem group is not applied";
    an_inline_cephfs: "cephfs: { monitors: [m] }" => "- a cephfs volume never gets the filesystem group";
    an_image: "image: { reference: other }" => "overlay ";
    an_unknown_plugin: "flocker: { datasetName: x }" => "- ";
}

#[test]
fn azure_file_shows_the_group_that_its_option_gives() {
    let stage = mounting("azureFile: { secretName: s, shareName: x }", "", "");
    assert_eq!(facts(&stage, "/v"), "0:7000 0755");
}

#[test]
fn an_ephemeral_claim_is_named_after_pod_and_volume() {
    let stage = mounting(
        "ephemeral: { volumeClaimTemplate: { spec: { accessModes: [ReadWriteOnce], resources: { requests: { storage: 1Gi } } } } }",
        "",
        "",
    );
    let row =
        mounts(&stage, &stage.actors[0]).into_iter().find(|row| row.at == b"/v").expect("it is mounted");
    assert_eq!(&*row.source, "claim p-v");
}

#[test]
fn a_stateful_set_mounts_the_claim_of_its_first_pod() {
    let text = "{ apiVersion: apps/v1, kind: StatefulSet, metadata: { name: tide }, spec: { selector: {}, serviceName: x, template: { spec: { containers: [ { name: c, image: i, \
                volumeMounts: [ { name: data, mountPath: /v } ] } ] } }, volumeClaimTemplates: [ { metadata: { name: data }, spec: { accessModes: [ReadWriteOnce] } } ] } }\n";
    let stage = stage("set.yaml", &[("set.yaml", text)]);
    let row =
        mounts(&stage, &stage.actors[0]).into_iter().find(|row| row.at == b"/v").expect("it is mounted");
    assert_eq!(&*row.source, "claim data-tide-0");
}

#[test]
fn every_container_of_a_pod_is_an_actor() {
    let text = "{ apiVersion: v1, kind: Pod, metadata: { name: p }, spec: { initContainers: [ { name: a, image: i }, { name: b, image: i, restartPolicy: Always } ], \
                containers: [ { name: c, image: i } ], ephemeralContainers: [ { name: d, image: i } ] } }\n";
    let stage = stage("pod.yaml", &[("pod.yaml", text)]);
    let all = stage.actors.iter().map(|actor| format!("{} {}", actor.container, actor.role.word()));
    assert_eq!(all.collect::<Vec<_>>(), ["a init", "b sidecar", "c app", "d ephemeral"]);
}

#[test]
fn cri_o_says_that_it_was_not_measured() {
    let scene =
        "scene: 1\nruntime: cri-o\nworkloads: [pod.yaml]\nimages: { i: { user: null, accounts: null } }\n";
    let text = "{ apiVersion: v1, kind: Pod, metadata: { name: p }, spec: { containers: [ { name: c, image: i, securityContext: { capabilities: { drop: [CAP_CHOWN] } } } ] } }\n";
    let stage = stage("s.yaml", &[("s.yaml", scene), ("pod.yaml", text)]);
    let resolved = &stage.actors[0].identity;
    assert!(resolved.assumptions[0].starts_with("CRI-O was not measured"));
    let effective = resolved.possible[0].1.effective.to_string();
    assert_eq!(effective, "DAC_OVERRIDE FOWNER FSETID KILL SETGID SETUID SETPCAP NET_BIND_SERVICE");
}

#[test]
fn what_hides_and_keeps_the_kernels_files() {
    let at = |container: &str| {
        let stage = mounting("emptyDir: {}", "", container);
        let rows = mounts(&stage, &stage.actors[0]);
        rows.iter().filter(|row| row.at.starts_with(b"/proc/")).count()
    };
    assert_eq!((at(""), at(", securityContext: { privileged: true }")), (11, 0));
}
