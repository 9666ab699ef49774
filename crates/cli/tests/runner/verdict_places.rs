//! Verdicts about volumes with mount points in them: what is told apart is so whether the container starts or not.

use std::collections::{BTreeMap, BTreeSet};

use insta::assert_snapshot;

use crate::fleet::table;
use crate::scratch::Scratch;

/// Containers that mount something in a volume that they mount read-only, or over what every container has.
const PODS: &str = "\
apiVersion: v1
kind: Pod
metadata: { name: nested }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7101, runAsGroup: 7101 }
  containers:
    - { name: here, image: a, volumeMounts: [{ name: d, mountPath: /d, readOnly: true }, { name: e, mountPath: /d/in }] }
    - { name: gone, image: a, volumeMounts: [{ name: d, mountPath: /d, readOnly: true }, { name: e, mountPath: /d/nothing }] }
    - { name: deep, image: a, volumeMounts: [{ name: d, mountPath: /d, readOnly: true }, { name: d, mountPath: /d/in, subPath: other }] }
  volumes: [{ name: d, persistentVolumeClaim: { claimName: vol } }, { name: e, emptyDir: {} }]
---
apiVersion: v1
kind: Pod
metadata: { name: over }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7101, runAsGroup: 7101 }
  containers:
    - { name: full, image: a, volumeMounts: [{ name: d, mountPath: /etc, readOnly: true }] }
    - { name: bare, image: a, volumeMounts: [{ name: e, mountPath: /etc, readOnly: true }] }
  volumes: [{ name: d, persistentVolumeClaim: { claimName: etc } }, { name: e, persistentVolumeClaim: { claimName: bare } }]
---
apiVersion: v1
kind: Pod
metadata: { name: beside }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7101, runAsGroup: 7101 }
  containers: [{ name: alone, image: a, volumeMounts: [{ name: d, mountPath: /d }, { name: p, mountPath: /p }] }]
  volumes: [{ name: d, persistentVolumeClaim: { claimName: vol } }, { name: p, persistentVolumeClaim: { claimName: plain } }]
";

const VOL: &str = "#mtree
. type=dir uid=7101 gid=7101 mode=0755
./in type=dir uid=0 gid=0 mode=0755
./in/x type=file uid=7101 gid=7101 mode=0640
./other type=dir uid=7101 gid=7101 mode=0700
./other/y type=file uid=7101 gid=7101 mode=0600
";

const BARE: &str = "#mtree
. type=dir uid=0 gid=0 mode=0755
./secret type=file uid=7101 gid=0 mode=0600
";

const FULL: &str = "#mtree
. type=dir uid=0 gid=0 mode=0755
./hostname type=file uid=0 gid=0 mode=0644
./hosts type=file uid=0 gid=0 mode=0644
./resolv.conf type=file uid=0 gid=0 mode=0644
./secret type=file uid=7101 gid=0 mode=0600
";

#[test]
fn mount_points_in_a_volume_are_told_apart() {
    let scratch = Scratch::with("pods.yaml", PODS);
    for (volume, text) in [("vol", VOL), ("plain", VOL), ("etc", FULL), ("bare", BARE)] {
        std::fs::write(scratch.path().join("listing.mtree"), text).expect("a listing");
        let at = ["--volume", volume, "--date", "2026-12-01"];
        let words = [&["survey", "listing.mtree", "--to", "dataset", "-o", "fleet"][..], &at].concat();
        assert!(scratch.run(words).ends_with("--- status 0"));
    }
    let words = ["-q", "verdicts", "pods.yaml", "--dataset", "fleet", "-o", "out"];
    assert!(scratch.run(words).ends_with("--- status 0"));
    let regions: Vec<String> = table(&scratch, "regions", &["volume", "region"]).into_iter().collect();
    assert_snapshot!(regions.join("\n"), @"
    bare /
    bare /hostname
    bare /hosts
    bare /resolv.conf
    etc /
    etc /hostname
    etc /hosts
    etc /resolv.conf
    plain /
    vol /
    vol /in
    vol /nothing
    vol /other
    ");
    let mut verdicts: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for row in table(&scratch, "verdicts", &["verdicts_of", "region", "act", "outcome"]) {
        let (view, rest) = row.split_once(' ').expect("a number and more");
        if rest.contains(" read ") {
            verdicts.entry(view.to_owned()).or_default().push(rest.to_owned());
        }
    }
    let mut told = BTreeSet::new();
    for row in table(&scratch, "actors", &["verdicts_of", "actor", "mounted_at", "reason"]) {
        let (view, who) = row.split_once(' ').expect("a number and more");
        told.extend(verdicts.get(view).into_iter().flatten().map(|rest| format!("{who}: {rest}")));
    }
    let told: Vec<String> = told.into_iter().collect();
    assert_snapshot!(told.join("\n"), @"
    alone /d null: /in read allowed
    alone /d null: /other read allowed
    alone /p null: / read allowed
    deep /d null: /other read allowed
    deep /d/in null: /other read allowed
    full /etc null: / read allowed
    gone /d null: /in read depends
    gone /d null: /other read depends
    here /d null: /other read allowed
    ");
}
