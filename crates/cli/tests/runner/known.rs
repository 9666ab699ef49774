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
                   denied EEXIST   when what is mounted at /a is a directory; /a/x is there
                   denied EROFS    when what is mounted at /a is a directory; /a/x is missing
                   denied ENOTDIR  when what is mounted at /a is a file
                   to settle it: give `host: { tree: ... }` in a scene file
    depends        a creates /b/x
                   denied EEXIST    when what is mounted at /b is a directory; /b/x is there
                   leaves 0:? ????  when what is mounted at /b is a directory; /b/x is missing
                   denied ENOTDIR   when what is mounted at /b is a file
                   to settle it: give `host: { tree: ... }` in a scene file

    Assumed
      the root of image x is 0:0 0755
      what is not listed is of the kind the act needs: a file or a directory
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
                   leaves 1001:7000 0644  when claim c has the pod's own filesystem group, 7000
                   denied EACCES          when claim c has the filesystem group of birch, 8000
                   to settle it: give the volume's tree as it is once both run, and `group-ownership: skip`
    depends        b creates /v/x
                   denied EACCES          when claim c has the filesystem group of alder, 7000
                   leaves 1002:8000 0644  when claim c has the pod's own filesystem group, 8000
                   to settle it: give the volume's tree as it is once both run, and `group-ownership: skip`

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
