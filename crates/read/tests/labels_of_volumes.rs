//! SELinux labels of volumes: what the kubelet makes of claims, engines of volumes that they make, and a scene of labels that its
//! policy does not know.

#![expect(clippy::unwrap_used, reason = "tests")]

mod labels {
    pub(crate) mod scenes;
}

use labels::scenes::{POLICY, scene_with, staged_with, verdict};
use mivask_core::prepare;
use mivask_core::question::remarks;
use mivask_core::stage::Stage;

const LEVEL: &str = "seLinuxOptions: { level: 's0:c3,c4' }";

/// A workload of `kind` on a claim whose files are var_t, by the CSI driver `d.example`.
struct Claimed<'a> {
    kind: &'a str,
    security: &'a str,
    modes: &'a str,
    driver: &'a str,
    read_only: bool,
    options: &'a str,
}

impl Claimed<'_> {
    fn stage(&self) -> Stage {
        let pod = format!(
            "securityContext: {{ runAsUser: 7101, {} }}, containers: [{{ name: a, image: i, volumeMounts: [{{ name: v, mountPath: /data }}] }}], \
             volumes: [{{ name: v, persistentVolumeClaim: {{ claimName: c, readOnly: {} }} }}]",
            self.security, self.read_only
        );
        let spec = match self.kind {
            "Pod" => pod,
            _ => format!("replicas: 2, template: {{ spec: {{ {pod} }} }}"),
        };
        let version = if self.kind == "Pod" { "v1" } else { "apps/v1" };
        let objects = format!(
            "apiVersion: {version}\nkind: {}\nmetadata: {{ name: p }}\nspec: {{ {spec} }}\n---\n\
             apiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: {{ name: c }}\nspec: {{ volumeName: w, accessModes: [{}] }}\n---\n\
             apiVersion: v1\nkind: PersistentVolume\nmetadata: {{ name: w }}\nspec: {{ accessModes: [{}], mountOptions: [{}], csi: {{ driver: \
             d.example, fsType: ext4, volumeHandle: h }} }}\n{}",
            self.kind, self.modes, self.modes, self.options, self.driver
        );
        let scene = format!(
            "scene: 1\nworkloads: [p.yaml]\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nimages: {{ i: {{ user: '7101:7101' }} }}\n\
             volumes: {{ c: {{ tree: [{{ path: /, kind: dir, owner: '7101:7101', mode: '0755', label: \
             'system_u:object_r:var_t:s0' }}] }} }}\n"
        );
        staged_with(&scene, &[("p.yaml", &objects)])
    }

    fn reads(&self) -> String {
        verdict(&self.stage(), "a lists /data").split(':').next().unwrap().to_owned()
    }
}

const POD: Claimed<'_> =
    Claimed { kind: "Pod", security: "", modes: "ReadWriteOnce", driver: "", read_only: false, options: "" };

fn driver(mounts: bool) -> String {
    format!(
        "---\napiVersion: storage.k8s.io/v1\nkind: CSIDriver\nmetadata: {{ name: d.example }}\nspec: {{ fsGroupPolicy: File, seLinuxMount: {mounts} }}\n"
    )
}

#[test]
fn a_claim_that_is_written_to_has_its_pods_label() {
    assert_eq!(POD.reads(), "allowed");
    assert_eq!(Claimed { security: LEVEL, ..POD }.reads(), "allowed");
    // Replicas draw a level each, and whichever starts last labels it, unless all ask for one.
    let replicas = Claimed { kind: "Deployment", modes: "ReadWriteMany", ..POD };
    assert_eq!(replicas.reads(), "depends on the SELinux labels of claim c");
    assert_eq!(Claimed { security: LEVEL, ..replicas }.reads(), "allowed");
    // One pod at a time has it, whatever it is made by.
    assert_eq!(Claimed { kind: "Deployment", modes: "ReadWriteOncePod", ..POD }.reads(), "allowed");
}

#[test]
fn a_claim_that_is_only_read_is_left_as_it_is() {
    let read = Claimed { read_only: true, ..POD };
    // Without a level of its own nothing is mounted with a label: it stays var_t, which containers may list.
    assert_eq!(read.reads(), "label");
    let levelled = Claimed { security: LEVEL, ..read };
    // Whether the driver takes the option is not told.
    assert_eq!(levelled.reads(), "depends on the SELinux labels of claim c");
    assert_eq!(Claimed { driver: &driver(false), ..levelled }.reads(), "label");
    let taken = driver(true);
    // For claims of several pods a feature has to be on.
    let mounted = Claimed { driver: &taken, ..levelled };
    assert_eq!(mounted.reads(), "depends on the SELinux labels of claim c");
    assert_eq!(Claimed { modes: "ReadWriteOncePod", ..mounted }.reads(), "allowed");
    let recursive = format!("{LEVEL}, seLinuxChangePolicy: Recursive");
    assert_eq!(Claimed { modes: "ReadWriteOncePod", security: &recursive, ..mounted }.reads(), "label");
}

#[test]
fn options_of_a_persistent_volume_give_its_label() {
    let options = "'context=system_u:object_r:var_t:s0'";
    assert_eq!(Claimed { options, ..POD }.reads(), "label");
    let options = "'context=system_u:object_r:container_file_t:s0'";
    let shared = Claimed { kind: "Deployment", modes: "ReadWriteMany", options, ..POD };
    assert_eq!(shared.reads(), "allowed");
}

/// A local volume is a folder of the host, and the kubelet has it labelled all the same.
#[test]
fn a_local_volume_has_its_pods_label() {
    let scene = format!(
        "scene: 1\nworkloads: [p.yaml]\nhost:\n  selinux: {{ policy: '{POLICY}' }}\n  tree:\n    \
         - {{ path: /, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }}\n    \
         - {{ path: /disks, kind: dir, owner: '0:0', mode: '0755', label: 'system_u:object_r:root_t:s0' }}\n    \
         - {{ path: /disks/a, kind: dir, owner: '7101:7101', mode: '0755', label: 'unconfined_u:object_r:user_home_t:s0' }}\n\
         images: {{ i: {{ user: '7101:7101' }} }}\n"
    );
    let lists = |kind: &str, source: &str, read_only: bool| {
        let pod = format!(
            "containers: [{{ name: a, image: i, volumeMounts: [{{ name: v, mountPath: /data }}] }}], volumes: [{{ name: v, persistentVolumeClaim: \
             {{ claimName: c, readOnly: {read_only} }} }}]"
        );
        let (version, spec) = match kind {
            "Pod" => ("v1", pod),
            _ => ("apps/v1", format!("template: {{ spec: {{ {pod} }} }}")),
        };
        let objects = format!(
            "apiVersion: {version}\nkind: {kind}\nmetadata: {{ name: p }}\nspec: {{ {spec} }}\n---\napiVersion: v1\nkind: \
             PersistentVolumeClaim\nmetadata: {{ name: c }}\nspec: {{ volumeName: w, accessModes: [ReadWriteOnce] }}\n---\napiVersion: v1\n\
             kind: PersistentVolume\nmetadata: {{ name: w }}\nspec: {{ accessModes: [ReadWriteOnce], {source}: {{ path: /disks/a }} }}\n"
        );
        verdict(&staged_with(&scene, &[("p.yaml", &objects)]), "a lists /data")
            .split(':')
            .next()
            .unwrap()
            .to_owned()
    };
    assert_eq!(lists("Pod", "local", false), "allowed");
    assert_eq!(
        lists("Deployment", "local", false),
        "depends on which container started last of those that have /disks/a labelled"
    );
    assert_eq!(lists("Pod", "local", true), "label");
    assert_eq!(lists("Pod", "hostPath", false), "label");
}

/// Services of a Compose file on a host with the tests' policy.
fn composed(runtime: &str, services: &str) -> Stage {
    let scene = format!(
        "scene: 1\nruntime: {runtime}\nworkloads: [compose.yaml]\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nimages: {{ i: {{ user: '0:0', tree: \
         [{{ path: /, kind: dir, owner: '0:0', mode: '0755' }}] }} }}\n"
    );
    let services = format!("name: p\nservices:\n{services}\nvolumes: {{ v: {{}} }}\n");
    staged_with(&scene, &[("compose.yaml", &services)])
}

#[test]
fn volumes_that_an_engine_makes_are_everybodys() {
    let own = "  a: { image: i, volumes: ['v:/data'] }\n  b: { image: i, volumes: ['v:/data'] }\n";
    for name in ["a", "b"] {
        assert_eq!(
            verdict(&composed("podman", own), &format!("{name} creates /data/x")),
            "allowed",
            "{name}"
        );
    }
    // Docker labels a named one only where no option is given, and what runs Compose files gives some.
    assert!(
        verdict(&composed("docker", own), "a creates /data/x")
            .starts_with("depends on the SELinux labels of")
    );
    for runtime in ["docker", "podman"] {
        let stage = composed(runtime, "  a: { image: i, volumes: ['/data'] }\n");
        assert_eq!(verdict(&stage, "a creates /data/x"), "allowed", "{runtime}");
    }
}

#[test]
fn labels_that_the_policy_does_not_know_are_told() {
    let told = |labels: &str| {
        let text = format!(
            "scene: 1\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nvolumes:\n  v:\n    filesystem: ext4\n{labels}\n\
             containers:\n  - {{ name: a, user: '1:1', label: 'system_u:system_r:container_t:s0', mounts: [{{ volume: v, at: /data }}] }}\n"
        );
        let scene = scene_with(&text, &[]);
        let all = remarks(&scene, &scene.workloads, &prepare::stage(&scene), &|_| true);
        all.into_iter().map(|one| one.message).collect::<Vec<_>>()
    };
    assert_eq!(
        told("    tree:\n      - { path: /, kind: dir, owner: '1:1', mode: '0755', label: 'u:r:odd_t:s0' }"),
        [
            "the host's policy does not know the label u:r:odd_t:s0 (the policy has no user `u`): what has it is unlabeled"
        ]
    );
    assert_eq!(
        told("    options: ['context=system_u:object_r:odd_t:s0']"),
        [
            "the host's policy does not know the label system_u:object_r:odd_t:s0 (the policy has no type `odd_t`)"
        ]
    );
    assert_eq!(told("    options: ['context=system_u:object_r:var_t:s0']"), [""; 0]);
}

/// Categories that stand for drawn ones are none that anything told has, wherever it was told.
#[test]
fn a_told_level_is_never_taken_for_a_drawn_one() {
    let files = "system_u:object_r:container_file_t:s0:c1022,c1023";
    let service = "  a: { image: i, volumes: ['v:/data'] }\n";
    for told in [
        format!("label: '{files}', tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0777' }}]"),
        format!("options: ['context={files}'], tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0777' }}]"),
        format!("tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0777', label: '{files}' }}]"),
    ] {
        let scene = format!(
            "scene: 1\nruntime: podman\nworkloads: [compose.yaml]\nhost: {{ selinux: {{ policy: '{POLICY}' }} }}\nimages: {{ i: {{ user: '0:0' }} }}\n\
             volumes: {{ v: {{ filesystem: ext4, {told} }} }}\n"
        );
        let compose = format!("name: p\nservices:\n{service}volumes: {{ v: {{ name: v }} }}\n");
        let said = verdict(&staged_with(&scene, &[("compose.yaml", &compose)]), "a lists /data");
        assert!(
            said.starts_with(
                "label: container_t:s0:(own pair of a) may not read container_file_t:s0:c1022,c1023"
            ),
            "{told}: {said}"
        );
    }
}
