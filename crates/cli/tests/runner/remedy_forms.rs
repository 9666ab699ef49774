//! What `remedy` takes in place of one act: the acts of a file, a line of a log.

use insta::assert_snapshot;

use crate::remedy_causes::{CAUSES, POD};
use crate::scratch::Scratch;

#[test]
fn one_set_of_changes_for_the_acts_of_a_file() {
    let acts = "# what the release needs\napp writes /masked/f\nboss creates /data/x\napp creates /spool/x\nboss sets-owner 5 on /data/f\n";
    let scratch =
        Scratch::with("s.yaml", CAUSES).and("release.acts", acts).and("none.acts", "app creates /spool/x\n");
    assert_snapshot!(scratch.run(["remedy", "s.yaml", "--acts", "release.acts", "-q"]), @"
    mended       app writes /masked/f
    mended       boss creates /data/x
    allowed now  app creates /spool/x
    not mended   boss sets-owner 5 on /data/f

    1  disk     for app sets-acl user::rw-,user:1000:rw-,group::r--,mask::rw-,other::--- on /masked/f
       process  boss becomes 1000
                opens nothing else; touches 1 inode
                # as root, where volume m is mounted as app has it
                setfacl -m user::rw-,user:1000:rw-,group::r--,mask::rw-,other::--- /masked/f
                --- s.yaml
                +++ s.yaml
                @@ -1,5 +1,5 @@
                 scene: 1
                 containers:
                -- { name: boss, user: '0:0', mounts: [{ at: /data, volume: share }] }
                +- { name: boss, user: '1000:0', mounts: [{ at: /data, volume: share }] }
                 - name: app
                   user: '1000:1000'

    denied EPERM   boss sets-owner 5 on /data/f
                   /data/f: giving a file to another user takes CHOWN (the server squashes its group to 65534)
                only root with CHOWN gives files away: let an init container that runs as root do it
    --- status 0
    ");
    assert_snapshot!(scratch.run(["remedy", "s.yaml", "--acts", "none.acts", "-q"]), @"
    allowed now  app creates /spool/x

    There is nothing to mend.
    --- status 0
    ");
    let found = scratch.json(["remedy", "s.yaml", "--acts", "release.acts", "-q", "--format", "json"]);
    assert_eq!(found["acts"].as_array().map(Vec::len), Some(4));
    assert_eq!(found["files"].as_array().map(Vec::len), Some(1));
    assert_eq!(found["left"][0]["act"]["act"], "boss sets-owner 5 on /data/f");
    let said = scratch.run([
        "remedy",
        "s.yaml",
        "--acts",
        "release.acts",
        "--apply-to",
        "new.yaml",
        "--script",
        "fix.sh",
    ]);
    assert!(
        said.contains("note: remedy 1 is written to new.yaml, as far as the description takes it"),
        "{said}"
    );
    assert!(said.contains("note: the commands of remedy 1 are written to fix.sh: sh fix.sh"), "{said}");
    let new = std::fs::read_to_string(scratch.path().join("new.yaml")).unwrap_or_default();
    assert!(new.contains("user: '1000:0'"), "{new}");
    for wrong in [
        &["remedy", "s.yaml", "--acts", "release.acts", "app reads /x"][..],
        &["remedy", "s.yaml"],
        &["remedy", "s.yaml", "--acts", "missing.acts"],
    ] {
        assert!(scratch.run(wrong).ends_with("--- status 2"), "{wrong:?}");
    }
}

#[test]
fn a_line_of_a_log_is_an_act() {
    let scratch = Scratch::with("s.yaml", CAUSES);
    let said = |words: &[&str]| scratch.run(words);
    assert_snapshot!(said(&["remedy", "s.yaml", "--actor", "app", "open /masked/f: permission denied", "--most", "1"]), @"
    denied EACCES  app writes /masked/f
                   /masked/f: -rw-r----- 0640 0:0: the ACL's named user has rw-, of which the mask leaves r--, needed -w-

    1  disk     for app sets-acl user::rw-,user:1000:rw-,group::r--,mask::rw-,other::--- on /masked/f
                opens nothing else; touches 1 inode
                # as root, where volume m is mounted as app has it
                setfacl -m user::rw-,user:1000:rw-,group::r--,mask::rw-,other::--- /masked/f
    and 3 wider ones: --most 4
    --- standard error
    note: the message is taken for `app writes /masked/f`, which ends with EACCES here
    --- status 0
    ");
    assert_snapshot!(said(&["why", "s.yaml", "--actor", "app", "Error: EACCES: permission denied, mkdir '/masked/new'"]), @"
    denied EACCES  app makes-directory /masked/new
                   /masked: drwxr-xr-x 0755 0:0: other has r-x, needed -wx

    Who app is
      field  value  from
      uid    1000   s.yaml:5:9 containers.user
      gid    1000   s.yaml:5:9 containers.user
      umask  0022   the runtime's default umask

    Checks, in the kernel's order
              path     check        fact                                            from
      ok      /        other-bits   drwxr-xr-x 0755 0:0: other has r-x, needed --x  assumed: the root of image of container app is 0:0 0755
      ok      /masked  mount-point  volume is mounted here (rw)                     s.yaml:6:18 mounts.at
      ok      /masked  other-bits   drwxr-xr-x 0755 0:0: other has r-x, needed --x  s.yaml:15:12 tree
      EACCES  /masked  other-bits   drwxr-xr-x 0755 0:0: other has r-x, needed -wx  s.yaml:15:12 tree

      EACCES: permission denied

    Assumed
      the root of image of container app is 0:0 0755
    --- standard error
    note: the message is taken for `app makes-directory /masked/new`, which ends with EACCES here
    --- status 0
    ");
    assert_snapshot!(said(&["why", "s.yaml", "open /masked/f: permission denied"]), @"
    --- standard error
    error: a message does not say who met it: name somebody with --actor
    --- status 2
    ");
    assert_snapshot!(said(&["remedy", "s.yaml", "--actor", "app", "open /masked/f: read-only file system", "-q"]), @"
    allowed        app reads /masked/f

    There is nothing to mend.
    --- status 0
    ");
}

#[test]
fn a_line_of_a_log_that_may_be_so() {
    let sealed = POD.replace("SECURITY", "runAsUser: 1000, readOnlyRootFilesystem: true");
    let seals = Scratch::with("sealed.yaml", &sealed);
    assert_snapshot!(seals.run(["remedy", "sealed.yaml", "--actor", "app", "could not create lock file \"/tmp/x.lock\": Read-only file system", "--most", "1"]), @"
    denied         app creates /tmp/x.lock
                   denied ENOENT  when /tmp is missing
                   denied EACCES  when owner and mode of /tmp do not give app --x
                   denied EEXIST  when /tmp/x.lock is there
                   denied EROFS   otherwise
                   to settle it: give `images: { i: { tree: ... } }` in a scene file, or let it be looked for with --images-from

    1  mount    app mounts scratch at /tmp
                opens 1 more: app can list /tmp
                --- sealed.yaml
                +++ sealed.yaml
                @@ -7,2 +7,8 @@
                     image: i
                     securityContext: { runAsUser: 1000, readOnlyRootFilesystem: true }
                +    volumeMounts:
                +      - name: scratch-tmp
                +        mountPath: /tmp
                +  volumes:
                +    - name: scratch-tmp
                +      emptyDir: {}
    --- standard error
    note: the message is taken for `app creates /tmp/x.lock`, which may end with EROFS here
    note: given that it was EROFS, /tmp/x.lock is missing
    --- status 0
    ");
}

#[test]
fn what_the_scene_expects_is_kept_where_anything_keeps_it() {
    let scene = "\
scene: 1
containers:
- { name: web, user: '1000:1000', mounts: [{ at: /data, volume: share }] }
- { name: keeper, user: '2000:2000', mounts: [{ at: /data, volume: share }] }
volumes:
  share:
    tree:
    - { path: /, kind: dir, owner: '2000:2000', mode: '0750' }
    - { path: /page, owner: '2000:2000', mode: '0640' }
    - { path: /key, owner: '2000:2000', mode: '0660' }
";
    let expected = "expect:\n- web never writes /data/key\n- keeper reads /data/page\n";
    let changes = |scratch: &Scratch| -> Vec<(String, Vec<String>)> {
        let found = scratch.json(["remedy", "s.yaml", "web reads /data/page", "-q", "--format", "json"]);
        let all = found["remedies"].as_array().cloned().unwrap_or_default();
        let text = |one: &serde_json::Value| one.as_str().unwrap_or_default().to_owned();
        all.iter()
            .map(|one| {
                let changes = one["changes"].as_array().cloned().unwrap_or_default();
                let changes: Vec<String> = changes.iter().map(|one| text(&one["change"])).collect();
                let breaks = one["breaks"].as_array().cloned().unwrap_or_default();
                (changes.join("; "), breaks.iter().map(text).collect())
            })
            .collect()
    };
    let free = changes(&Scratch::with("s.yaml", scene));
    assert_eq!(free.first().map(|one| one.0.as_str()), Some("web joins 2000"), "{free:?}");
    let scratch = Scratch::with("s.yaml", &format!("{scene}{expected}"));
    let bound = changes(&scratch);
    assert!(bound.first().is_some_and(|one| one.0.contains("sets-acl") && one.1.is_empty()), "{bound:?}");
    let joins = bound.iter().find(|one| one.0 == "web joins 2000");
    assert_eq!(joins.map(|one| one.1.as_slice()), Some(&["web never writes /data/key".to_owned()][..]));
    let breaking: Vec<bool> = bound.iter().map(|one| !one.1.is_empty()).collect();
    assert!(breaking.is_sorted(), "{bound:?}");
    let said = scratch.run(["remedy", "s.yaml", "web reads /data/page", "-q", "--most", "12"]);
    assert!(said.contains("breaks what the scene expects: web never writes /data/key"), "{said}");
}

/// The second change of a file is written where its container is by then.
#[test]
fn several_changes_go_into_one_file() {
    let services = "services:
  gauge:
    read_only: true
    image: i
  press:
    read_only: true
    image: i
";
    let pod = "apiVersion: v1
kind: Pod
metadata: { name: p }
spec:
  volumes: []
  containers: [{ name: gauge, image: i, securityContext: { readOnlyRootFilesystem: true } }, { name: press, image: i, securityContext: { readOnlyRootFilesystem: true } }]
";
    let script = "docker run --name gauge --read-only i\ndocker run --name press \\\n  --read-only \\\n  i\n";
    let scene = "scene: 1
workloads: [INPUT]
images: { i: { user: '5:5', tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /tmp, kind: dir, owner: '0:0', mode: '1777' }] } }
";
    for (name, text) in [("c.yaml", services), ("p.yaml", pod), ("run.sh", script)] {
        let scratch = Scratch::with(name, text)
            .and("s.yaml", scene.replace("INPUT", name))
            .and("acts", "gauge creates /tmp/x\npress creates /tmp/x\n");
        let told =
            scratch.run(["remedy", "-q", "s.yaml", "--acts", "acts", "--apply-to", name, "--most", "1"]);
        assert!(told.ends_with("--- status 0") && !told.contains("not as it was"), "{name}: {told}");
        let after = scratch.run(["ask", "-q", "s.yaml", "gauge creates /tmp/x", "press creates /tmp/x"]);
        assert!(
            after.starts_with("allowed        gauge") && after.contains("\nallowed        press"),
            "{name}: {after}"
        );
    }
}
