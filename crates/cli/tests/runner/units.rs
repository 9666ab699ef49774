//! Podman's unit files as input.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use insta::assert_snapshot;

use crate::scratch::Scratch;

const GAUGE: &str = "# starts the gauge
[Unit]
Description=The gauge

[Container]
Image=tides/gauge:3
User=7101
Group=7200
GroupAdd=7300
DropCapability=all
AddCapability=CAP_CHOWN CAP_FOWNER
ReadOnly=true
ReadOnlyTmpfs=no
NoNewPrivileges=yes
Volume=./data:/data:ro
Volume=spool.volume:/spool
Volume=/root/in:/in
Tmpfs=/scratch:mode=0770
Exec=/bin/gauge \\
  --listen 80
PublishPort=8080:80
Environment=PATH=/bin \"A=b c\"

[Install]
WantedBy=multi-user.target
";

const SPOOL: &str = "[Volume]\nVolumeName=spool\nType=tmpfs\nDevice=tmpfs\nOptions=mode=0750\nUser=7101\n";

/// What a folder is called and how wide its columns are is of no interest.
fn plain(scratch: &Scratch, transcript: &str) -> String {
    let folder = scratch.path().canonicalize().unwrap().display().to_string();
    let lines = transcript.replace(&folder, "FOLDER");
    lines.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ") + "\n").collect()
}

#[test]
fn a_container_unit_is_what_the_generator_makes_of_it() {
    let scratch = Scratch::with("gauge.container", GAUGE).and("spool.volume", SPOOL).and("data/x", "");
    let run = |arguments: &[&str]| plain(&scratch, &scratch.run(arguments));
    assert_snapshot!(run(&["identity", "gauge.container"]), @"
    gauge app container of gauge, image tides/gauge:3
    field value from
    uid 7101 gauge.container:8:7 user
    gid 7200 gauge.container:8:7 user
    group 7300 gauge.container:9:10 group_add
    bounding CHOWN FOWNER gauge.container:10:16 cap_drop
    umask 0022 the runtime's default umask
    no-new-privileges true gauge.container:14:17 security_opt
    effective CHOWN FOWNER they are in force whoever runs it
    --- standard error
    note: a bind source is on this machine; what is there as it is here comes with
    --disk host:FOLDER/data=FOLDER/data

    --- status 0
    ");
    assert_snapshot!(run(&["mounts", "gauge.container"]), @"
    gauge
    at what flags root before inodes changed
    / image tides/gauge:3 (overlay) ro 0:0 0555
    /data host path FOLDER/data ro not known
    /spool volume spool rw,nosuid,nodev not known 7101:0 0750
    /in host path /root/in rw not known
    /scratch tmpfs at /scratch rw,nosuid,nodev 0:0 0770
    /scratch: the tmpfs's own `mode=`
    --- standard error
    note: a bind source is on this machine; what is there as it is here comes with
    --disk host:FOLDER/data=FOLDER/data

    --- status 0
    ");
    let acts = ["gauge creates /scratch/x", "gauge creates /tmp/x", "gauge creates /data/x"];
    assert_snapshot!(run(&["ask", "-q", "gauge.container", acts[0], acts[1], acts[2]]), @"
    denied EACCES gauge creates /scratch/x
    /scratch: drwxrwx--- 0770 0:0: other has ---, needed --x
    denied gauge creates /tmp/x
    denied ENOENT when /tmp is missing
    denied EACCES when owner and mode of /tmp do not give gauge --x
    denied EEXIST when /tmp/x is there
    denied EROFS otherwise
    denied gauge creates /data/x
    denied ENOTDIR when what is mounted at /data is a file
    denied EACCES when owner and mode of /data do not give gauge --x
    denied EEXIST when /data/x is there
    denied EROFS otherwise

    To settle it, in a scene file
    host: { tree: ... }
    images: { tides/gauge:3: { tree: ... } }
    or let images be looked for with --images-from

    Assumed
    the engine keeps images in its default storage, whose root directories are 0:0 0555
    what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}

#[test]
fn the_line_that_a_unit_stands_for_says_the_same() {
    let scratch = Scratch::with("gauge.container", GAUGE).and("spool.volume", SPOOL).and("data/x", "");
    let line = "podman run --name gauge --user 7101:7200 --group-add 7300 --cap-drop all --cap-add CAP_CHOWN --cap-add CAP_FOWNER \
        --read-only --read-only-tmpfs=false --security-opt no-new-privileges -v ./data:/data:ro -v spool:/spool -v /root/in:/in \
        --tmpfs /scratch:mode=0770 tides/gauge:3 /bin/gauge";
    let volume = "podman volume create --opt type=tmpfs --opt device=tmpfs --opt o=mode=0750,uid=7101 spool";
    let scratch = scratch.and("run.sh", format!("#!/bin/sh\n{volume}\n{line}\n"));
    assert_eq!(scratch.run(["mounts", "gauge.container"]), scratch.run(["mounts", "run.sh"]));
    let access = ["/data", "/spool", "/tmp", "/in", "/scratch", "/var/tmp"];
    let asked = |input: &str| scratch.run([&["access", input], access.as_slice()].concat());
    assert_eq!(asked("gauge.container"), asked("run.sh"));
}

#[test]
fn drop_ins_templates_and_specifiers() {
    let scratch = Scratch::with(
        "tide-feed@.container",
        "[Container]\nImage=tides/feed:1\nUser=1\nVolume=/srv/%i:/in\n",
    )
    .and(
        "tide-feed@west.container",
        "[Container]\nImage=tides/feed:1\nUser=1\nVolume=/srv/%i:/%p\nGroupAdd=5\n",
    )
    .and("container.d/20-user.conf", "[Container]\nUser=2\n")
    .and("tide-.container.d/10-user.conf", "[Container]\nUser=3\nGroupAdd=\nGroupAdd=6\n")
    .and("tide-feed@west.container.d/20-user.conf", "[Container]\nGroupAdd=7\n")
    .and("tide-feed@west.container.d/README", "[Container]\nUser=9\n");
    let identity = scratch.run(["identity", "-q", "tide-feed@west.container"]);
    let second = |line: &str| line.split_whitespace().rev().nth(2).unwrap_or_default().to_owned();
    let groups: Vec<String> =
        identity.lines().filter(|line| line.ends_with(" group_add")).map(second).collect();
    assert_eq!(groups, ["6", "7"], "{identity}");
    assert!(identity.lines().any(|line| line.split_whitespace().take(2).eq(["uid", "3"])), "{identity}");
    let mounts = scratch.run(["mounts", "-q", "tide-feed@west.container"]);
    assert!(mounts.contains("/tide-feed  host path /srv/west"), "{mounts}");
    // A template is started under names that nobody knows: what is mounted is a fact that is missing.
    let template = scratch.run(["mounts", "tide-feed@.container"]);
    assert!(template.contains("answers depend on what `%i` is"), "{template}");
    let given = scratch.run(["access", "-q", "tide-feed@.container", "--disk", "/srv/%i=container.d"]);
    assert!(given.contains("/in") && given.ends_with("--- status 0"), "{given}");
}

#[test]
fn a_pod_is_the_containers_that_name_it() {
    let scratch =
        Scratch::with("tide.pod", "[Pod]\nVolume=/srv/pod:/pod:ro\nUIDMap=0:100000:10\nGIDMap=0:100000:10\n")
            .and("a.container", "[Container]\nImage=tides/a:1\nUser=1:1\nPod=tide.pod\n")
            .and("b.container", "[Container]\nImage=tides/b:1\nUser=2:2\nPod=tide.pod\n")
            .and("c.container", "[Container]\nImage=tides/c:1\nUser=3:3\nPod=other.pod\n");
    let mounts = scratch.run(["mounts", "tide.pod"]);
    assert_eq!(mounts.matches("/pod  host path /srv/pod").count(), 2, "{mounts}");
    assert!(scratch.run(["identity", "a.container"]).contains("users 0-9 from 100000"));
    let lost = scratch.run(["identity", "c.container"]);
    assert!(lost.contains("`other.pod` is not beside it"), "{lost}");
    let all = scratch.run(["identity", "-q", "."]);
    assert!(["a  app", "b  app", "c  app"].iter().all(|one| all.contains(one)), "{all}");
}

#[test]
fn a_build_unit_says_how_the_image_is_built() {
    let scratch = Scratch::with("app.container", "[Container]\nImage=app.build\n")
        .and("app.build", "[Build]\nImageTag=localhost/tides/app:1\nSetWorkingDirectory=unit\nTarget=last\n")
        .and("Containerfile", "FROM scratch AS first\nUSER 5\nFROM scratch AS last\nUSER 7101:7200\n");
    let identity = scratch.run(["identity", "app.container"]);
    assert!(
        identity.contains("uid        7101") && identity.contains("image localhost/tides/app:1"),
        "{identity}"
    );
}

#[test]
fn what_podman_plays_depends_on_how() {
    let scratch = Scratch::with("tide.kube", "[Kube]\nYaml=pod.yaml\n").and(
        "pod.yaml",
        "apiVersion: v1\nkind: Pod\nmetadata: {name: p}\nspec: {containers: [{name: c, image: x, securityContext: {runAsUser: 5}}]}\n",
    );
    let said = scratch.run(["ask", "tide.kube", "c creates /tmp/x"]);
    assert!(said.contains("depends") && said.contains("in a way of its own"), "{said}");
}

#[test]
fn mistakes_in_units() {
    let scratch = Scratch::with("a.container", "stray\n[Container]\nImag=x\nUser=5\n")
        .and("b.volume", "[Volume]\nDriver=local\n")
        .and("c.container", "[Container]\nImage=tides/c:1\nVolume=lost.volume:/l\nUserr=5\nno line\n");
    assert_snapshot!(scratch.run(["identity", "b.volume"]), @"
    --- standard error
    error: a .volume unit starts no process
     --> b.volume:1:1
      |
    1 | [Volume]
      | ^^^^^^^^
      |
      = help: give the .container file that names it

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["identity", "c.container"]), @"
    c  app container of c, image tides/c:1
      field  value                    from
      uid    0 or an ordinary user's  unknown: the user of image tides/c:1
      umask  0022                     the runtime's default umask
      either the image runs as root, or the image runs as an ordinary user with a group of its own, or the image runs as an ordinary user without an account, so with group 0
      to settle it: give `user` on the container or under `images:`, or let the image be looked for with --images-from
    --- standard error
    warning: this line says nothing: it is passed over
     --> c.container:5:1
      |
    5 | no line
      | ^^^^^^^
      |
      = help: write KEY=VALUE below a [Section]

    warning: `Userr` is no key of [Container] that is known here
     --> c.container:4:7
      |
    4 | Userr=5
      |       ^
      |
      = help: did you mean `User`?

    warning: `lost.volume` is not beside it: the generator makes no service then
     --> c.container:3:8
      |
    3 | Volume=lost.volume:/l
      |        ^^^^^^^^^^^^^^
      |
      = help: put lost.volume into the folder of the unit

    --- status 0
    ");
    let stray = scratch.run(["identity", "a.container"]);
    assert!(stray.contains("error: ") && stray.ends_with("--- status 2"), "{stray}");
}

#[test]
fn a_remedy_is_a_patch_of_a_unit() {
    let scene = "scene: 1\nworkloads: [c.container]\nhost: {tree: [{path: /, kind: dir, owner: '0:0', mode: '0755'}, {path: /in, kind: dir, \
        owner: '0:0', mode: '0700'}]}\n";
    let scratch =
        Scratch::with("c.container", "[Container]\nImage=x\nUser=5:5\nVolume=/in:/in\n").and("s.yaml", scene);
    let said = scratch.run(["remedy", "s.yaml", "c lists /in", "--pick", "4", "--apply-to", "new.container"]);
    assert!(said.contains("\n            +AddCapability=DAC_READ_SEARCH\n"), "{said}");
    assert_eq!(
        std::fs::read_to_string(scratch.path().join("new.container")).unwrap(),
        "[Container]\nImage=x\nUser=5:5\nVolume=/in:/in\nAddCapability=DAC_READ_SEARCH\n"
    );
}

#[test]
fn the_systems_own_units_are_roots() {
    let unit = "[Container]\nImage=tides/c:1\nUser=%U:%G\nVolume=%h/in:/in\n";
    let scratch =
        Scratch::with("etc/containers/systemd/c.container", unit).and("elsewhere/c.container", unit);
    let mounts = scratch.run(["mounts", "etc/containers/systemd/c.container"]);
    assert!(mounts.contains("/in  host path /root/in"), "{mounts}");
    // Of one that lies elsewhere nobody knows who starts it.
    let said = scratch.run(["ask", "elsewhere/c.container", "c creates /etc/x"]);
    assert!(said.contains("answers depend on what `%h` is") && said.contains("depends"), "{said}");
}

#[test]
fn a_users_own_units_have_ids_that_are_not_known() {
    let unit = "[Container]\nImage=tides/c:1\nUser=5:5\nVolume=%h/in:/in\n";
    let scratch = Scratch::with("me/.config/containers/systemd/c.container", unit);
    let said = scratch.run(["identity", "me/.config/containers/systemd/c.container"]);
    assert!(said.contains("which ids an engine without root gives"), "{said}");
    assert!(said.contains("answers depend on what `%h` is"), "{said}");
}
