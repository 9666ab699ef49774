//! Claims of several pods, and parts of volumes.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// Two pods that mount one claim, each with a filesystem group of its own; one of them a part that the kubelet makes.
const PODS: &str = "\
apiVersion: v1
kind: Pod
metadata: { name: writer }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7101, runAsGroup: 7101, fsGroup: 7300 }
  containers: [{ name: w, image: a, volumeMounts: [{ name: d, mountPath: /d }] }]
  volumes: [{ name: d, persistentVolumeClaim: { claimName: shared } }]
---
apiVersion: v1
kind: Pod
metadata: { name: reader }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7102, runAsGroup: 7102, fsGroup: 7400 }
  containers: [{ name: r, image: a, volumeMounts: [{ name: d, mountPath: /all }, { name: d, mountPath: /part, subPath: new }] }]
  volumes: [{ name: d, persistentVolumeClaim: { claimName: shared } }]
";

#[test]
fn a_claim_of_two_pods_is_shared() {
    let scene = "scene: 1\nworkloads: [pods.yaml]\nimages: { a: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n\
        volumes: { shared: { filesystem: ext4, group-ownership: apply, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n";
    let scratch = Scratch::with("s.yaml", scene).and("pods.yaml", PODS);
    assert_snapshot!(scratch.run(["handoff", "s.yaml", "-q"]), @"
    claim shared  /all in r; /d in w
      creator  new file  w  r
      w        depends   .
      r        depends      .

      actor  cannot  files of  because
      w      create            depends on whether reader mounts claim shared before, and so whose filesystem group it has
      r      create            depends on whether writer mounts claim shared before, and so whose filesystem group it has

    claim shared, /new  /d/new in w; /part in r
      creator  new file  w  r
      w        depends   .
      r        depends      .

      actor  cannot  files of  because
      w      create            depends on whether reader mounts claim shared before, and so whose filesystem group it has
      r      create            depends on whether writer mounts claim shared before, and so whose filesystem group it has

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.

    Assumed
      claim shared is as the last workload finds it: each prepares it in its own way
    --- status 0
    ");
    let scratch =
        scratch.and("pods.yaml", PODS.replace("claimName: shared } }]\n---", "claimName: other } }]\n---"));
    assert_snapshot!(scratch.run(["handoff", "s.yaml", "-q"]), @"
    No directory is known to be shared by two containers.
    --- status 0
    ");
}

/// Whether a filesystem group reaches a claim may be unknown: then it depends, as for a single act, and is not settled by
/// looking at two possibilities as one disk.
#[test]
fn what_is_not_known_of_a_claim_stays_open_for_hand_offs() {
    let pods = |group: &str| {
        PODS.replace(", fsGroup: 7400 }", group)
            .replace(", { name: d, mountPath: /part, subPath: new }", "")
            .replace(
                "name: w, image: a",
                "name: w2, image: a, volumeMounts: [{ name: d, mountPath: /d }] }, { name: w, image: a",
            )
    };
    let scene = "scene: 1\nworkloads: [pods.yaml]\nimages: { a: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n\
        volumes: { shared: { filesystem: ext4, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n";
    let scratch = Scratch::with("s.yaml", scene).and("pods.yaml", pods(" }"));
    assert_snapshot!(scratch.run(["handoff", "s.yaml", "-q"]), @"
    claim shared  /all in r; /d in w2, w
      creator  new file       w2  w  r
      w2       depends        .
      w        depends            .
      r        denied EACCES         .

      actor  cannot  files of  because
      w2     create            depends on whether the filesystem group reaches claim shared
      w      create            depends on whether the filesystem group reaches claim shared
      r      create            drwxrwsr-x 2775 0:7300: other has r-x, needed -wx (/all)

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there.
    --- status 0
    ");
    // Both are open in the same way, and joined possibility by possibility: the last group is the reader's.
    let scratch = scratch.and("pods.yaml", pods(", fsGroup: 7400 }"));
    let both = scratch.run(["handoff", "s.yaml", "-q"]);
    assert!(both.contains("/all in r; /d in w2, w") && both.contains("r        depends"), "{both}");
}

/// Two pods that each mount a part of one claim, which the kubelet makes for them: `part` of the first, and of the second.
fn parts(first: &str, second: &str, own: &str) -> Scratch {
    let pod = |name: &str, uid: u32, part: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: {name} }}\nspec:\n  automountServiceAccountToken: false\n  \
             securityContext: {{ runAsUser: {uid}, runAsGroup: {uid} }}\n  \
             containers: [{{ name: c, image: a, volumeMounts: [{{ name: v, mountPath: /{name}{part} }}] }}]\n  \
             volumes: [{{ name: v, persistentVolumeClaim: {{ claimName: shared }} }}]\n"
        )
    };
    let pods = format!("{}---\n{}", pod("alder", 5, first), pod("birch", 6, second));
    let scene = format!(
        "scene: 1\nworkloads: [pods.yaml]\n\
         images: {{ a: {{ user: null, accounts: null, tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0755 }}] }} }}\n\
         volumes: {{ shared: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0777 }}] }} }}\n\
         expect: ['only {own} writes /{}/**']\n",
        own.split('/').next().unwrap_or_default()
    );
    Scratch::with("s.yaml", &scene).and("pods.yaml", pods)
}

/// What the kubelet makes for one pod is numbered behind what the claim holds, as is what it makes for the other: they are
/// the same where they have the same path, and only there.
#[test]
fn parts_that_are_made_are_one_where_their_paths_are() {
    let apart = parts(", subPath: alder", ", subPath: birch", "alder/c");
    let (shared, held) = (apart.run(["handoff", "s.yaml", "-q"]), apart.run(["uphold", "s.yaml", "-q"]));
    assert!(shared.starts_with("No directory is known to be shared"), "{shared}");
    assert!(held.contains("0 hold, 1 meets nothing"), "{held}");
    let one = parts(", subPath: x", ", subPath: x", "alder/c");
    let (shared, held) = (one.run(["handoff", "s.yaml", "-q"]), one.run(["uphold", "s.yaml", "-q"]));
    assert!(shared.contains("claim shared, /x  /alder in alder/c; /birch in birch/c"), "{shared}");
    assert!(held.contains("birch/c creates /birch/new: allowed"), "{held}");
}

/// Whoever mounts the whole finds there what is made for another, once that has been prepared, whichever comes first.
#[test]
fn a_part_that_is_made_for_one_is_found_by_the_other() {
    for (first, second, own, found, reached) in [
        (
            ", subPath: x",
            "",
            "alder/c",
            "/alder in alder/c; /birch/x in birch/c",
            "birch/c creates /birch/x/new",
        ),
        (
            "",
            ", subPath: x",
            "birch/c",
            "/alder/x in alder/c; /birch in birch/c",
            "alder/c creates /alder/x/new",
        ),
    ] {
        let scratch = parts(first, second, own);
        let (shared, held) =
            (scratch.run(["handoff", "s.yaml", "-q"]), scratch.run(["uphold", "s.yaml", "-q"]));
        assert!(shared.contains(found) && shared.contains("r-dp/r---"), "{shared}");
        assert!(held.contains(&format!("{reached}: allowed")), "{held}");
    }
}
