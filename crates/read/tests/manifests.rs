//! What each field of a manifest becomes, and what is said about fields that are wrong.

use std::sync::Arc;

use mivask_core::cluster::Backing;
use mivask_core::fact::Provenance;
use mivask_core::mount::MountFlags;
use mivask_core::scene::{ApiKind, HostPathCheck, Medium, Scene, VolumeKind, Who, Workload};
use mivask_core::stage::Role;
use mivask_read::diagnostic::{Diagnostics, Severity};
use mivask_read::kubernetes::add;
use mivask_read::skipped::Skipped;
use mivask_read::text::SourceText;
use mivask_read::yaml;

/// The workloads of a stream, and each diagnostic as `severity line: message`.
fn read(text: &str) -> (Vec<Workload>, Vec<String>) {
    let source = SourceText::new("m.yaml", text);
    let mut diagnostics = Diagnostics::default();
    let nodes = yaml::parse(&source, &mut diagnostics);
    let mut scene = Scene::default();
    let mut skipped = Skipped::default();
    for node in &nodes {
        add(node, &source, &mut scene, &mut skipped, &mut diagnostics);
    }
    skipped.report(&mut diagnostics);
    let said = diagnostics.iter().map(|diagnostic| {
        let severity = match diagnostic.severity {
            Severity::Note => "note",
            Severity::Warning => "warning",
            Severity::Error => "error",
        };
        let (line, _) = source.line_column(diagnostic.span.start);
        format!("{severity} {line}: {}", diagnostic.message)
    });
    (scene.workloads.into_iter().map(Arc::unwrap_or_clone).collect(), said.collect())
}

const STATION: &str = "\
apiVersion: apps/v1
kind: Deployment
metadata: { name: station }
spec:
  selector: {}
  template:
    spec:
      securityContext:
        runAsUser: 7101
        supplementalGroups: [7310, 7320]
        fsGroupChangePolicy: OnRootMismatch
      initContainers:
      - { name: prime, image: toolbox }
      - { name: watch, image: toolbox, restartPolicy: Always }
      containers:
      - name: gauge
        image: tides/gauge:3
        workingDir: /work
        terminationMessagePath: /last-words
        securityContext:
          readOnlyRootFilesystem: true
          allowPrivilegeEscalation: false
          capabilities: { add: [NET_ADMIN], drop: [ALL, CHOWN] }
        volumeMounts:
        - { name: data, mountPath: data/../x//, subPath: a/b, readOnly: true }
      volumes:
      - { name: data, persistentVolumeClaim: { claimName: readings, readOnly: true } }
      - { name: tmp, emptyDir: { medium: Memory } }
      - { name: host, hostPath: { path: /srv, type: FileOrCreate } }
      - { name: conf, configMap: { name: conf } }
      - { name: disk, csi: { driver: d } }
";

fn station() -> Workload {
    let (mut workloads, diagnostics) = read(STATION);
    assert_eq!(diagnostics, [""; 0]);
    workloads.remove(0)
}

fn place(from: &Provenance) -> String {
    from.to_string()
}

#[test]
fn a_deployment_is_its_pod_template() {
    let station = station();
    assert_eq!((station.name.as_str(), station.kind.as_str()), ("station", "Deployment"));
    let roles: Vec<_> = station.containers.iter().map(|c| (c.name.as_str(), c.role)).collect();
    assert_eq!(roles, [("prime", Role::Init), ("watch", Role::Sidecar), ("gauge", Role::App)]);
}

#[test]
fn every_fact_knows_its_line() {
    let station = station();
    let security = &station.security;
    assert_eq!(place(&security.run_as_user.as_ref().unwrap().from), "m.yaml:9:20 securityContext.runAsUser");
    let groups: Vec<_> =
        security.supplemental_groups.iter().map(|group| (group.value, place(&group.from))).collect();
    assert_eq!(groups[1], (7320, "m.yaml:10:36 securityContext.supplementalGroups".to_owned()));
    assert!(security.on_root_mismatch.as_ref().unwrap().value);
    let gauge = &station.containers[2];
    let Who::Kubernetes(context) = &gauge.who else { panic!("a manifest's container") };
    let drop: Vec<_> = context.capabilities.drop.iter().map(|name| name.value.as_str()).collect();
    assert_eq!((drop, context.capabilities.add[0].value.as_str()), (vec!["ALL", "CHOWN"], "NET_ADMIN"));
    assert_eq!(place(&context.capabilities.drop[1].from), "m.yaml:23:57 securityContext.capabilities.drop");
    assert!(gauge.read_only_root && !gauge.privileged);
    assert_eq!(gauge.working_directory.as_ref().unwrap().value, b"/work");
    assert_eq!(gauge.termination_log.as_ref().unwrap().value, b"/last-words");
}

#[test]
fn mounts_are_made_absolute_and_clean() {
    let mount = &station().containers[2].mounts[0];
    assert_eq!((mount.at.value.as_slice(), mount.read_only), (&b"/x"[..], true));
    assert_eq!(mount.sub_path.as_ref().unwrap().value, b"a/b");
    assert_eq!(mount.flags, MountFlags::default());
}

#[test]
fn volumes_are_told_apart() {
    let station = station();
    let kind = |index: usize| &station.volumes[index].kind;
    assert!(matches!(kind(0), VolumeKind::Claim { claim, read_only: true } if claim == "readings"));
    assert!(matches!(kind(1), VolumeKind::EmptyDir(Medium::Memory)));
    assert!(
        matches!(kind(2), VolumeKind::HostPath { path, check: HostPathCheck::FileOrCreate } if path == b"/srv")
    );
    assert!(matches!(kind(3), VolumeKind::Api(api) if api.kind == ApiKind::ConfigMap));
    assert!(matches!(
        kind(4),
        VolumeKind::Backed { backing: Backing::Csi { inline: true, .. }, read_only: false }
    ));
}

macro_rules! said {
    ($($name:ident: $from:literal => $to:literal, [$($diagnostic:literal),*];)+) => {$(
        #[test]
        fn $name() {
            assert!(STATION.contains($from));
            let (_, diagnostics) = read(&STATION.replacen($from, $to, 1));
            let expected: &[&str] = &[$($diagnostic),*];
            assert_eq!(diagnostics, expected);
        }
    )+};
}

said! {
    an_id_beyond_the_apis_range: "runAsUser: 7101" => "runAsUser: 2147483648", ["error 9: 2147483648 is not an id: the API takes 0 to 2147483647"];
    an_id_as_a_whole_float: "runAsUser: 7101" => "runAsUser: 7.101e3", [];
    an_id_as_octal: "runAsUser: 7101" => "runAsUser: 017", ["warning 9: 017 is an octal number here: the id is 15"];
    an_id_that_is_a_name: "runAsUser: 7101" => "runAsUser: gauge", ["error 9: expected a whole number, found the text `gauge`"];
    groups_that_are_no_list: "[7310, 7320]" => "50", ["error 10: expected a list, found `50`"];
    a_policy_in_the_wrong_case: "OnRootMismatch" => "onrootmismatch", ["error 11: `onrootmismatch` is refused by the API"];
    a_truth_value_in_quotes: "readOnlyRootFilesystem: true" => "readOnlyRootFilesystem: 'true'", ["error 21: expected true or false, found the text `true`"];
    a_truth_value_of_yaml_1_1: "readOnlyRootFilesystem: true" => "readOnlyRootFilesystem: yes", [];
    a_list_written_as_a_word: "drop: [ALL, CHOWN]" => "drop: ALL", ["error 23: expected a list, found the text `ALL`"];
    a_medium_in_the_wrong_case: "medium: Memory" => "medium: memory", ["error 28: the kubelet knows no storage medium `memory` for files: the pod would wait for ever"];
    a_relative_host_path: "path: /srv" => "path: srv", ["warning 29: host path `srv` is not absolute: what mounts it never starts"];
    a_host_path_with_dots: "path: /srv" => "path: /srv/../x", ["error 29: the API refuses `..` in a host path"];
    a_sub_path_that_leaves_the_volume: "subPath: a/b" => "subPath: ../b", ["error 25: the API refuses subPath `../b`: it must stay inside the volume"];
    a_sub_path_told_twice: "subPath: a/b" => "subPath: a/b, subPathExpr: $(POD)", ["error 25: the API refuses subPath and subPathExpr on one mount"];
    recursive_read_only: "readOnly: true }" => "readOnly: true, recursiveReadOnly: Enabled }", [];
    recursive_but_writable: "readOnly: true }" => "recursiveReadOnly: Enabled }", ["error 25: the API refuses recursiveReadOnly on a mount that is not `readOnly: true`"];
    propagation_to_the_host: "readOnly: true }" => "mountPropagation: Bidirectional }", ["error 25: the API refuses `mountPropagation: Bidirectional` on a container that is not privileged"];
    unmasked_without_users_of_its_own: "readOnlyRootFilesystem: true" => "procMount: Unmasked", ["error 21: the API refuses `procMount: Unmasked` without `hostUsers: false`"];
    the_hosts_memory_and_own_users: "      securityContext:\n        runAsUser" => "      hostUsers: false\n      hostIPC: true\n      securityContext:\n        runAsUser", ["error 9: the API refuses `hostIPC: true` beside `hostUsers: false`"];
    a_container_without_a_name: "name: gauge" => "image: x", ["warning 17: the key `image` appears twice; this one counts", "error 16: a container has no name"];
    two_containers_of_one_name: "name: gauge" => "name: prime", ["error 16: two containers are called `prime`: the API refuses that"];
    an_object_without_a_name: "{ name: station }" => "{}", ["error 3: the object has no name"];
    a_pod_user_namespace: "      initContainers:" => "      hostUsers: false
      initContainers:", [];
    ephemeral_containers: "      initContainers:" => "      ephemeralContainers: [{ name: e }]
      initContainers:", [];
    selinux: "runAsUser: 7101" => "seLinuxOptions: {}", [];
    escalation_and_privileged: "readOnlyRootFilesystem: true" => "privileged: true", ["error 22: the API refuses `allowPrivilegeEscalation: false` on a privileged container"];
    escalation_and_sys_admin: "add: [NET_ADMIN]" => "add: [CAP_SYS_ADMIN]", ["error 22: the API refuses `allowPrivilegeEscalation: false` beside an added CAP_SYS_ADMIN"];
    an_id_on_the_container_itself: "workingDir: /work" => "runAsUser: 5", ["warning 18: unknown key `runAsUser`, ignored"];
    another_kind: "kind: Deployment" => "kind: Tide", ["note 2: 1 object skipped: it runs no container here: Tide"];
}

#[test]
fn an_empty_pod_has_no_containers() {
    let (workloads, diagnostics) = read("apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec: {}\n");
    assert!(workloads.is_empty());
    assert_eq!(diagnostics, ["error 4: `p` has no containers"]);
}
