//! What engines print of containers as input.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// As Docker prints it, as far as it matters.
const DOCKER: &str = r#"[
  {
    "Id": "4f9c0a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3d4e5f60718293a4b5c6d7",
    "Path": "/bin/gauge",
    "Args": ["--listen", "80"],
    "State": {"Status": "exited", "Running": false, "Pid": 0},
    "Image": "sha256:780fa00be08f54490ce61553fc921130e104846efdeaf7aa96ab0c63a9e38978",
    "HostnamePath": "/var/lib/docker/containers/4f9c/hostname",
    "Name": "/gauge",
    "HostConfig": {
      "Binds": ["/srv/in:/in:ro", "spool:/spool"],
      "NetworkMode": "none",
      "IpcMode": "private",
      "UsernsMode": "",
      "Privileged": false,
      "ReadonlyRootfs": true,
      "SecurityOpt": ["no-new-privileges"],
      "CapAdd": ["CAP_CHOWN"],
      "CapDrop": ["CAP_MKNOD"],
      "GroupAdd": ["7300"],
      "Tmpfs": {"/run": "mode=0755,size=1m"},
      "Mounts": [
        {"Type": "tmpfs", "Target": "/cache", "TmpfsOptions": {"SizeBytes": 1048576, "Mode": 448}},
        {"Type": "volume", "Source": "held", "Target": "/part", "VolumeOptions": {"Subpath": "a/b"}}
      ]
    },
    "Mounts": [
      {"Type": "bind", "Source": "/srv/in", "Destination": "/in", "Mode": "ro", "RW": false, "Propagation": "rprivate"},
      {"Type": "volume", "Name": "spool", "Source": "/var/lib/docker/volumes/spool/_data", "Destination": "/spool",
       "Driver": "local", "Mode": "z", "RW": true, "Propagation": ""},
      {"Type": "tmpfs", "Source": "", "Destination": "/cache", "Mode": "", "RW": true, "Propagation": ""},
      {"Type": "volume", "Name": "held", "Source": "/var/lib/docker/volumes/held/_data", "Destination": "/part",
       "Driver": "local", "Mode": "z", "RW": true, "Propagation": ""},
      {"Type": "cluster", "Name": "far", "Destination": "/far", "RW": true}
    ],
    "Config": {
      "User": "7101:7200", "Tty": false, "OpenStdin": false, "Image": "tides/gauge:3",
      "Env": ["PATH=/bin"], "Cmd": ["--listen", "80"], "WorkingDir": "/w", "Entrypoint": ["/bin/gauge"], "Labels": {}
    }
  }
]
"#;

#[test]
fn what_docker_prints_of_a_container() {
    let scratch = Scratch::with("gauge.json", DOCKER);
    assert_snapshot!(scratch.run(["identity", "-q", "gauge.json"]), @"
    gauge  app container of containers, image tides/gauge:3
      field              value                   from
      uid                7101                    gauge.json:37:15 user
      gid                7200                    gauge.json:37:15 user
      group              7300                    gauge.json:20:20 group_add
      bounding           the default 14 - MKNOD  gauge.json:19:19 cap_drop
      umask              0022                    the runtime's default umask
      no-new-privileges  true                    gauge.json:17:23 security_opt
      effective          none                    a process that is not root starts with none
    --- status 0
    ");
    assert_snapshot!(scratch.run(["mounts", "gauge.json"]), @r#"
    gauge
      at      what                           flags                   root       before  inodes changed
      /       image tides/gauge:3 (overlay)  ro                      0:0 0755
      /in     host path /srv/in              ro                      not known
      /spool  volume spool                   rw                      not known
      /cache  tmpfs at /cache                rw,noexec,nosuid,nodev  not known
      /part   part of volume held            rw                      not known
      /far    volume cluster at /far         rw                      not known
      /run    tmpfs at /run                  rw,noexec,nosuid,nodev  not known
      /cache: runc 1.1 gives a tmpfs the mode of the directory it covers, if the image has one there
      /run: runc 1.1 gives a tmpfs the mode of the directory it covers, if the image has one there
    --- standard error
    warning: a mount of type `cluster` is not modelled: what is at /far is not known
      --> gauge.json:34:7
       |
    34 |       {"Type": ********** ******: ****** *************: ******* ****: *****
       |       ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^

    warning: gauge adds CAP_CHOWN, but does not run as root: it starts without capabilities whatever is added
     --> gauge.json:18:18 cap_add
      = help: give the program a file capability, or run it as root

    --- status 0
    "#);
    // One object without the list around it, as the API gives it, says the same.
    let one = DOCKER.trim().trim_start_matches('[').trim_end_matches(']');
    let alone = Scratch::with("gauge.json", one);
    let paths = ["access", "-q", "gauge.json", "/in", "/spool", "/run", "/cache", "/part"];
    assert_eq!(alone.run(paths), scratch.run(paths));
    // A volume that is there is given by its name, and is not filled from the image.
    let depends = scratch.run(["ask", "-q", "gauge.json", "gauge creates /spool/x"]);
    assert!(depends.starts_with("depends"), "{depends}");
    let scratch = scratch.and("spool.lst", "total 0\ndrwxrwx--- 2 7101 7200 40 Nov 30 03:09 .\n");
    let known =
        scratch.run(["ask", "-q", "gauge.json", "gauge creates /spool/x", "--disk", "spool=spool.lst"]);
    assert!(known.starts_with("allowed        gauge creates /spool/x"), "{known}");
}

#[test]
fn podman_says_which_capabilities_are_left_and_which_in_force() {
    let podman = |user: &str, bounding: &str, effective: &str| {
        let text = format!(
            r#"[{{"Id": "aa", "Name": "gauge", "ImageName": "localhost/tides/gauge:3", "OCIRuntime": "crun", "Path": "sleep", "Args": ["9"],
            "BoundingCaps": {bounding}, "EffectiveCaps": {effective}, "Mounts": [], "HostConfig": {{"IDMappings":
            {{"UidMap": ["0:100000:5000"], "GidMap": ["0:200000:5000"]}}, "UsernsMode": "private"}},
            "Config": {{"User": "{user}", "Umask": "0027"}}}}]"#
        );
        let scratch = Scratch::with("gauge.json", &text);
        let actor = scratch.json(["identity", "-q", "gauge.json", "--format", "json"])["actors"][0].clone();
        let caps = |key: &str| actor["capabilities"][key].as_array().map_or(0, Vec::len);
        (actor["umask"].clone(), caps("bounding"), caps("effective"), actor["uid"].clone())
    };
    let three = r#"["CAP_CHOWN", "CAP_FOWNER", "CAP_KILL"]"#;
    assert_eq!(podman("0:0", three, three), ("0027".into(), 3, 3, 0.into()));
    assert_eq!(podman("5:5", three, "null"), ("0027".into(), 3, 0, 5.into()));
    assert_eq!(podman("5:5", three, r#"["CAP_CHOWN"]"#), ("0027".into(), 3, 1, 5.into()));
    // Where neither the command line nor the image names a user it is root, whatever else is known of the image.
    assert_eq!(podman("", three, three).3, 0);
}

#[test]
fn podman_says_by_its_tmpfs_whether_a_read_only_root_has_scratch_space() {
    let scratch_space =
        r#""/run": "rw,rprivate,nosuid,nodev,tmpcopyup", "/tmp": "rw,rprivate,nosuid,nodev,tmpcopyup""#;
    for (tmpfs, ends) in [(scratch_space, "allowed"), ("", "denied")] {
        let text = format!(
            r#"[{{"Id": "aa", "Name": "gauge", "ImageName": "localhost/tides/gauge:3", "OCIRuntime": "crun", "Path": "sleep", "Args": ["9"],
            "Mounts": [], "HostConfig": {{"ReadonlyRootfs": true, "Tmpfs": {{{tmpfs}}}}}, "Config": {{"User": "0:0"}}}}]"#
        );
        let scratch = Scratch::with("gauge.json", &text);
        let row = scratch.json(["access", "-q", "gauge.json", "/tmp", "--format", "json"])["rows"][0].clone();
        assert_eq!(row["create"], ends, "{row:#}");
    }
}

#[test]
fn an_engine_without_root_or_with_remapped_users_has_ids_that_are_not_known() {
    for (path, why) in [
        ("/var/lib/docker/165536.165536/containers/4f9c/hostname", "answers depend on the ids it gives"),
        (
            "/home/me/.local/share/docker/containers/4f9c/hostname",
            "say who starts the engine: --rootless USER",
        ),
    ] {
        let text = DOCKER.replace("/var/lib/docker/containers/4f9c/hostname", path);
        let scratch = Scratch::with("gauge.json", &text);
        let said = scratch.run(["ask", "gauge.json", "gauge reads /in/x"]);
        assert!(said.contains(why) && said.contains("depends"), "{path}: {said}");
    }
}

#[test]
fn lists_with_something_else_in_them_are_refused() {
    let scratch = Scratch::with("odd.json", &DOCKER.replace("\n]\n", ",\n  {\"Id\": 5}, 7\n]\n"));
    let said = scratch.run(["identity", "odd.json"]);
    assert!(said.contains("no container: it has no") && said.ends_with("--- status 2"), "{said}");
    for text in [
        "[{\"Id\": \"a\", \"Config\": 5, \"HostConfig\": []}]",
        "[{\"Id\": \"a\", \"Config\": {}, \"HostConfig\": {}, \"Mounts\": [5, {}]}]",
        "[{\"Id\": \"a\", \"Config\": {}, \"HostConfig\": {\"CapAdd\": \"ALL\"}}]",
        "[{\"Id\": \"a\", \"Config\": {\"User\": []}, \"HostConfig\": {}}]",
        "[{\"Id\": \"a\", \"Config\": {}, \"HostConfig\": {\"Tmpfs\": [\"/a\"]}}]",
    ] {
        let scratch = Scratch::with("odd.json", text);
        let said = scratch.run(["identity", "odd.json"]);
        assert!(said.ends_with("--- status 2") && said.contains("odd.json:1:"), "{said}");
    }
}
