//! Remedies as strategic merge patches, which the tool of the trade merges here to what the patched manifest says.

use std::path::Path;
use std::process::Command;

use insta::assert_snapshot;
use serde_json::Value;

use crate::scratch::Scratch;

const DEPLOYMENT: &str = "\
apiVersion: apps/v1
kind: Deployment
metadata: { name: web, namespace: shop }
spec:
  selector: { matchLabels: { app: web } }
  template:
    metadata: { labels: { app: web } }
    spec:
      securityContext: { fsGroup: 3000, supplementalGroups: [50] }
      containers:
      - name: app
        image: i
        securityContext: { runAsUser: 1000, readOnlyRootFilesystem: true, capabilities: { drop: [ALL] } }
        volumeMounts:
        - { name: data, mountPath: /data, readOnly: true }
        - { name: claim, mountPath: /claim }
      - name: side
        image: j
        securityContext: { runAsUser: 2000 }
        volumeMounts:
        - { name: data, mountPath: /data }
      volumes:
      - name: data
        emptyDir: {}
      - name: claim
        persistentVolumeClaim: { claimName: claim }
";

const SCENE: &str = "\
scene: 1
workloads: [web.yaml]
volumes:
  claim:
    group-ownership: skip
    tree:
    - { path: /, kind: dir, owner: '7000:7300', mode: '0750' }
    - { path: /in, kind: dir, owner: '7000:7300', mode: '0755' }
    - { path: /in/f, owner: '7000:7300', mode: '0640' }
images:
  i: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /tmp, kind: dir, owner: '0:0', mode: '1777' }] }
  j: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] }
";

/// An object with a merge patch merged into it, lists in an order of their own; `None` where nobody can merge it here.
fn merged(folder: &Path, object: &str, patch: &[&str]) -> Option<Value> {
    let mut command = Command::new("kubectl");
    command.args(["patch", "--local", "-f", object, "--type", "strategic", "-o", "json"]).args(patch);
    let done = command.current_dir(folder).output().ok()?;
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let mut value = serde_json::from_slice(&done.stdout).expect("an object");
    sort(&mut value);
    Some(value)
}

fn sort(value: &mut Value) {
    match value {
        Value::Array(items) => {
            items.iter_mut().for_each(sort);
            items.sort_by_key(Value::to_string);
        }
        Value::Object(pairs) => pairs.values_mut().for_each(sort),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}

#[test]
fn a_merge_patch_says_what_changes() {
    let scratch = Scratch::with("s.yaml", SCENE).and("web.yaml", DEPLOYMENT);
    let said = scratch.run(["remedy", "s.yaml", "app creates /data/x", "--merge-patch", "p.yaml"]);
    assert!(said.contains("note: what remedy 1 changes in objects is written to p.yaml"), "{said}");
    assert_snapshot!(std::fs::read_to_string(scratch.path().join("p.yaml")).unwrap_or_default(), @"
    apiVersion: apps/v1
    kind: Deployment
    metadata:
      name: web
      namespace: shop
    spec:
      template:
        spec:
          containers:
          - name: app
            volumeMounts:
            - mountPath: /data
              readOnly: false
    ");
    let said = scratch.run([
        "remedy",
        "s.yaml",
        "app reads /claim/in/f",
        "-q",
        "--pick",
        "99",
        "--merge-patch",
        "q.yaml",
    ]);
    assert!(said.contains("there is no remedy 99") && said.ends_with("--- status 2"), "{said}");
    assert!(!scratch.path().join("q.yaml").exists());
    let other = Scratch::with("compose.yaml", "services:\n  web: { image: i, user: '5', read_only: true }\n");
    let said = other.run(["remedy", "compose.yaml", "web creates /tmp/x", "-q", "--merge-patch", "p.yaml"]);
    assert!(said.contains("only Kubernetes objects") && said.ends_with("--- status 2"), "{said}");
}

#[test]
fn what_is_merged_is_what_is_patched() {
    let mut held = 0;
    for act in [
        "app creates /data/x",
        "app creates /tmp/x",
        "app reads /claim/in/f",
        "side creates /claim/x",
        "/claim/in at-most 0700",
    ] {
        for pick in 1..=6 {
            let scratch = Scratch::with("s.yaml", SCENE).and("web.yaml", DEPLOYMENT);
            let pick = pick.to_string();
            let said = scratch.run([
                "remedy",
                "s.yaml",
                act,
                "-q",
                "--pick",
                &pick,
                "--merge-patch",
                "p.yaml",
                "--apply-to",
                "full.yaml",
            ]);
            if !said.ends_with("--- status 0") {
                continue;
            }
            let Some(merged_one) = merged(scratch.path(), "web.yaml", &["--patch-file", "p.yaml"]) else {
                println!("skipped: what_is_merged_is_what_is_patched: there is no kubectl to merge with");
                return;
            };
            assert_eq!(Some(merged_one), merged(scratch.path(), "full.yaml", &["-p", "{}"]), "{act} {pick}");
            held += 1;
        }
    }
    assert!(held >= 6, "{held}");
}
