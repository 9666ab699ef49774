//! Answers that lead with what is usual (docs/usual.md).

use std::collections::BTreeSet;

use insta::assert_snapshot;
use mivask_core::usual::UsualRule;

use crate::scratch::Scratch;

/// A stateful set whose claim is made with it; `group` is its filesystem group, `modes` how the claim may be used.
fn set(group: &str, modes: &str) -> String {
    format!(
        "apiVersion: apps/v1
kind: StatefulSet
metadata: {{name: db}}
spec:
  selector: {{matchLabels: {{app: db}}}}
  template:
    metadata: {{labels: {{app: db}}}}
    spec:
      securityContext: {{runAsUser: 999, runAsGroup: 999{group}}}
      containers:
      - name: db
        image: tides/db:3
        volumeMounts: [{{name: data, mountPath: /var/lib/db}}]
  volumeClaimTemplates:
  - metadata: {{name: data}}
    spec: {{accessModes: [{modes}], resources: {{requests: {{storage: 1Gi}}}}}}
"
    )
}

const GROUP: &str = ", fsGroup: 999";
const CREATES: &str = "db creates /var/lib/db/x";

#[test]
fn a_new_claim_is_answered_as_usual_with_what_else_may_be() {
    let scratch = Scratch::with("set.yaml", &set(GROUP, "ReadWriteOnce"));
    assert_snapshot!(scratch.run(["ask", "set.yaml", CREATES, "-q"]), @"
    usually allowed db creates /var/lib/db/x
                   leaves 999:999 0644
                   as usual: claim data-db-0 is new and empty, on a disk, its root 0:0 0755; the kubelet gives claim data-db-0 to the filesystem group
                   denied EEXIST        when /var/lib/db/x is there
                   when it does not reach claim data-db-0 (as with hostPath and NFS volumes):
                     denied EACCES      when owner and mode of /var/lib/db do not give db --x, or owner and mode of /var/lib/db do not give db -wx
                     denied EEXIST      when /var/lib/db/x is there
                     leaves 999:? ????  otherwise
                   to settle it: give `volumes: { data-db-0: { tree: ... } }` in a scene file
                   to settle it: say `group-ownership: apply` or `skip` for the volume in a scene file

    Assumed
      after the filesystem-group step the volume's root is at least 2770; its owner is taken to be root
      no group of image tides/db:3 lists the user as a member (its group file is not given)
      the directories above mount points in image tides/db:3 let everyone pass (0:0 0755 where the runtime makes them)
      the root of image tides/db:3 is 0:0 0755
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "set.yaml"]), @"
    db
      path         owner  mode           read  write  create  delete  list  enter  run
      /var/lib/db  ?:?    dir not known  -     -      ~yes    EACCES  ~yes  ~yes   -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself. ~: usually so; `ask` says on what it rests.
    --- standard error
    note: what is behind its claims is not in the input: a cluster that runs this can tell
     --> set.yaml:9:7 volumeClaimTemplates
      = help: pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots

    --- status 0
    ");
    assert_snapshot!(scratch.run(["imprint", "set.yaml", "--all"]), @"
    db
      in           new   asked  result           inside                    stored
      /var/lib/db  file  0666   usually allowed  999:999 0644  -rw-r--r--  999:999
      /var/lib/db  dir   0777   usually allowed  999:999 2755  drwxr-sr-x  999:999
      file in /var/lib/db
        leaves 999:999 0644
        as usual: the kubelet gives claim data-db-0 to the filesystem group
        when it does not reach claim data-db-0 (as with hostPath and NFS volumes):
          denied EACCES      when owner and mode of /var/lib/db do not give db --x, or owner and mode of /var/lib/db do not give db -wx
          leaves 999:? ????  otherwise
        to settle it: give `volumes: { data-db-0: { tree: ... } }` in a scene file
        to settle it: say `group-ownership: apply` or `skip` for the volume in a scene file
      dir in /var/lib/db
        leaves 999:999 2755
        as usual: the kubelet gives claim data-db-0 to the filesystem group
        when it does not reach claim data-db-0 (as with hostPath and NFS volumes):
          denied EACCES      when owner and mode of /var/lib/db do not give db --x, or owner and mode of /var/lib/db do not give db -wx
          leaves 999:? ????  otherwise
        to settle it: give `volumes: { data-db-0: { tree: ... } }` in a scene file
        to settle it: say `group-ownership: apply` or `skip` for the volume in a scene file
    --- standard error
    note: what is behind its claims is not in the input: a cluster that runs this can tell
     --> set.yaml:9:7 volumeClaimTemplates
      = help: pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots

    --- status 0
    ");
}

#[test]
fn what_several_nodes_use_is_not_usual() {
    for modes in ["ReadWriteMany", "ReadWriteOnce, ReadOnlyMany", ""] {
        let scratch = Scratch::with("set.yaml", &set(GROUP, modes));
        let text = scratch.run(["ask", "set.yaml", CREATES]);
        assert!(text.starts_with("depends"), "{modes}: {text}");
    }
}

#[test]
fn what_an_init_container_prepares_and_a_part_are_not_usual() {
    let plain = set("", "ReadWriteOnce");
    let denied = |text: &str| {
        let scratch = Scratch::with("set.yaml", text);
        scratch.run(["ask", "set.yaml", CREATES]).starts_with("usually denied EACCES")
    };
    assert!(denied(&plain));
    let init = |mounts: &str| {
        let init = format!(
            "      initContainers:\n      - {{name: i, image: tides/i:1{mounts}}}\n      containers:\n"
        );
        plain.replace("      containers:\n", &init)
    };
    assert!(!denied(&init(", volumeMounts: [{name: data, mountPath: /d}]")));
    assert!(denied(&init("")), "one that does not have the claim changes nothing");
    // With a filesystem group its group and mode are those of the volume's root.
    assert!(!denied(
        &set(GROUP, "ReadWriteOnce")
            .replace("mountPath: /var/lib/db}", "mountPath: /var/lib/db, subPath: a}")
    ));
}

#[test]
fn a_claim_of_its_own_is_new_where_nothing_says_otherwise() {
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: {name: p}\nspec:\n  securityContext: {runAsUser: 7}\n  containers:\n  - \
        {name: c, image: tides/c:1, volumeMounts: [{name: d, mountPath: /d}]}\n  volumes:\n  - {name: d, persistentVolumeClaim: \
        {claimName: d}}\n";
    let claim = |more: &str| {
        format!("{pod}---\napiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: {{name: d}}\n{more}\n")
    };
    let usual = |text: &str| {
        let scratch = Scratch::with("pod.yaml", text);
        scratch.run(["ask", "pod.yaml", "c creates /d/x"]).starts_with("usually denied EACCES")
    };
    assert!(usual(&claim("spec: {accessModes: [ReadWriteOnce]}")));
    assert!(usual(&claim("spec: {accessModes: [ReadWriteOncePod]}")));
    for more in [
        "spec: {accessModes: [ReadWriteOnce], dataSource: {kind: VolumeSnapshot, name: s}}",
        "spec: {accessModes: [ReadWriteOnce], dataSourceRef: {kind: VolumeSnapshot, name: s}}",
        "spec: {accessModes: [ReadWriteOnce], volumeName: v}",
        "spec: {accessModes: [ReadWriteOnce]}\nstatus: {phase: Bound}",
    ] {
        assert!(!usual(&claim(more)), "{more}");
    }
    // A claim that nobody describes may hold anything.
    assert!(!usual(pod));
}

#[test]
fn directories_of_an_image_that_nobody_told_of() {
    let scratch = Scratch::with("set.yaml", &set("", "ReadWriteOnce"));
    let first = |act: &str| {
        let text = scratch.run(["ask", "set.yaml", act, "-q"]);
        text.lines().next().unwrap_or_default().to_owned()
    };
    assert_eq!(first("db creates /tmp/x"), "usually allowed db creates /tmp/x");
    assert_eq!(first("db makes-directory /opt/x"), "usually denied EACCES db makes-directory /opt/x");
    // What is there may be anybody's, and a program's own directory its user's.
    assert!(first("db writes /etc/db.conf").starts_with("depends"));
    assert!(first("db creates /srv/db/x").starts_with("depends"));
    assert!(first("db creates /root/x").starts_with("depends"));
    // It may be there, and nobody said that it is new.
    assert!(first("db overwrites /tmp/x").starts_with("depends"));
}

#[test]
fn json_keeps_depends_and_adds_what_is_usual() {
    let scratch = Scratch::with("set.yaml", &set(GROUP, "ReadWriteOnce"));
    let json = scratch.json(["ask", "set.yaml", CREATES, "-q", "--format", "json"]);
    let act = &json["acts"][0];
    assert_eq!(act["outcome"], "depends");
    assert_eq!(act["usually"]["outcome"], "allowed");
    assert_eq!(act["usually"]["imprint"]["gid"], 999);
    let rules: Vec<&str> = act["usually"]["rests_on"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|usual| usual["rule"].as_str())
        .collect();
    assert_eq!(rules, ["new-claim", "group-applied"]);
    let rows = scratch.json(["access", "set.yaml", "-q", "--format", "json"]);
    let row = &rows["rows"][0];
    assert_eq!(
        (row["create"].as_str(), row["usually"]["create"]["outcome"].as_str()),
        (Some("depends"), Some("allowed"))
    );
}

#[test]
fn uphold_counts_what_is_usual_only_if_asked_to() {
    let scratch =
        Scratch::with("set.yaml", &set(GROUP, "ReadWriteOnce")).and("e", "db creates /var/lib/db/x\n");
    let run = |more: &[&str]| scratch.run([&["uphold", "set.yaml", "--expect", "e"], more].concat());
    let plain = run(&[]);
    assert!(plain.contains("--- status 1"), "{plain}");
    let accepted = run(&["--accept-usual"]);
    assert!(
        accepted.contains("usually as expected, since as usual") && accepted.contains("--- status 0"),
        "{accepted}"
    );
    // What is usually not so is not accepted.
    let scratch = Scratch::with("set.yaml", &set("", "ReadWriteOnce")).and("e", "db creates /var/lib/db/x\n");
    let run = scratch.run(["uphold", "set.yaml", "--expect", "e", "--accept-usual"]);
    assert!(run.contains("--- status 1"), "{run}");
}

#[test]
fn remedies_of_what_is_usually_denied() {
    let scratch = Scratch::with("set.yaml", &set("", "ReadWriteOnce"));
    let text = scratch.run(["remedy", "set.yaml", CREATES, "--most", "1"]);
    assert_snapshot!(text, @"
    usually denied EACCES db creates /var/lib/db/x
                   as usual: claim data-db-0 is new and empty, on a disk, its root 0:0 0755
                   denied EEXIST      when /var/lib/db/x is there
                   leaves 999:? ????  when owner and mode of /var/lib/db give db -wx
                   to settle it: give `volumes: { data-db-0: { tree: ... } }` in a scene file

    Where that is as usual:

    1  process  db filesystem-group 999
                opens nothing else; touches 1 inode
                999 is the group that db has
                --- set.yaml
                +++ set.yaml
                @@ -7,5 +7,5 @@
                     metadata: {labels: {app: db}}
                     spec:
                -      securityContext: {runAsUser: 999, runAsGroup: 999}
                +      securityContext: {runAsUser: 999, runAsGroup: 999, fsGroup: 999}
                       containers:
                       - name: db
    and 4 wider ones: --most 5
    --- status 0
    ");
    let scratch = Scratch::with("set.yaml", &set(GROUP, "ReadWriteOnce"));
    let text = scratch.run(["remedy", "set.yaml", CREATES]);
    assert!(text.contains("Usually there is nothing to mend."), "{text}");
}

#[test]
fn every_rule_is_documented() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/usual.md");
    let text = std::fs::read_to_string(path).unwrap_or_default();
    let headings: BTreeSet<&str> = text.lines().filter_map(|line| line.strip_prefix("## ")).collect();
    assert_eq!(headings, UsualRule::ALL.iter().map(|rule| rule.word()).collect());
}

#[test]
fn bind_sources_that_are_here_get_the_line_to_type() {
    let compose = "services:\n  web:\n    image: tides/web:1\n    user: '5:5'\n    volumes: ['./in put:/in', ./lost:/lost, /etc/hosts:/etc/hosts]\n";
    let scratch = Scratch::with("compose.yaml", compose).and("in put/x", "");
    let folder = scratch.path().canonicalize().unwrap().display().to_string();
    let said = scratch.run(["access", "compose.yaml"]);
    let line = format!("  --disk 'host:{folder}/in put={folder}/in put'\n");
    assert!(said.contains(&line) && said.matches("--disk").count() == 1, "{said}");
    let source = format!("host:{folder}/in put={folder}/in put");
    let with = scratch.run(["access", "compose.yaml", "--disk", &source]);
    assert!(with.contains("/in ") && !with.contains("note: "), "{with}");
    assert!(!scratch.run(["access", "compose.yaml", "-q"]).contains("note: "));
}
