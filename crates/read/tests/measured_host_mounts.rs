//! Mounts of the host under binds and host paths, row by row as measured (docs/facts/runtimes.md section 4,
//! docs/facts/kubelet.md section 5), and the sources a scene may name.

mod fixtures;

use mivask_core::act::parse_act;
use mivask_core::question::{ask, mounts};
use mivask_core::settle::Outcome;
use mivask_core::stage::Stage;

use fixtures::stage;

const MOUNTINFO: &str = "\
22 1 8:1 / / rw,relatime - ext4 /dev/root rw
30 22 8:2 / /srv/quiet rw,noexec,nosuid,nodev - ext4 /dev/a rw
31 30 8:3 / /srv/quiet/inner rw - tmpfs tmpfs rw
32 22 8:4 / /srv/fixed ro,relatime - ext4 /dev/b rw
33 22 8:5 / /srv/dead rw - ext4 /dev/c ro
34 22 8:6 / /srv/plain rw - ext4 /dev/d rw
35 34 8:7 / /srv/plain/inner rw - tmpfs tmpfs rw
";

/// The stage of one bind or host path under `runtime`.
fn staged(runtime: &str, path: &str, read_only: bool) -> Stage {
    let workload = if matches!(runtime, "docker" | "podman") {
        let mode = if read_only { ":ro" } else { "" };
        format!("services:\n  gauge:\n    image: x\n    volumes: ['{path}:/data{mode}']\n")
    } else {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  containers:\n  - {{ name: gauge, image: x, \
             volumeMounts: [{{ name: v, mountPath: /data, readOnly: {read_only} }}] }}\n  volumes: [{{ name: v, hostPath: {{ path: {path} }} }}]\n"
        )
    };
    on_host(runtime, &workload)
}

/// The stage of a workload on the host.
fn on_host(runtime: &str, workload: &str) -> Stage {
    under(runtime, workload, "")
}

/// The same where more is known of the host.
fn under(runtime: &str, workload: &str, more: &str) -> Stage {
    let tree = "[{ path: /, kind: dir, owner: '0:0', mode: '0755' }, { path: /srv, kind: dir, owner: '0:0', mode: '0755' }, \
                { path: /srv/quiet, kind: dir, owner: '0:0', mode: '0755' }, { path: /srv/quiet/inner, kind: dir, owner: '0:0', mode: '0755' }, \
                { path: /srv/fixed, kind: dir, owner: '0:0', mode: '0777' }, { path: /srv/dead, kind: dir, owner: '0:0', mode: '0777' }]";
    let scene = format!(
        "scene: 1\nruntime: {runtime}\nworkloads: [w.yaml]\nhost: {{ tree: {tree}, mounts: mountinfo{more} }}\n"
    );
    stage("s.yaml", &[("s.yaml", &scene), ("w.yaml", workload), ("mountinfo", MOUNTINFO)])
}

/// The flags of the mount at `at`, or `none` where there is none.
fn flags(stage: &Stage, at: &str) -> String {
    let rows = mounts(stage, &stage.actors[0]);
    let row = rows.iter().find(|row| row.at == at.as_bytes());
    row.map_or_else(|| "none".to_owned(), |row| row.flags.to_string())
}

fn outcome(stage: &Stage, act: &str) -> Outcome {
    let act = parse_act(act).expect("a sentence");
    ask(stage, &act).expect("an actor of the stage").outcome
}

#[test]
fn flags_of_the_host_mount_are_kept_or_forgotten() {
    for (runtime, path, read_only, expected) in [
        // A plain bind shows the flags of the mount underneath, whoever makes it.
        ("docker", "/srv/quiet", false, "rw,noexec,nosuid,nodev"),
        ("podman", "/srv/quiet", false, "rw,noexec,nosuid,nodev"),
        ("containerd-1.6", "/srv/quiet", false, "rw,noexec,nosuid,nodev"),
        ("containerd", "/srv/quiet", false, "rw,noexec,nosuid,nodev"),
        // A read-only one of runc 1.1 shows `ro` alone.
        ("docker", "/srv/quiet", true, "ro"),
        ("containerd-1.6", "/srv/quiet", true, "ro"),
        ("podman", "/srv/quiet", true, "ro,noexec,nosuid,nodev"),
        ("containerd", "/srv/quiet", true, "ro,noexec,nosuid,nodev"),
        // A read-only host mount stays so, but under Podman.
        ("docker", "/srv/fixed", false, "ro"),
        ("containerd-1.6", "/srv/fixed", false, "ro"),
        ("podman", "/srv/fixed", false, "rw"),
        ("podman", "/srv/fixed", true, "ro"),
    ] {
        let stage = staged(runtime, path, read_only);
        assert_eq!(flags(&stage, "/data"), expected, "{runtime} {path} {read_only}");
    }
}

/// Mounts below come along with flags of their own; `ro` is the outer mount's alone.
#[test]
fn nested_mounts_come_along() {
    for runtime in ["docker", "podman", "containerd-1.6", "containerd"] {
        for read_only in [false, true] {
            let stage = staged(runtime, "/srv/quiet", read_only);
            assert_eq!(flags(&stage, "/data/inner"), "rw", "{runtime} {read_only}");
            let row = mounts(&stage, &stage.actors[0])
                .into_iter()
                .find(|row| &row.at[..] == b"/data/inner")
                .unwrap();
            assert_eq!(
                (row.filesystem.as_deref(), row.from.to_string().as_str()),
                (Some("tmpfs"), "mountinfo:3")
            );
        }
        let above = staged(runtime, "/srv", false);
        assert_eq!(flags(&above, "/data/quiet"), "rw,noexec,nosuid,nodev", "{runtime}");
        assert_eq!(flags(&above, "/data/quiet/inner"), "rw", "{runtime}");
        assert_eq!(flags(&above, "/data/nothing"), "none");
    }
}

/// `recursive` of a bind decides what becomes of the mounts below it; Podman 4.3 brings them along whatever it says.
#[test]
fn a_bind_may_leave_mounts_behind() {
    for (runtime, recursive, read_only, expected) in [
        ("docker", "enabled", false, "rw"),
        ("docker", "writable", true, "rw"),
        ("docker", "disabled", false, "none"),
        ("docker", "readonly", true, "ro"),
        ("podman", "disabled", false, "rw"),
    ] {
        let workload = format!(
            "services:\n  gauge:\n    image: x\n    volumes:\n    - {{ type: bind, source: /srv/quiet, target: /data, \
             read_only: {read_only}, bind: {{ recursive: {recursive} }} }}\n"
        );
        let stage = on_host(runtime, &workload);
        assert_eq!(flags(&stage, "/data/inner"), expected, "{runtime} {recursive}");
    }
    let wrong = "services:\n  gauge:\n    image: x\n    volumes:\n    - { type: bind, source: /a, target: /b, bind: { recursive: deep } }\n";
    let (_, diagnostics) = fixtures::read("w.yaml", &[("w.yaml", wrong)]);
    assert_eq!(diagnostics, ["error w.yaml:5: `recursive: deep` of a bind is not known"]);
}

/// Flags at `/data` and at `/data/inner` of a bundle that binds `path` with `options`; `refused` where it does not start.
fn bundled(runtime: &str, path: &str, options: &str, namespaced: bool) -> String {
    let map = "[{ containerID: 0, hostID: 100000, size: 65536 }]";
    let user = if namespaced { "{ type: user }, " } else { "" };
    let bundle = format!(
        "{{ ociVersion: 1.0.2, root: {{ path: rootfs }}, process: {{ cwd: /, user: {{ uid: 0, gid: 0 }} }}, \
         mounts: [{{ destination: /data, type: bind, source: /srv/{path}, options: [{options}] }}], \
         linux: {{ namespaces: [{user}{{ type: mount }}], uidMappings: {map}, gidMappings: {map} }} }}"
    );
    let stage = on_host(runtime, &bundle);
    match stage.actors[0].refusal() {
        Some(_) => "refused".to_owned(),
        None => format!("{} {}", flags(&stage, "/data"), flags(&stage, "/data/inner")),
    }
}

/// Options of a bundle's bind, as runc 1.1.5 and crun 1.8.1 were seen to take them.
#[test]
fn binds_of_a_bundle_are_what_their_options_say() {
    for (path, options, runc, crun) in [
        ("quiet", "rbind", "rw,noexec,nosuid,nodev rw", "rw rw"),
        ("quiet", "bind", "rw,noexec,nosuid,nodev none", "rw none"),
        ("quiet", "rbind, ro", "ro rw", "ro rw"),
        ("quiet", "rbind, rro", "ro,noexec,nosuid,nodev ro", "ro ro"),
        ("quiet", "rbind, noexec", "rw,noexec rw", "rw,noexec rw"),
        ("quiet", "rbind, rnoexec", "rw,noexec,nosuid,nodev rw,noexec", "rw,noexec rw,noexec"),
        ("quiet", "rbind, rexec", "rw,nosuid,nodev rw", "rw rw"),
        ("fixed", "rbind", "ro none", "rw none"),
        ("fixed", "rbind, rw", "ro none", "rw none"),
        ("fixed", "rbind, noexec", "rw,noexec none", "rw,noexec none"),
        ("plain", "rbind, ro, rw", "rw rw", "ro rw"),
        ("plain", "rbind, rw, ro", "ro rw", "ro rw"),
        ("plain", "rbind, noexec, exec", "rw rw", "rw,noexec rw"),
        ("plain", "rbind, rro, rrw", "ro ro", "ro ro"),
        ("plain", "rbind, ro, rrw", "rw rw", "ro rw"),
        ("plain", "rbind, rro, rw", "ro ro", "ro ro"),
        ("plain", "rbind, rro, noexec", "ro,noexec ro", "ro,noexec ro"),
        ("plain", "bind, rro", "ro none", "ro none"),
        ("plain", "rbind, bind", "rw rw", "rw rw"),
    ] {
        assert_eq!(bundled("runc", path, options, false), runc, "runc {path} {options}");
        assert_eq!(bundled("crun", path, options, false), crun, "crun {path} {options}");
    }
}

/// The same in a user namespace: crun brings no mount along, runc cannot leave one behind or clear a flag of the host's.
#[test]
fn in_a_user_namespace_the_same_options_do_something_else() {
    for (path, options, runc, crun) in [
        ("quiet", "rbind", "rw,noexec,nosuid,nodev rw", "rw,noexec,nosuid,nodev none"),
        ("quiet", "bind", "refused", "rw,noexec,nosuid,nodev none"),
        ("quiet/inner", "bind", "rw none", "rw none"),
        ("quiet", "rbind, ro", "refused", "ro none"),
        ("quiet", "rbind, noexec", "refused", "rw,noexec,nosuid,nodev none"),
        (
            "quiet",
            "rbind, ro, noexec, nosuid, nodev",
            "ro,noexec,nosuid,nodev rw",
            "ro,noexec,nosuid,nodev none",
        ),
        ("quiet", "rbind, rro", "ro,noexec,nosuid,nodev ro", "ro none"),
        ("quiet", "rbind, rexec", "refused", "rw,nosuid,nodev none"),
        ("fixed", "rbind", "ro none", "ro none"),
        ("fixed", "rbind, noexec", "ro,noexec none", "ro none"),
        ("plain", "rbind, noexec", "rw,noexec rw", "rw none"),
        ("plain", "rbind, ro, noexec, rw, exec", "rw rw", "ro,noexec none"),
        ("plain", "rbind, rnoexec", "rw,noexec rw,noexec", "rw,noexec none"),
        ("plain", "rbind, ro, rnoexec", "ro,noexec rw,noexec", "ro,noexec none"),
        ("plain", "rbind, nosuid, rnodev", "rw,nosuid,nodev rw,nodev", "rw,nodev none"),
    ] {
        assert_eq!(bundled("runc", path, options, true), runc, "runc {path} {options}");
        assert_eq!(bundled("crun", path, options, true), crun, "crun {path} {options}");
    }
}

/// Podman in a user namespace, by crun: what it asks for is lost, unless that is `ro`.
#[test]
fn podman_binds_in_a_user_namespace() {
    let namespace = ", user-namespace: { uids: ['0 100000 65536'], gids: ['0 100000 65536'] }";
    for (path, mode, plain, mapped) in [
        ("quiet", "", "rw,noexec,nosuid,nodev rw", "rw,noexec,nosuid,nodev none"),
        ("quiet", ":ro", "ro,noexec,nosuid,nodev rw", "ro,noexec,nosuid,nodev none"),
        ("fixed", "", "rw none", "ro none"),
        ("fixed", ":ro", "ro none", "ro none"),
        ("plain", ":ro", "ro rw", "ro none"),
        ("plain", ":noexec", "rw,noexec rw", "rw none"),
    ] {
        let service =
            format!("services:\n  gauge:\n    image: x\n    volumes: ['/srv/{path}:/data{mode}']\n");
        for (namespace, expected) in [("", plain), (namespace, mapped)] {
            let stage = under("podman", &service, namespace);
            let found = format!("{} {}", flags(&stage, "/data"), flags(&stage, "/data/inner"));
            assert_eq!(found, expected, "{path}{mode} {namespace}");
        }
    }
}

/// A part of a host path that is on a mount below it shows that mount; a part beside it leaves it behind.
#[test]
fn a_part_of_a_host_path_may_lie_on_a_mount_below() {
    let pod = |part: &str, more: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  containers:\n  - {{ name: gauge, image: x, \
             volumeMounts: [{{ name: v, mountPath: /data, {part} {more} }}] }}\n  volumes: [{{ name: v, hostPath: {{ path: /srv }} }}]\n"
        )
    };
    for (part, expected, below) in [
        ("", "rw", "rw,noexec,nosuid,nodev"),
        ("subPath: quiet,", "rw,noexec,nosuid,nodev", "none"),
        ("subPath: quiet/inner,", "rw", "none"),
        ("subPath: fixed,", "ro", "none"),
        // What is missing cannot be made where the host's mount is read-only: the pod never starts.
        ("subPath: fixed/new,", "none", "none"),
    ] {
        let stage = on_host("containerd", &pod(part, ""));
        assert_eq!(flags(&stage, "/data"), expected, "{part}");
        assert_eq!(flags(&stage, "/data/quiet"), below, "{part}");
    }
    let read_only = on_host("containerd", &pod("", "readOnly: true, recursiveReadOnly: Enabled"));
    assert_eq!(flags(&read_only, "/data"), "ro");
    assert_eq!(flags(&read_only, "/data/quiet"), "ro,noexec,nosuid,nodev");
}

/// What is under a mount cannot be seen where the mount is: an answer about it depends, for `recursive: disabled`, a
/// part of a host path and a local volume, which the kubelet binds without the mounts below.
#[test]
fn what_a_mount_hides_is_not_known() {
    let bind = "services:\n  gauge:\n    image: x\n    volumes:\n    - { type: bind, source: /srv/quiet, target: /data, \
         bind: { recursive: disabled } }\n";
    let pod = |mount: &str, volume: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  containers:\n  - {{ name: gauge, image: x, \
             volumeMounts: [{{ name: v, mountPath: /data{mount} }}] }}\n  volumes: [{{ name: v, {volume} }}]\n"
        )
    };
    let part = pod(", subPath: quiet", "hostPath: { path: /srv }");
    let claim = "persistentVolumeClaim: { claimName: c }";
    let local = format!(
        "{}---\napiVersion: v1\nkind: PersistentVolumeClaim\nmetadata: {{ name: c }}\nspec: {{ volumeName: v, \
         accessModes: [ReadWriteOnce] }}\n---\napiVersion: v1\nkind: PersistentVolume\nmetadata: {{ name: v }}\nspec: {{ \
         accessModes: [ReadWriteOnce], claimRef: {{ name: c, namespace: default }}, local: {{ path: /srv/quiet }} }}\n",
        pod("", claim)
    );
    for (runtime, workload) in [("docker", bind), ("containerd", &part), ("containerd", &local)] {
        let stage = on_host(runtime, workload);
        assert_eq!(flags(&stage, "/data/inner"), "none", "{workload}");
        let unknown = outcome(&stage, "gauge lists /data/inner");
        assert_eq!(unknown, Outcome::Depends, "{workload}");
        // Beside it everything is as it was given.
        assert_eq!(outcome(&stage, "gauge lists /data"), Outcome::Allowed, "{workload}");
    }
}

/// A table tells that its mount points are there, also where no tree lists them.
#[test]
fn a_mount_below_counts_without_a_tree_of_it() {
    let scene = "scene: 1\nruntime: docker\nworkloads: [w.yaml]\nhost: { tree: [{ path: /srv, kind: dir, owner: '0:0', mode: '0755' }], mounts: mountinfo }\n";
    let table = format!(
        "{MOUNTINFO}34 30 8:6 / /srv/quiet/deep/set ro - ext4 /dev/d rw\n35 30 8:1 /one /srv/quiet/one ro - ext4 /dev/a rw\n"
    );
    let workload = "services:\n  gauge:\n    image: x\n    volumes: ['/srv/quiet:/data']\n";
    let files = [("s.yaml", scene), ("w.yaml", workload), ("mountinfo", &table)];
    let stage = stage("s.yaml", &files);
    assert_eq!(flags(&stage, "/data/deep/set"), "ro");
    // A bind may show a file, so no one knows what it is mounted on.
    assert_eq!(flags(&stage, "/data/one"), "none");
    let answer = ask(&stage, &parse_act("gauge creates /data/deep/set/new").unwrap()).unwrap();
    assert!(answer.depends_on.iter().all(|one| one.end.effect().is_none()), "{answer:?}");
    assert_eq!(answer.outcome, Outcome::Denied(None));
}

/// Tables have real paths; a bind may go through a link, or to a directory of another file system that no tree lists.
#[test]
fn paths_are_followed_to_the_mounts_they_lead_to() {
    let scene = "scene: 1\nruntime: docker\nworkloads: [w.yaml]\nhost: { mounts: mountinfo, tree: [\
                 { path: /srv, kind: dir, owner: '0:0', mode: '0755' }, { path: /link, kind: link, target: srv, owner: '0:0' }] }\n";
    let table = "22 1 8:1 / / rw - ext4 /dev/root rw\n30 22 8:2 / /srv/quiet rw,nodev - vfat /dev/a rw,uid=5\n\
                 31 30 8:3 / /srv/quiet/new/below ro - tmpfs x rw\n";
    for (path, at) in [
        ("/link/quiet", "/data/new/below"),
        ("/srv/quiet/new", "/data/below"),
        ("/link", "/data/quiet/new/below"),
    ] {
        let workload = format!("services:\n  gauge:\n    image: x\n    volumes: ['{path}:/data']\n");
        let files = [("s.yaml", scene), ("w.yaml", &workload), ("mountinfo", table)];
        let stage = stage("s.yaml", &files);
        assert_eq!(flags(&stage, "/data"), if path == "/link" { "rw" } else { "rw,nodev" }, "{path}");
        assert_eq!(flags(&stage, at), "ro", "{path}");
    }
}

/// A read-only superblock refuses every write, whatever the mount says.
#[test]
fn a_read_only_superblock_counts() {
    use mivask_core::outcome::Errno;
    for (path, expected) in
        [("/srv/dead", Some(Errno::EROFS)), ("/srv/fixed", Some(Errno::EROFS)), ("/srv/quiet", None)]
    {
        let stage = staged("docker", path, false);
        let answer = ask(&stage, &parse_act("gauge creates /data/new").unwrap()).unwrap();
        assert_eq!(answer.outcome.errno(), expected, "{path}");
    }
}

/// A table that is none, or a source that is not there, is pointed at.
#[test]
fn what_cannot_be_read_is_a_slip() {
    let scene =
        "scene: 1\ncontainers: [{ name: a, image: x }]\nhost: { mounts: mountinfo, tree: none.survey }\n";
    let (_, diagnostics) = fixtures::read("s.yaml", &[("s.yaml", scene), ("mountinfo", "rubbish\n")]);
    assert_eq!(
        diagnostics,
        [
            "error s.yaml:3: none.survey: there is no disk here",
            "error mountinfo:1: this is not a line of a table of mounts"
        ]
    );
}
