//! Mount points that are made, presumed, or missing.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// What is mounted inside a volume of API objects needs no mount point in it: the kubelet makes that first.
#[test]
fn api_volumes_take_other_mounts() {
    let volumes = "volumes: [{name: cm, configMap: {name: cm}}, {name: ed, emptyDir: {}}, {name: se, secret: {secretName: se}}]";
    let pod = format!(
        "apiVersion: v1
kind: Pod
metadata: {{name: nest}}
spec:
  securityContext: {{runAsUser: 1000, runAsGroup: 1000}}
  containers:
    - {{name: beside, image: x, volumeMounts: [{{name: cm, mountPath: /cm}}]}}
    - {{name: inner, image: x, volumeMounts: [{{name: cm, mountPath: /cm}}, {{name: ed, mountPath: /cm/in/deep}}, {{name: ed, mountPath: /cm/in/deep/er}}]}}
    - {{name: read-only, image: x, volumeMounts: [{{name: se, mountPath: /se, readOnly: true}}, {{name: ed, mountPath: /se/in}}]}}
    - {{name: file, image: x, volumeMounts: [{{name: se, mountPath: /se}}, {{name: cm, mountPath: /se/key, subPath: key}}]}}
  {volumes}
---
{{apiVersion: v1, kind: ConfigMap, metadata: {{name: cm}}, data: {{key: a, in: b}}}}
---
{{apiVersion: v1, kind: Secret, metadata: {{name: se}}, stringData: {{pw: a}}}}
"
    );
    let scratch = Scratch::with("p.yaml", &pod);
    let acts = [
        "inner creates /cm/in/deep/er/x",
        "beside lists /cm/in",
        "read-only creates /se/in/x",
        "file reads /se/key",
    ];
    let [a, b, c, d] = acts;
    assert_snapshot!(scratch.run(["ask", "p.yaml", "-q", a, b, c, d]), @"
    allowed        inner creates /cm/in/deep/er/x
                   leaves 1000:1000 0644
    allowed        beside lists /cm/in
    allowed        read-only creates /se/in/x
                   leaves 1000:1000 0644
    never runs     file reads /se/key
                   StartError: /se/key is a dir, a file cannot be mounted on it
                   p.yaml:10:95 volumeMounts.mountPath

    Assumed
      no group of image x lists the user as a member (its group file is not given)
      the root of image x is 0:0 0755
    --- status 0
    ");
}

const READ_ONLY: &str = "apiVersion: v1
kind: Pod
metadata: {name: p}
spec:
  securityContext: {runAsUser: 1000, runAsGroup: 1000}
  initContainers:
    - {name: maker, image: x, volumeMounts: [{name: out, mountPath: /out}]}
  containers:
    - {name: after, image: x, volumeMounts: [{name: out, mountPath: /a, readOnly: true}, {name: in, mountPath: /a/b}]}
    - {name: alone, image: x, volumeMounts: [{name: own, mountPath: /a, readOnly: true}, {name: in, mountPath: /a/b}]}
    - {name: claim, image: x, volumeMounts: [{name: claim, mountPath: /c, readOnly: true}, {name: in, mountPath: /c/d}]}
    - {name: host, image: x, volumeMounts: [{name: host, mountPath: /h, readOnly: true}, {name: in, mountPath: /h/d}]}
  volumes:
    - {name: out, emptyDir: {}}
    - {name: in, emptyDir: {}}
    - {name: own, emptyDir: {}}
    - {name: claim, persistentVolumeClaim: {claimName: c}}
    - {name: host, hostPath: {path: /srv/h, type: Directory}}
---
apiVersion: v1
kind: Pod
metadata: {name: other}
spec:
  containers:
    - {name: writer, image: x, volumeMounts: [{name: host, mountPath: /h}]}
  volumes: [{name: host, hostPath: {path: /srv, type: Directory}}]
";

/// A mount point that is missing in a read-only mount is there if somebody else makes it, or if nobody listed what is there.
#[test]
fn a_mount_point_in_a_read_only_volume_may_be_missing() {
    let scratch = Scratch::with("p.yaml", READ_ONLY).and(
        "s.yaml",
        "scene: 1\nworkloads: [p.yaml]\nhost: { tree: [{ path: /srv/h, kind: dir, owner: '0:0', mode: 0755 }] }\n",
    );
    let acts =
        ["after creates /a/b/x", "alone creates /a/b/x", "claim creates /c/d/x", "host creates /h/d/x"];
    let [a, b, c, d] = acts;
    assert_snapshot!(scratch.run(["ask", "s.yaml", "-q", a, b, c, d]), @"
    usually allowed after creates /a/b/x
                   leaves 1000:1000 0644
                   as usual: emptyDir out has the mount point /a/b (maker made it)
                   never runs  when emptyDir out lacks the mount point /a/b, which cannot be made in a read-only mount
    never runs     alone creates /a/b/x
                   StartError: the mount point /a/b cannot be made: the mount point is missing and the volume around it is mounted read-only
                   p.yaml:10:112 volumeMounts.mountPath
    depends        claim creates /c/d/x
                   never runs             when claim c lacks the mount point /c/d, which cannot be made in a read-only mount
                   denied EACCES          when owner and mode of /c do not give claim --x
                   leaves 1000:1000 0644  otherwise
    usually allowed host creates /h/d/x
                   leaves 1000:1000 0644
                   as usual: host /srv/h has the mount point /h/d (other made it)
                   never runs  when host /srv/h lacks the mount point /h/d, which cannot be made in a read-only mount

    To settle it, in a scene file
      volumes: { c: { tree: ... } }
      no scene can supply it: it is there if maker makes it
      no scene can supply it: it is there if other makes it

    Assumed
      no group of image x lists the user as a member (its group file is not given)
      the root of image x is 0:0 0755
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "s.yaml", "--actor", "after", "-q"]), @"
    after
      path  owner  mode             read  write  create  delete  list  enter  run
      /a    0:0    drwxrwxrwx 0777  -     -      EROFS   EACCES  ~yes  ~yes   -
      /a/b  0:0    drwxrwxrwx 0777  -     -      ~yes    EROFS   ~yes  ~yes   -

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself. ~: usually so; `ask` says on what it rests.
    --- status 0
    ");
    assert_snapshot!(scratch.run(["identity", "s.yaml", "--actor", "claim", "-q"]), @"
    claim  app container of p, image x
      field      value           from
      uid        1000            p.yaml:5:32 securityContext.runAsUser
      name       unknown         unknown: the account files of image x
      gid        1000            p.yaml:5:50 securityContext.runAsGroup
      group      1000            the primary group, which the runtime lists again
      bounding   the default 14  the runtime's default set
      umask      0022            the runtime's default umask
      effective  none            a process that is not root starts with none
      assumed: no group of image x lists the user as a member (its group file is not given)
      not known: whether claim c, mounted read-only, has the mount point /c/d (p.yaml:11:114 volumeMounts.mountPath)
    --- status 0
    ");
    let identity = scratch.json(["identity", "s.yaml", "--actor", "after", "-q", "--format", "json"]);
    assert_eq!(
        identity.pointer("/actors/0/missing_facts").expect("missing facts"),
        &serde_json::json!(["whether emptyDir out, mounted read-only, has the mount point /a/b"])
    );
}

/// Services that mount a folder, a file and a tmpfs on what the kernel shows.
fn in_kernel_files() -> Scratch {
    let service =
        |name: &str, at: &str| format!("  {name}: {{ image: x, user: '5:5', volumes: ['/srv/d:{at}'] }}\n");
    let compose = [
        "services:\n".to_owned(),
        service("below", "/proc/tides"),
        service("settings", "/proc/sys"),
        service("whole", "/proc"),
        service("classes", "/sys/class"),
        service("lacking", "/sys/tides"),
        "  load: { image: x, user: '5:5', volumes: ['/srv/f:/proc/loadavg'] }\n".to_owned(),
        "  memory: { image: x, user: '5:5', tmpfs: [/proc/tides] }\n".to_owned(),
    ]
    .concat();
    let scene = "scene: 1\nworkloads: [c.yaml]\nimages: { x: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }], passwd: '', group: '' } }\n\
        host: { tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /srv, kind: dir, owner: '0:0', mode: 0755 }, \
        { path: /srv/d, kind: dir, owner: '5:5', mode: 0700 }, { path: /srv/f, kind: file, owner: '5:5', mode: 0600 }] }\n";
    Scratch::with("s.yaml", scene).and("c.yaml", compose)
}

#[test]
fn paths_in_proc_are_cleaned_first() {
    // What counts is the path that the engine makes of the text.
    let dots = "services:\n  out: { image: x, volumes: ['/srv/d:/proc/../data'] }\n  in: { image: x, volumes: ['/srv/d:/x/..//proc/tides'] }\n";
    let written = Scratch::with("c.yaml", dots).run(["ask", "-q", "c.yaml", "out lists /", "in lists /"]);
    assert!(written.starts_with("allowed        out lists /"), "{written}");
    assert!(written.contains("runc mounts nothing at /proc/tides"), "{written}");
}

/// Nothing can be made in proc and sysfs, and runc hides only some files of proc.
#[test]
fn mounts_in_proc_and_sysfs() {
    let scratch = in_kernel_files();
    let acts = [
        "below lists /",
        "settings lists /",
        "whole lists /",
        "classes creates /sys/class/x",
        "lacking lists /",
        "load reads /proc/loadavg",
        "memory lists /",
    ];
    let asked = |runtime: &str, host: &[&str]| {
        let words = ["ask", "-q", "s.yaml", "--runtime", runtime].into_iter().chain(host.iter().copied());
        scratch.run(words.chain(acts).collect::<Vec<_>>())
    };
    assert_snapshot!(asked("docker", &[]), @"
    never runs     below lists /
                   StartError: runc mounts nothing at /proc/tides: it is inside /proc
                   c.yaml:2:45 volumes
    never runs     settings lists /
                   StartError: runc mounts nothing at /proc/sys: it is inside /proc
                   c.yaml:3:48 volumes
    never runs     whole lists /
                   StartError: runc mounts nothing but proc at /proc
                   c.yaml:4:45 volumes
    depends        classes creates /sys/class/x
                   denied EACCES    when AppArmor is on, and the engine's profile denies it
                   leaves 5:5 0644  when the host has no AppArmor
    depends        lacking lists /
                   never runs  when sysfs lacks the mount point /sys/tides, which cannot be made there
                   allowed     when sysfs has the mount point /sys/tides
    allowed        load reads /proc/loadavg
    depends        memory lists /
                   never runs  when proc lacks the mount point /proc/tides, which cannot be made there
                   allowed     when proc has the mount point /proc/tides

    To settle it
      give `host: { apparmor: enabled }` or `disabled` in a scene
      not possible: the kernel decides file by file
    --- status 0
    ");
    assert_snapshot!(asked("podman", &["--apparmor", "disabled"]), @"
    depends        below lists /
                   never runs  when proc lacks the mount point /proc/tides, which cannot be made there
                   allowed     when proc has the mount point /proc/tides
    allowed        settings lists /
    allowed        whole lists /
    allowed        classes creates /sys/class/x
                   leaves 5:5 0644
    depends        lacking lists /
                   never runs  when sysfs lacks the mount point /sys/tides, which cannot be made there
                   allowed     when sysfs has the mount point /sys/tides
    allowed        load reads /proc/loadavg
    depends        memory lists /
                   never runs  when proc lacks the mount point /proc/tides, which cannot be made there
                   allowed     when proc has the mount point /proc/tides

    To settle it
      not possible: the kernel decides file by file

    Assumed
      the engine keeps images in its default storage, whose root directories are 0:0 0555
    --- status 0
    ");
}
