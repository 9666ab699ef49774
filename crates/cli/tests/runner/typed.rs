//! Command lines of engines as input, alone and in scripts.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// A script as people keep it.
const SCRIPT: &str = r#"#!/bin/sh
# starts the gauge
set -e
TAG=${TAG:-3}
docker network create tides || true
docker volume create --opt type=tmpfs --opt device=tmpfs --opt o=uid=7101,mode=0750 spool
sudo docker run -d --name gauge --restart=always \
  --user 7101:7200 --group-add 7300 --cap-drop=ALL --read-only \
  -v "$PWD/data":/data -v spool:/spool --tmpfs /run:mode=0755,size=1m \
  --mount type=bind,src=/srv/in,dst=/in,readonly -p 8080:80 -e PATH=/bin -it \
  "tides/gauge:$TAG" /bin/gauge --listen 80   # as in the manual
"#;

#[test]
fn a_script_is_read_as_the_engine_reads_its_words() {
    let scratch = Scratch::with("run.sh", SCRIPT).and("data/level", "3\n");
    let folder = scratch.path().canonicalize().unwrap().display().to_string();
    // Columns are as wide as the folder's name.
    let plain = |transcript: String| {
        let lines = transcript.replace(&folder, "FOLDER");
        lines
            .lines()
            .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ") + "\n")
            .collect::<String>()
    };
    assert_snapshot!(plain(scratch.run(["identity", "-q", "run.sh"])), @"
    gauge app container of commands, image tides/gauge:3
    field value from
    uid 7101 run.sh:8:10 user
    gid 7200 run.sh:8:10 user
    group 7300 run.sh:8:32 group_add
    bounding none run.sh:8:37 cap_drop
    umask 0022 the runtime's default umask
    effective none a process that is not root starts with none
    --- status 0
    ");
    assert_snapshot!(plain(scratch.run(["mounts", "-q", "run.sh"])), @"
    gauge
    at what flags root before inodes changed
    / image tides/gauge:3 (overlay) ro 0:0 0755
    /data host path FOLDER/data rw not known
    /spool volume spool rw 7101:0 0750
    /in host path /srv/in ro not known
    /run tmpfs at /run rw,noexec,nosuid,nodev not known
    /run: runc 1.1 gives a tmpfs the mode of the directory it covers, if the image has one there
    --- status 0
    ");
    let acts = ["gauge creates /spool/x", "gauge creates /etc/x", "gauge writes /in/a"];
    assert_snapshot!(plain(scratch.run(["ask", "-q", "run.sh", acts[0], acts[1], acts[2]])), @"
    allowed gauge creates /spool/x
    leaves 7101:7200 0644
    denied gauge creates /etc/x
    denied EEXIST when /etc/x is there
    denied EROFS when /etc/x is missing
    denied gauge writes /in/a
    denied ENOTDIR when what is mounted at /in is a file
    denied ENOENT when /in/a is missing
    denied EROFS when owner and mode of /in/a give gauge -w-
    denied EACCES otherwise

    To settle it, in a scene file
    host: { tree: ... }
    images: { tides/gauge:3: { tree: ... } }
    or let images be looked for with --images-from

    Assumed
    a tmpfs whose tree is not given is new and empty
    the directories above mount points in image tides/gauge:3 let everyone pass (0:0 0755 where the runtime makes them)
    what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
}

#[test]
fn a_line_is_read_from_standard_input_and_in_a_scene() {
    let scratch = Scratch::with(
        "x.scene.yaml",
        "scene: 1\nworkloads: [line]\nimages: { img: { user: \"33\", accounts: null } }\n",
    )
    .and("line", "podman run --rm --umask 0007 -v state:/s -w /s img sh\n");
    assert_snapshot!(scratch.run(["imprint", "x.scene.yaml", "/s"]), @"
    img
      in  new   asked  result   inside       stored
      /s  file  0666   depends  33:? ????    33:?
      /s  dir   0777   depends  33:? ????    33:?
      file in /s
        denied EACCES     when owner and mode of /s do not give img --x, or owner and mode of /s do not give img -wx
        leaves 33:? ????  otherwise
        to settle it: list /s under `images: { img: { tree: ... } }` in a scene file, or let it be looked for with --images-from
      dir in /s
        denied EACCES     when owner and mode of /s do not give img --x, or owner and mode of /s do not give img -wx
        leaves 33:? ????  otherwise
        to settle it: list /s under `images: { img: { tree: ... } }` in a scene file, or let it be looked for with --images-from
    --- standard error
    warning: img (33) has no account in its image, so its group is 0, root's
     --> x.scene.yaml:3:24 images.img.user
      = help: name a group beside the user, or give the image an account

    --- status 0
    ");
    let line = b"$ docker container create -u5:6 --cap-add=DAC_OVERRIDE --security-opt no-new-privileges other/img\n";
    assert_snapshot!(scratch.feed(["identity", "-"], line), @"
    img  app container of commands, image other/img
      field              value           from
      uid                5               standard input:1:27 user
      gid                6               standard input:1:27 user
      bounding           the default 14  standard input:1:33 cap_add
      umask              0022            the runtime's default umask
      no-new-privileges  true            standard input:1:71 security_opt
      effective          none            a process that is not root starts with none
    --- standard error
    warning: img adds DAC_OVERRIDE, but does not run as root: it starts without capabilities whatever is added
     --> standard input:1:33 cap_add
      = help: give the program a file capability, or run it as root

    --- status 0
    ");
}

#[test]
fn what_only_a_shell_can_tell_is_a_missing_fact() {
    let script = "UIDS=$(id -u):$(id -g)\nif true; then IMAGE=a; else IMAGE=b; fi\n\
        docker run -u $UIDS -v $DATA:/data --mount type=bind,src=$IN,dst=/in,readonly $IMAGE\n";
    let scratch =
        Scratch::with("run.sh", script).and("data.mtree", "#mtree\n. type=dir uid=0 gid=0 mode=0777\n");
    assert_snapshot!(scratch.run(["identity", "run.sh"]), @"
    IMAGE  app container of commands, image $IMAGE
      field  value                    from
      uid    0 or an ordinary user's  unknown: `-u $UIDS`
      umask  0022                     the runtime's default umask
      either it runs as root, or it runs as an ordinary user with a group of its own, or it runs as an ordinary user without an account, so with group 0
      to settle it: write it where `$UIDS` stands
    --- standard error
    warning: `-u $UIDS` is not known here: answers depend on what `$UIDS` is
     --> run.sh:3:15
      |
    3 | docker run -u $UIDS -v $DATA:/data --mount type=bind,src=$IN,dst=/in,readonly $IMAGE
      |               ^^^^^
      |
      = help: write it where `$UIDS` stands

    warning: `-v $DATA:/data` is not known here: answers depend on what `$DATA` is
     --> run.sh:3:24
      |
    3 | docker run -u $UIDS -v $DATA:/data --mount type=bind,src=$IN,dst=/in,readonly $IMAGE
      |                        ^^^^^^^^^^^
      |
      = help: write it where `$DATA` stands

    warning: `--mount type=bind,src=$IN,dst=/in,readonly` is not known here: answers depend on what `$IN` is
     --> run.sh:3:44
      |
    3 | docker run -u $UIDS -v $DATA:/data --mount type=bind,src=$IN,dst=/in,readonly $IMAGE
      |                                            ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: write it where `$IN` stands

    --- status 0
    ");
    // The image's own user does not count.
    let known = scratch.and(
        "x.scene.yaml",
        "scene: 1\nworkloads: [run.sh]\nimages: { $IMAGE: { user: '33', accounts: null } }\n",
    );
    assert!(known.run(["identity", "-q", "x.scene.yaml"]).contains("uid    0 or an ordinary user's"));
    let scratch = known;
    let given = scratch.run(["mounts", "-q", "run.sh", "--disk", "$DATA=data.mtree"]);
    assert!(given.contains("volume $DATA") && given.contains("0:0 0777"), "{given}");
    let words = |line: &str| line.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
    assert!(given.lines().any(|line| words(line).starts_with(&words("/in volume $IN ro"))), "{given}");
    for (line, flags) in
        [("-v $D:/d:z,ro", "ro"), ("-v $D:/d", "rw"), ("--mount type=volume,src=$D,dst=/d,ro=true", "ro")]
    {
        let given =
            Scratch::with("run.sh", &format!("docker run {line} img\n")).run(["mounts", "-q", "run.sh"]);
        assert!(
            given.lines().any(|one| words(one).starts_with(&words(&format!("/d volume $D {flags}")))),
            "{line}: {given}"
        );
    }
}

/// What is said of one line.
fn said(line: &str) -> String {
    Scratch::with("run.sh", line).run(["identity", "run.sh"])
}

#[test]
fn mistakes_are_at_their_word() {
    let all = ["docker run --usr 5 --read-onyl img\n", "docker run -v /a:/b\n", "docker run -u\n"].map(said);
    assert_snapshot!(all.join("\n\n"), @"
    img  app container of commands, image img
      field  value                    from
      uid    0 or an ordinary user's  unknown: the user of image img
      umask  0022                     the runtime's default umask
      either the image runs as root, or the image runs as an ordinary user with a group of its own, or the image runs as an ordinary user without an account, so with group 0
      to settle it: give `user` on the container or under `images:`, or let the image be looked for with --images-from
    --- standard error
    warning: `--usr` is no option of docker run that is known here
     --> run.sh:1:12
      |
    1 | docker run --usr 5 --read-onyl img
      |            ^^^^^
      |
      = help: did you mean `--user`?

    warning: `--read-onyl` is no option of docker run that is known here
     --> run.sh:1:20
      |
    1 | docker run --usr 5 --read-onyl img
      |                    ^^^^^^^^^^^
      |
      = help: did you mean `--read-only`?

    --- status 0

    --- standard error
    error: this command line names no image
     --> run.sh:1:15
      |
    1 | docker run -v /a:/b
      |               ^^^^^
      |
      = help: the image follows the options: docker run [OPTIONS] IMAGE [COMMAND]

    error: the input cannot be used: 1 error above
    --- status 2

    --- standard error
    error: this command line names no image
     --> run.sh:1:12
      |
    1 | docker run -u
      |            ^^
      |
      = help: the image follows the options: docker run [OPTIONS] IMAGE [COMMAND]

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn so_are_those_of_fields_and_numbers() {
    let all = [
        "docker run --mount type=tmpfs,dst=/t,tmpfs-mode=9 img\n",
        "docker run --mount type=bind,sorce=/a,dst=/b img\n",
    ]
    .map(said);
    assert_snapshot!(all.join("\n\n"), @"
    --- standard error
    error: `9` is no octal mode
     --> run.sh:1:20
      |
    1 | docker run --mount type=tmpfs,dst=/t,tmpfs-mode=9 img
      |                    ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: write four digits from 0 to 7, such as 1770

    error: the input cannot be used: 1 error above
    --- status 2

    --- standard error
    warning: `sorce` is no field of a mount that is known here
     --> run.sh:1:20
      |
    1 | docker run --mount type=bind,sorce=/a,dst=/b img
      |                    ^^^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: did you mean `source`?

    error: this volume has no `source`
     --> run.sh:1:20
      |
    1 | docker run --mount type=bind,sorce=/a,dst=/b img
      |                    ^^^^^^^^^^^^^^^^^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn what_is_not_modelled_is_said() {
    let ids = "podman run --userns=ns:/run/x --pod p --umask 999 img\n";
    assert_snapshot!(said(ids), @"
    --- standard error
    error: `--userns` and `--pod` exclude one another: the pod has the user namespace
     --> run.sh:1:12
      |
    1 | podman run --userns=ns:/run/x --pod p --umask 999 img
      |            ^^^^^^^^^^^^^^^^^^
      |
      = help: give it to `podman pod create`

    warning: the pod is not made here: who the process is depends on its user namespace
     --> run.sh:1:37
      |
    1 | podman run --userns=ns:/run/x --pod p --umask 999 img
      |                                     ^
      |
      = help: read the script that makes the pod, or its .pod file

    error: `999` is no octal umask
     --> run.sh:1:47
      |
    1 | podman run --userns=ns:/run/x --pod p --umask 999 img
      |                                               ^^^
      |
      = help: write it as 0027

    warning: nobody knows the user namespace `ns:/run/x`: answers depend on the ids it gives
     --> run.sh:1:12
      |
    1 | podman run --userns=ns:/run/x --pod p --umask 999 img
      |            ^^^^^^^^^^^^^^^^^^
      |
      = help: give its maps under `host: { user-namespace: ... }` in a scene file

    error: the input cannot be used: 2 errors above
    --- status 2
    ");
}

#[test]
fn what_could_be_anything_is_an_error() {
    for (line, word) in [
        ("docker run --read-only -v /x:$WHERE img", "$WHERE"),
        ("docker run --mount type=bind,src=/a,dst=$WHERE img", "$WHERE"),
        ("docker run --tmpfs $WHERE img", "$WHERE"),
        ("docker run --volumes-from $(cat other) img", "$(cat other)"),
        ("docker run --read-only=$RO img", "$RO"),
        ("docker run --privileged=\"$P\" img", "$P"),
        ("docker run $OPTIONS img sh", "$OPTIONS"),
        ("docker run $IMAGE --rm img", "$IMAGE"),
        ("docker run \"$@\" img", "$@"),
        (". ./env\ndocker run -v /x:${WHERE:-/x} img", "${WHERE:-/x}"),
    ] {
        let told = said(&format!("{line}\n"));
        let message = format!("error: what `{word}` is decides what is mounted where, or who runs");
        assert!(told.contains(&message) && told.ends_with("--- status 2"), "{line}: {told}");
    }
    for line in [
        "docker run $IMAGE sh",
        "docker run \"$X\" sh",
        "docker run -d $X",
        "docker run -e A=$B --name $N img",
    ] {
        let told = said(&format!("{line}\n"));
        assert!(!told.contains("error: ") && told.ends_with("--- status 0"), "{line}: {told}");
    }
    assert!(
        said("docker run img:${TAG:-3}\n")
            .contains("note: nothing sets `${TAG:-3}` here: its default is taken")
    );
}

#[test]
fn every_container_has_a_name_of_its_own() {
    let script = "docker run img\ndocker run img:2\ndocker run --name img-2 a\ndocker run x/img\n".repeat(2);
    let told = Scratch::with("run.sh", &script).run(["identity", "-q", "run.sh"]);
    let mut names: Vec<&str> =
        told.lines().filter_map(|line| line.split_once("  app container")).map(|(name, _)| name).collect();
    let count = names.len();
    names.sort_unstable();
    names.dedup();
    assert_eq!((count, names.len()), (8, 8), "{told}");
}

#[test]
fn a_remedy_is_a_patch_of_a_script() {
    let scratch = Scratch::with("run.sh", "docker run --name app -u 1000 --read-only web:2\n");
    let told = scratch.run(["remedy", "run.sh", "app creates /tmp/x", "--apply-to", "other.sh"]);
    assert!(told.contains("note: remedy 1 is written to other.sh"), "{told}");
    let written = std::fs::read_to_string(scratch.path().join("other.sh")).unwrap();
    assert_eq!(written, "docker run --name app -u 1000 --read-only --tmpfs /tmp web:2\n");
}

#[test]
fn no_manifest_is_taken_for_a_script() {
    let map = "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\ndata:\n  run.sh: |\n    docker run img\n---\napiVersion: v1\nkind: Pod\n\
        metadata: {name: p}\nspec: {containers: [{name: c, image: i, command: [docker, run, img]}]}\n";
    let scratch = Scratch::with("a.yaml", map)
        .and("b.json", "{\"services\": {\"d\": {\"image\": \"i\", \"command\": \"docker run img\"}}}");
    assert!(scratch.run(["identity", "a.yaml"]).contains("app container of p"));
    assert!(scratch.run(["identity", "b.json"]).contains("image i"));
    let other = scratch.and("c.sh", "#!/bin/sh\necho docker run\n");
    assert!(other.run(["identity", "c.sh"]).ends_with("--- status 2"));
}
