//! Facts that are not given.

use insta::assert_snapshot;

use crate::scratch::{SCENE, Scratch, TIDES, pod};

#[test]
fn what_every_possibility_shares_is_told() {
    let scratch = Scratch::with("pod.yaml", &pod("{ runAsUser: 1000 }"));
    let shown = scratch.run(["identity", "pod.yaml"]);
    assert!(shown.contains("either uid 1000 has no account"), "{shown}");
    assert!(
        shown.contains("effective  none                 a process that is not root starts with none"),
        "{shown}"
    );
}

#[test]
fn an_unknown_image_user_is_both_possibilities() {
    let scratch = Scratch::with("pod.yaml", &pod("{}"));
    assert_snapshot!(scratch.run(["identity", "pod.yaml"]), @"
    gauge  app container of p, image tides/gauge:3
      field     value                    from
      uid       0 or an ordinary user's  unknown: the user of image tides/gauge:3
      gid       0 or the user's          unknown: the user of image tides/gauge:3
      bounding  the default 14           the runtime's default set
      umask     0022                     the runtime's default umask
      either the image runs as root, or the image runs as an ordinary user with a group of its own, or the image runs as an ordinary user without an account, so with group 0
      to settle it: give `user` under `images: { tides/gauge:3: ... }` in a scene file, or let it be looked for with --images-from
      assumed: no group of image tides/gauge:3 lists the user as a member (its group file is not given)
    --- status 0
    ");
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "gauge creates /data/app/x"]), @"
    allowed        gauge creates /data/app/x
                   leaves 0:0 0644  when the image runs as root
                   leaves ?:? 0644  when the image runs as an ordinary user with a group of its own
                   leaves ?:0 0644  when the image runs as an ordinary user without an account, so with group 0
                   to settle it: give `user` under `images: { tides/gauge:3: ... }` in a scene file, or let it be looked for with --images-from

    Assumed
      no group of image tides/gauge:3 lists the user as a member (its group file is not given)
      the directories above mount points in image tides/gauge:3 let everyone pass (0:0 0755 where the runtime makes them)
      the root of image tides/gauge:3 is 0:0 0755
    --- status 0
    ");
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "gauge writes /etc/hosts"]), @"
    depends        gauge writes /etc/hosts
                   denied EACCES  when the image runs as an ordinary user with a group of its own, or the image runs as an ordinary user without an account, so with group 0
                   allowed        when the image runs as root
                   to settle it: give `user` under `images: { tides/gauge:3: ... }` in a scene file, or let it be looked for with --images-from

    Assumed
      no group of image tides/gauge:3 lists the user as a member (its group file is not given)
      the directories above mount points in image tides/gauge:3 let everyone pass (0:0 0755 where the runtime makes them)
      the root of image tides/gauge:3 is 0:0 0755
    --- status 0
    ");
}

#[test]
fn a_demand_for_non_root_rules_root_out() {
    let scratch = Scratch::with("pod.yaml", &pod("{ runAsNonRoot: true }"));
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "gauge writes /etc/hosts", "gauge creates /data/app/x"]), @"
    denied EACCES  gauge writes /etc/hosts
                   /etc/hosts: -rw-r--r-- 0644 0:0: other has r--, needed -w-
    allowed        gauge creates /data/app/x
                   leaves ?:? 0644  when the image runs as an ordinary user with a group of its own
                   leaves ?:0 0644  when the image runs as an ordinary user without an account, so with group 0
                   to settle it: give `user` under `images: { tides/gauge:3: ... }` in a scene file, or let it be looked for with --images-from

    Assumed
      image tides/gauge:3 names a user other than root by number, as runAsNonRoot demands
      no group of image tides/gauge:3 lists the user as a member (its group file is not given)
      the directories above mount points in image tides/gauge:3 let everyone pass (0:0 0755 where the runtime makes them)
      the root of image tides/gauge:3 is 0:0 0755
    --- status 0
    ");
}

#[test]
fn an_image_without_facts_is_named_with_what_would_settle_it() {
    let scratch = Scratch::with("pod.yaml", &pod(TIDES));
    assert_snapshot!(scratch.run(["ask", "pod.yaml", "gauge creates /tmp/x", "gauge reads /etc/tide.conf"]), @"
    usually allowed gauge creates /tmp/x
                   leaves 7101:7200 0644
                   as usual: image tides/gauge:3: /tmp is there, 0:0 1777; /tmp/x is not there yet
                   denied EEXIST  when /tmp/x is there
                   denied EACCES  when owner and mode of /tmp do not give gauge -wx, or owner and mode of /tmp do not give gauge --x
                   denied ENOENT  when /tmp is missing
    depends        gauge reads /etc/tide.conf
                   denied ENOENT  when /etc/tide.conf is missing
                   denied EACCES  when owner and mode of /etc/tide.conf do not give gauge r--
                   allowed        otherwise

    To settle it, in a scene file
      images: { tides/gauge:3: { tree: ... } }
      or let images be looked for with --images-from

    Assumed
      no group of image tides/gauge:3 lists the user as a member (its group file is not given)
      the directories above mount points in image tides/gauge:3 let everyone pass (0:0 0755 where the runtime makes them)
      the root of image tides/gauge:3 is 0:0 0755
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}

#[test]
fn a_primary_group_that_hangs_on_an_account_shows_in_the_imprint() {
    let scratch = Scratch::with("pod.yaml", &pod("{ runAsUser: 7101 }"));
    assert_snapshot!(scratch.run(["imprint", "pod.yaml"]), @"
    gauge
      in         new   asked  result   inside                   stored
      /data/app  file  0666   allowed  7101:? 0644  -rw-r--r--  7101:?
      /data/app  dir   0777   allowed  7101:? 0755  drwxr-xr-x  7101:?
    --- status 0
    ");
}

#[test]
fn a_claim_without_facts_depends_on_what_it_holds_and_on_the_filesystem_group() {
    let claim = pod(TIDES).replace("emptyDir: {}", "persistentVolumeClaim: { claimName: readings }");
    let scratch = Scratch::with("pod.yaml", &claim).and("s.yaml", SCENE);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge creates /data/app/x"]), @"
    depends        gauge creates /data/app/x
                   when filesystem group 7300 reaches claim readings:
                     denied EEXIST          when /data/app/x is there
                     leaves 7101:7300 0644  when /data/app/x is missing
                   when it does not reach claim readings (as with hostPath and NFS volumes):
                     denied EACCES          when owner and mode of /data/app do not give gauge --x, or owner and mode of /data/app do not give gauge -wx
                     denied EEXIST          when /data/app/x is there
                   and 1 more possibility (--all lists them)
                   to settle it: give `volumes: { readings: { tree: ... } }` in a scene file
                   to settle it: say `group-ownership: apply` or `skip` for the volume in a scene file

    Assumed
      after the filesystem-group step the volume's root is at least 2770; its owner is taken to be root
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- standard error
    note: what is behind its claims is not in the input: a cluster that runs this can tell
     --> pod.yaml:13:13 volumes.name
      = help: pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots

    --- status 0
    ");
    assert_snapshot!(scratch.run(["mounts", "s.yaml"]), @"
    gauge
      at         what                           flags  root       before  inodes changed
      /          image tides/gauge:3 (overlay)  rw     0:0 0755
      /data/app  claim readings                 rw     not known
      /data/app: either the kubelet gives the volume to group 7300, its root at least 2770; or the filesystem group is not applied to this volume
      /data/app: not known: whether the filesystem group reaches claim readings; to settle it: say `group-ownership: apply` or `skip` for the volume in a scene file
    --- standard error
    note: what is behind its claims is not in the input: a cluster that runs this can tell
     --> pod.yaml:13:13 volumes.name
      = help: pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots

    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "s.yaml"]), @"
    gauge
      path       owner  mode           read  write  create   delete  list     enter    run
      /data/app  ?:?    dir not known  -     -      depends  EACCES  depends  depends  -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- standard error
    note: what is behind its claims is not in the input: a cluster that runs this can tell
     --> pod.yaml:13:13 volumes.name
      = help: pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots

    --- status 0
    ");
}

#[test]
fn a_secret_that_nobody_gave_is_unknown_not_empty() {
    let secret = pod(TIDES).replace("emptyDir: {}", "secret: { secretName: keys }");
    let scratch = Scratch::with("pod.yaml", &secret).and("s.yaml", SCENE);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge reads /data/app/key", "gauge creates /data/app/x"]), @"
    depends        gauge reads /data/app/key
                   denied ENOENT  when /data/app/key is missing
                   denied EACCES  when owner and mode of /data/app/key do not give gauge r--
                   allowed        otherwise
    denied         gauge creates /data/app/x
                   denied EEXIST  when /data/app/x is there
                   denied EROFS   when /data/app/x is missing

    To settle it
      give the Secret `keys` beside the workload

    Assumed
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}

#[test]
fn an_owner_or_mode_left_out_of_a_tree_is_unknown() {
    let scene = SCENE.replace(
        "{ path: /closed/key, owner: '405:1001', mode: 0400 }",
        "{ path: /open/key, owner: '405:1001' }",
    );
    let scratch = Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", scene);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge reads /open/key", "gauge deletes /open/key"]), @"
    depends        gauge reads /open/key
                   denied EACCES  when owner and mode of /open/key do not give gauge r--
                   allowed        when owner and mode of /open/key give gauge r--
                   to settle it: give it in the tree of the scene file
    allowed        gauge deletes /open/key
    --- status 0
    ");
}

#[test]
fn a_kernel_setting_left_out_is_asked_for() {
    let scene = SCENE.replace(
        "{ path: /closed/key, owner: '405:1001', mode: 0400 }",
        "{ path: /tmp, kind: dir, owner: '0:0', mode: 1777 }\n      - { path: /tmp/x, owner: '405:405', mode: 0666 }",
    );
    let scratch = Scratch::with("pod.yaml", &pod(TIDES)).and("s.yaml", &scene);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge overwrites /tmp/x"]), @"
    depends        gauge overwrites /tmp/x
                   denied EACCES  when fs.protected_regular = 1, or fs.protected_regular = 2
                   allowed        when fs.protected_regular = 0
                   to settle it: give it under `host: { sysctls: { fs.protected_regular: ... } }`
    --- status 0
    ");
    let told = scene + "host: { sysctls: { fs.protected_regular: 0 } }\n";
    assert_snapshot!(scratch.and("t.yaml", told).run(["ask", "t.yaml", "gauge overwrites /tmp/x"]), @"
    allowed        gauge overwrites /tmp/x
    --- status 0
    ");
}

/// Neither owner nor mode nor even the kind of what a sub-path or an untyped host path shows is known.
#[test]
fn the_kind_of_what_nobody_told_is_not_taken_for_a_directory() {
    let text = pod(TIDES).replace("mountPath: /data/app }", "mountPath: /data/app, subPath: part }");
    let conf = text.replace("emptyDir: {}", "configMap: { name: conf }");
    let scratch = Scratch::with("pod.yaml", &conf).and("s.yaml", SCENE);
    assert_snapshot!(scratch.run(["access", "s.yaml"]), @"
    gauge
      path       owner  mode       read     write   create  delete  list     enter    run
      /data/app         not known  depends  denied  denied  EACCES  depends  depends  depends

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    assert_snapshot!(scratch.run(["ask", "s.yaml", "gauge reads /data/app"]), @"
    depends        gauge reads /data/app
                   denied EACCES  when owner and mode of /data/app do not give gauge r--
                   allowed        when owner and mode of /data/app give gauge r--
                   to settle it: give the ConfigMap `conf` beside the workload
    --- status 0
    ");
    let host = pod(TIDES).replace("emptyDir: {}", "hostPath: { path: /etc/localtime }");
    let scratch = Scratch::with("pod.yaml", &host).and("s.yaml", SCENE);
    assert_snapshot!(scratch.run(["access", "s.yaml"]), @"
    gauge
      path       owner  mode       read     write    create   delete  list     enter    run
      /data/app         not known  depends  depends  depends  EACCES  depends  depends  depends

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- standard error
    warning: fsGroup 7300 is not applied to host path /etc/localtime
     --> pod.yaml:11:15 volumeMounts.name
      = help: change its group on the host, or add that group to supplementalGroups

    --- status 0
    ");
}

/// Measured with fuse2fs: uid=5102,gid=5200,umask=0077 shows 0700 5102:5200 for 0644 0:0, and the program refuses 5102 all the same.
#[test]
fn what_a_fuse_program_shows_otherwise_depends_on_it() {
    let scene = |options: &str| {
        format!(
            "scene: 1\ncontainers: [{{ name: gauge, image: x, user: '5102:5200', mounts: [{{ volume: v, at: /v }}] }}]\n\
             images: {{ x: {{ tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0755' }}] }} }}\n\
             volumes: {{ v: {{ filesystem: fuseblk, options: [{options}], tree: [{{ path: /, kind: dir, owner: '0:0', mode: '0777' }}, \
             {{ path: /f, owner: '0:0', mode: '0644' }}] }} }}\n"
        )
    };
    let acts = [
        "writes /v/f",
        "reads /v/f",
        "creates /v/n",
        "sets-mode 0600 on /v/f",
        "sets-owner 5103 on /v/f",
        "sets-mode 0700 on /v",
    ];
    let outcome = |options: &str, act: &str| {
        let act = format!("gauge {act}");
        let answer =
            Scratch::with("s.yaml", &scene(options)).json(["ask", "s.yaml", &act, "-q", "--format", "json"]);
        answer["acts"][0]["outcome"].as_str().unwrap_or_default().to_owned()
    };
    for act in acts {
        for shown in ["uid=5102", "gid=5200", "umask=0077"] {
            assert_eq!(
                outcome(&format!("allow_other, default_permissions, '{shown}'"), act),
                "depends",
                "{shown}: {act}"
            );
        }
        assert_eq!(outcome("allow_other", act), "depends", "{act}");
    }
    let sure: Vec<String> = acts.iter().map(|act| outcome("allow_other, default_permissions", act)).collect();
    assert_eq!(sure, ["denied", "allowed", "allowed", "denied", "denied", "denied"]);
}

#[test]
fn a_secret_is_shown_nowhere() {
    for text in [
        "apiVersion: v1\nkind: Secret\nmetadata: {name: s}\nstringData:\n  key: tidewater1\n  key: tidewater2\n",
        "apiVersion: v1\nkind: Secret\nmetadata: {name: s}\nstringData:\n  key: \"tidewater3\" x\n",
        "{\"apiVersion\": \"v1\", \"kind\": \"Secret\", \"data\": {\"key\": \"tidewater4\", \"other\" \"x\"}}",
        "apiVersion: v1\nkind: List\nitems:\n- {kind: \"Secret\", apiVersion: v1, metadata: {name: s}, data: {k: tidewater5, k: tidewater6}}\n",
    ] {
        let scratch = Scratch::with("s.yaml", text);
        let said = scratch.run(["identity", "s.yaml"]);
        assert!(said.contains("s.yaml:") && !said.contains("tidewater"), "{said}");
    }
}

#[test]
fn a_cluster_is_asked_by_a_pipe() {
    let pod = |namespace: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: p{namespace}}}\nspec:\n  containers: [{{name: c, image: x, volumeMounts: [{{name: d, \
            mountPath: /d}}]}}]\n  volumes: [{{name: d, persistentVolumeClaim: {{claimName: d}}}}]\n"
        )
    };
    let scratch = Scratch::with("p.yaml", &pod(", namespace: tides"));
    let line =
        "pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -n tides -o yaml`";
    for command in [&["access", "p.yaml"][..], &["ask", "p.yaml", "c reads /d/x", "c reads /d/y"]] {
        let said = scratch.run(command);
        assert_eq!(said.matches(line).count(), 1, "{said}");
        assert!(!scratch.run([command, &["-q"]].concat()).contains("pipe"));
    }
    // It is no warning.
    assert!(scratch.run(["access", "p.yaml", "--strict"]).ends_with("--- status 0"));
    let bound = "---\napiVersion: v1\nkind: PersistentVolume\nmetadata: {name: v}\nspec: {claimRef: {name: d, namespace: default}, csi: \
        {driver: x.example}}\n";
    let scratch = Scratch::with("p.yaml", &format!("{}{bound}", pod("")));
    assert!(!scratch.run(["access", "p.yaml"]).contains("pipe"));
}
