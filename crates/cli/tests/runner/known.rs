//! Certain only where it is known.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// The superblock of a host path counts where nothing is known of what is on it.
#[test]
fn a_read_only_superblock_needs_no_tree() {
    let compose = "services:\n  a:\n    image: x\n    user: '0:0'\n    volumes: ['/mnt/a:/a', '/mnt/b:/b']\n";
    let mounts = "25 1 8:1 / / rw - ext4 /dev/sda1 rw\n36 25 8:2 / /mnt/a rw - ext4 /dev/sda2 ro\n";
    let scratch = Scratch::with("c.yaml", compose)
        .and("s.yaml", "scene: 1\nworkloads: [c.yaml]\nhost: { mounts: mountinfo }\n")
        .and("mountinfo", mounts);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "a creates /a/x", "a creates /b/x"]), @"
    denied         a creates /a/x
                   denied ENOTDIR  when what is mounted at /a is a file
                   denied EEXIST   when /a/x is there
                   denied EROFS    otherwise
    usually allowed a creates /b/x
                   leaves 0:? ????
                   as usual: /b/x is not there yet; what is mounted at /b is a directory
                   denied EEXIST   when /b/x is there
                   denied ENOTDIR  when what is mounted at /b is a file

    To settle it, in a scene file
      host: { tree: ... }

    Assumed
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}

fn process(uid: u32, groups: &str) -> String {
    format!(
        "{{\"ociVersion\": \"1.0.2\", \"root\": {{\"path\": \"rootfs\"}}, \"process\": {{\"cwd\": \"/\", \"args\": [\"x\"], \
         \"user\": {{\"uid\": {uid}, \"gid\": 5, \"additionalGids\": [{groups}]}}}}}}"
    )
}

/// No number means "unknown": 4294967294 is an id like any other, and 4294967295 is none (docs/facts/runtimes.md 1.5).
#[test]
fn the_largest_ids_are_numbers() {
    let of = |uid, groups, runtime| {
        let scratch = Scratch::with("config.json", &process(uid, groups));
        scratch.run(["identity", "config.json", "-q", "--runtime", runtime])
    };
    assert_snapshot!(of(4_294_967_294, "4294967294", "crun"), @"
    process  app container of process, image rootfs
      field      value       from
      uid        4294967294  config.json:1:108 process.user.uid
      gid        5           config.json:1:127 process.user.gid
      group      4294967294  config.json:1:149 process.user.additionalGids
      umask      0022        the runtime's default umask
      effective  none        a process that is not root starts with none
    --- status 0
    ");
    assert_snapshot!(of(4_294_967_294, "", "runc"), @"
    process  app container of process, image rootfs
      never runs: 4294967294 is out of range: runc takes ids up to 2147483647 (start refused)
        config.json:1:108 process.user.uid
    --- status 0
    ");
    assert_snapshot!(of(4_294_967_295, "", "crun"), @"
    process  app container of process, image rootfs
      field      value                                                           from
      uid        0, for 4294967295 is (uid_t)-1, which leaves the runtime's own  config.json:1:108 process.user.uid
      gid        5                                                               config.json:1:127 process.user.gid
      umask      0022                                                            the runtime's default umask
      effective  none                                                            every capability is dropped
    --- status 0
    ");
    assert_snapshot!(of(7, "4294967295", "crun"), @"
    process  app container of process, image rootfs
      never runs: setgroups: Invalid argument, for 4294967295 is (gid_t)-1 (start refused)
        config.json:1:108 process.user.uid
    --- status 0
    ");
}

const PODS: &str = "\
apiVersion: v1
kind: PersistentVolume
metadata: { name: one }
spec: { local: { path: /disks/one }, claimRef: { name: c, namespace: default }, accessModes: [ReadWriteOnce] }
---
apiVersion: v1
kind: Pod
metadata: { name: alder }
spec:
  securityContext: { runAsUser: 1001, runAsGroup: 1001, fsGroup: 7000 }
  containers: [{ name: a, image: x, volumeMounts: [{ name: v, mountPath: /v }] }]
  volumes: [{ name: v, persistentVolumeClaim: { claimName: c } }]
---
apiVersion: v1
kind: Pod
metadata: { name: birch }
spec:
  securityContext: { runAsUser: 1002, runAsGroup: 1002, fsGroup: 8000 }
  containers: [{ name: b, image: x, volumeMounts: [{ name: v, mountPath: /v }] }]
  volumes: [{ name: v, persistentVolumeClaim: { claimName: c } }]
";

/// The kubelet leaves a local volume alone while another pod has it: whose group it has is a matter of order. `mounts` takes
/// the pods one by one and has to know the other as well.
#[test]
fn two_filesystem_groups_on_one_claim_are_a_matter_of_order() {
    let tree = "[{ path: /disks/one, kind: dir, mode: 0750, owner: '405:1001' }]";
    let scratch = Scratch::with("pods.yaml", PODS)
        .and("s.yaml", format!("scene: 1\nworkloads: [pods.yaml]\nhost: {{ tree: {tree} }}\n"));
    assert_snapshot!(scratch.run(["ask", "s.yaml", "a creates /v/x", "b creates /v/x"]), @"
    depends        a creates /v/x
                   denied EACCES          when claim c has the filesystem group of birch, 8000
                   leaves 1001:7000 0644  when claim c has the pod's own filesystem group, 7000
    depends        b creates /v/x
                   denied EACCES          when claim c has the filesystem group of alder, 7000
                   leaves 1002:8000 0644  when claim c has the pod's own filesystem group, 8000

    To settle it
      give the volume's tree as it is once both run, and `group-ownership: skip`

    Assumed
      no group of image x lists the user as a member (its group file is not given)
      the root of image x is 0:0 0755
    --- status 0
    ");
    assert_snapshot!(scratch.run(["mounts", "s.yaml"]), @"
    a
      at  what               flags  root       before         inodes changed
      /   image x (overlay)  rw     0:0 0755
      /v  host /disks/one    rw     not known  405:1001 0750
      /v: either the kubelet gives the volume to group 7000: files | 0660, directories | 02770; or the kubelet gives the volume to group 8000: files | 0660, directories | 02770
      /v: not known: whether birch mounts claim c before, and so whose filesystem group it has; to settle it: give the volume's tree as it is once both run, and `group-ownership: skip`

    b
      at  what               flags  root       before         inodes changed
      /   image x (overlay)  rw     0:0 0755
      /v  host /disks/one    rw     not known  405:1001 0750
      /v: either the kubelet gives the volume to group 7000: files | 0660, directories | 02770; or the kubelet gives the volume to group 8000: files | 0660, directories | 02770
      /v: not known: whether alder mounts claim c before, and so whose filesystem group it has; to settle it: give the volume's tree as it is once both run, and `group-ownership: skip`
    --- status 0
    ");
    // With one group there is no order to know.
    let scratch = scratch.and("pods.yaml", PODS.replace("8000", "7000"));
    assert_snapshot!(scratch.run(["ask", "s.yaml", "a creates /v/x", "b creates /v/x"]), @"
    allowed        a creates /v/x
                   leaves 1001:7000 0644
    allowed        b creates /v/x
                   leaves 1002:7000 0644

    Assumed
      no group of image x lists the user as a member (its group file is not given)
      the root of image x is 0:0 0755
    --- status 0
    ");
    // The change of one pod is a change for the other.
    assert_snapshot!(scratch.run(["mounts", "s.yaml", "--change", "b filesystem-group 8000"]), @"
    a
      at  what               flags  root       before         inodes changed
      /   image x (overlay)  rw     0:0 0755
      /v  host /disks/one    rw     not known  405:1001 0750
      /v: either the kubelet gives the volume to group 7000: files | 0660, directories | 02770; or the kubelet gives the volume to group 8000: files | 0660, directories | 02770
      /v: not known: whether birch mounts claim c before, and so whose filesystem group it has; to settle it: give the volume's tree as it is once both run, and `group-ownership: skip`

    b
      at  what               flags  root       before         inodes changed
      /   image x (overlay)  rw     0:0 0755
      /v  host /disks/one    rw     not known  405:1001 0750
      /v: either the kubelet gives the volume to group 7000: files | 0660, directories | 02770; or the kubelet gives the volume to group 8000: files | 0660, directories | 02770
      /v: not known: whether alder mounts claim c before, and so whose filesystem group it has; to settle it: give the volume's tree as it is once both run, and `group-ownership: skip`
    --- status 0
    ");
}

const UNMODELLED: &str = "name: harbour
services:
  keeper: { image: x, user: '1000:1000', userns_mode: keep-id, volumes: ['/srv/d:/d'] }
  guarded: { image: x, user: '1000:1000', security_opt: ['apparmor:web'], volumes: ['/srv/d:/d'] }
  labelled: { image: x, user: '1000:1000', volumes: ['/srv/d:/d:z'] }
";

fn unmodelled() -> Scratch {
    Scratch::with("c.yaml", UNMODELLED).and(
        "s.yaml",
        "scene: 1
runtime: podman
workloads: [c.yaml]
images: { x: { tree: [{ path: /, owner: '0:0', mode: 0755 }] } }
host:
  tree:
    - { path: /srv/d, kind: dir, owner: '1000:1000', mode: 0755 }
    - { path: /srv/d/f, owner: '33:33', mode: 0640 }
",
    )
}

/// What is read and not modelled is a missing fact, whoever asks and however quietly.
#[test]
fn what_is_not_modelled_is_not_known() {
    let scratch = unmodelled();
    let acts = ["keeper creates /d/x", "guarded creates /d/x", "guarded reads /d/f", "labelled creates /d/x"];
    let [a, b, c, d] = acts;
    assert_snapshot!(scratch.run(["ask", "s.yaml", "-q", a, b, c, d]), @"
    depends        keeper creates /d/x
                   leaves 1000:1000 0644  when `keep-id` gives the host's own ids
                   denied EACCES          when `keep-id` gives others, and bits or an ACL refuse them
                   denied EPERM           when `keep-id` gives others, and it takes another owner or a capability
                   allowed                when `keep-id` gives others, and they are let through
    depends        guarded creates /d/x
                   denied EACCES          when the AppArmor profile web refuses this
                   leaves 1000:1000 0644  when the AppArmor profile web permits this
    denied EACCES  guarded reads /d/f
                   /d/f: -rw-r----- 0640 33:33: other has ---, needed r--
    allowed        labelled creates /d/x
                   leaves 1000:1000 0644

    To settle it
      no scene can supply it
      say who starts the engine: --rootless USER, or `host: { started-by: USER }` in a scene file

    Assumed
      SELinux, where the host enforces it, permits what the option `z` labels
      the engine keeps images in its default storage, whose root directories are 0:0 0555
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "s.yaml", "/d", "/d/f", "-q"]), @"
    keeper
      path  owner  on the host  mode             read     write    create   delete   list     enter    run
      /d    ?:?    1000:1000    drwxr-xr-x 0755  -        -        depends  denied   depends  depends  -
      /d/f  ?:?    33:33        -rw-r----- 0640  depends  depends  -        depends  -        -        denied

    guarded
      path  owner      mode             read    write   create   delete   list     enter    run
      /d    1000:1000  drwxr-xr-x 0755  -       -       depends  EACCES   depends  depends  -
      /d/f  33:33      -rw-r----- 0640  EACCES  EACCES  -        depends  -        -        EACCES

    labelled
      path  owner      mode             read    write   create  delete  list  enter  run
      /d    1000:1000  drwxr-xr-x 0755  -       -       yes     EACCES  yes   yes    -
      /d/f  33:33      -rw-r----- 0640  EACCES  EACCES  -       yes     -     -      EACCES

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "s.yaml", "--tree", "/d", "--actor", "guarded", "-q"]), @"
    guarded: 1 entry below /d
      act     outcome        entries  directories  decided by
      read    denied EACCES        1            1  the bits of others
      write   denied EACCES        1            1  the bits of others
      delete  depends              1            1  a missing fact

    Assumed
      the engine keeps images in its default storage, whose root directories are 0:0 0555
    --- status 0
    ");
    assert_snapshot!(scratch.run(["identity", "s.yaml", "--actor", "keeper", "-q"]), @"
    keeper  app container of harbour, image x
      field      value  from
      uid        1000   c.yaml:3:29 user
      gid        1000   c.yaml:3:29 user
      umask      0022   the runtime's default umask
      effective  none   a process that is not root starts with none
      not known: which ids `keep-id` gives (c.yaml:3:55 userns_mode)
    --- status 0
    ");
}

/// A link that leads nowhere is there, and what lies deeper than the rows is counted.
#[test]
fn rows_leave_nothing_out() {
    let scratch = Scratch::with(
        "s.yaml",
        "scene: 1
volumes:
  v:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '5:5', mode: 0755 }
      - { path: /nowhere, kind: link, owner: '5:5', target: none }
      - { path: /round, kind: link, owner: '0:0', target: round }
      - { path: /d, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /d/salaries.json, owner: '0:0', mode: 0644 }
containers: [{ name: a, user: '5:5', mounts: [{ volume: v, at: /v }] }]
",
    );
    assert_snapshot!(scratch.run(["access", "s.yaml"]), @"
    a
      path        owner  mode             read    write   create  delete     list  enter  run
      /v          5:5    drwxr-xr-x 0755  -       -       yes     EACCES     yes   yes    -
      /v/d        0:0    drwxr-xr-x 0755  -       -       EACCES  ENOTEMPTY  yes   yes    -
      /v/nowhere  5:5    lrwxrwxrwx 0777  ENOENT  ENOENT  -       yes        -     -      -
      /v/round    0:0    lrwxrwxrwx 0777  ELOOP   ELOOP   -       yes        -     -      -
      /v: 1 entry deeper, not shown (--tree /v counts them all)

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    let answer = scratch.json(["ask", "s.yaml", "a writes /v/d/salaries.json", "--format", "json"]);
    let reason = &answer["acts"][0]["reason"];
    assert_eq!((&reason["path"], &reason["check"]), (&"/v/d/salaries.json".into(), &"other-bits".into()));
    assert_eq!((&reason["needed"], &reason["granted"]), (&"-w-".into(), &"r--".into()));
    assert_eq!((&reason["from"]["file"], &reason["from"]["line"]), (&"s.yaml".into(), &10.into()));
}

/// Files that are given for an emptyDir are its files; what the kubelet writes itself is not given.
#[test]
fn files_for_an_emptydir_are_its_files() {
    let scratch = Scratch::with(
        "p.yaml",
        "apiVersion: v1
kind: Pod
metadata: {name: p}
spec:
  containers: [{name: a, image: i, securityContext: {runAsUser: 5, runAsGroup: 5}, volumeMounts: [{name: scratch, mountPath: /s}, {name: cm, mountPath: /cm}]}]
  volumes: [{name: scratch, emptyDir: {}}, {name: cm, configMap: {name: cm}}]
",
    )
    .and(
        "e.yaml",
        "scene: 1
workloads: [p.yaml]
volumes:
  scratch: { tree: [{ path: /, kind: dir, owner: '5:5', mode: 0700 }, { path: /f, owner: '0:0', mode: 0600 }] }
  cm: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] }
",
    );
    assert_snapshot!(scratch.run(["access", "e.yaml"]), @"
    a
      path  owner  mode             read    write   create  delete  list  enter  run
      /cm   0:0    drwxrwxrwx 0777  -       -       EROFS   EACCES  yes   yes    -
      /s    5:5    drwx------ 0700  -       -       yes     EACCES  yes   yes    -
      /s/f  0:0    -rw------- 0600  EACCES  EACCES  -       yes     -     -      EACCES

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- standard error
    warning: the files that are given for volume `cm` are not used: the kubelet writes what is in it
     --> e.yaml:5:7 volumes.cm

    --- status 0
    ");
}

#[test]
fn a_umask_of_a_container_that_a_manifest_gives() {
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  securityContext: { runAsUser: 7101, runAsGroup: 7200 }\n  \
               containers: [{ name: gauge, image: x, volumeMounts: [{ name: d, mountPath: /d }] }]\n  volumes: [{ name: d, emptyDir: {} }]\n";
    let made = |umasks: &str| {
        let scene = format!("scene: 1\nworkloads: [pod.yaml]\numasks: {umasks}\n");
        Scratch::with("pod.yaml", pod).and("s.yaml", scene).run(["ask", "-q", "s.yaml", "gauge creates /d/x"])
    };
    assert!(made("{ gauge: '0027' }").contains("leaves 7101:7200 0640"));
    assert!(made("{ p/gauge: 0o077 }").contains("leaves 7101:7200 0600"));
    for (umasks, said) in [
        ("{ gaug: '0027' }", "did you mean `gauge`?"),
        ("{ q/gauge: '0027' }", "there is no container `q/gauge`"),
        ("{ gauge: '0088' }", "is not a umask"),
        ("{ gauge: '1022' }", "is not a umask"),
    ] {
        let told = made(umasks);
        assert!(
            told.contains(said) && told.contains("s.yaml:3:") && told.ends_with("--- status 2"),
            "{told}"
        );
    }
}
