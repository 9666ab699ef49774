//! Build files, and Compose files merged from the command line.

use std::os::unix::fs::PermissionsExt;

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;

const BUILD: &str = "\
FROM scratch
COPY run.sh /bin/sh
RUN addgroup -g 7200 tides && adduser -D -H -u 7101 -G tides gauge
COPY conf /etc/gauge
COPY --chown=gauge:tides run.sh /bin/gauge
RUN mkdir /data && chown gauge:tides /data && chmod 2750 /data
USER gauge
";

fn project() -> Scratch {
    let compose = "name: marsh\nservices:\n  gauge: { build: app }\n";
    let scratch = Scratch::with("compose.yaml", compose)
        .and("app/Dockerfile", BUILD)
        .and("app/conf/level.toml", "x")
        .and("app/run.sh", "#!/bin/sh\n");
    for (path, mode) in [("app/conf/level.toml", 0o640), ("app/run.sh", 0o755), ("app/conf", 0o755)] {
        std::fs::set_permissions(scratch.path().join(path), PermissionsExt::from_mode(mode)).expect("a mode");
    }
    scratch
}

#[test]
fn an_image_is_what_its_build_file_makes_of_it() {
    assert_snapshot!(project().run(["identity", "compose.yaml"]), @"
    gauge  app container of marsh, image marsh-gauge
      field      value  from
      uid        7101   app/Dockerfile:7:6 USER
      name       gauge  app/Dockerfile:3:31 RUN
      gid        7200   app/Dockerfile:3:31 RUN
      umask      0022   the runtime's default umask
      effective  none   a process that is not root starts with none
      assumed: image marsh-gauge is built by buildkit, the usual builder here (--builder names another)
    --- status 0
    ");
    assert_snapshot!(project().run(["access", "compose.yaml", "/data", "/etc/gauge/level.toml", "/bin/gauge"]), @"
    gauge
      path                   owner      mode             read    write   create  delete  list  enter  run
      /data                  7101:7200  drwxr-s--- 2750  -       -       yes     EACCES  yes   yes    -
      /etc/gauge/level.toml  0:0        -rw-r----- 0640  EACCES  EACCES  -       EACCES  -     -      EACCES
      /bin/gauge             7101:7200  -rwxr-xr-x 0755  yes     yes     -       EACCES  -     -      ELOOP

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    assert_snapshot!(project().run(["why", "compose.yaml", "gauge reads /etc/gauge/level.toml"]), @"
    denied EACCES  gauge reads /etc/gauge/level.toml
                   /etc/gauge/level.toml: -rw-r----- 0640 0:0: other has ---, needed r--

    Who gauge is
      field  value  from
      uid    7101   app/Dockerfile:7:6 USER
      gid    7200   app/Dockerfile:3:31 RUN
      umask  0022   the runtime's default umask

    Checks, in the kernel's order
              path                   check       fact                                            from
      ok      /                      other-bits  drwxr-xr-x 0755 0:0: other has r-x, needed --x  the engine's storage makes the root directory 0:0 0755, whatever the image has
      ok      /etc                   other-bits  drwxr-xr-x 0755 0:0: other has r-x, needed --x  app/Dockerfile:4:1 COPY
      ok      /etc/gauge             other-bits  drwxr-xr-x 0755 0:0: other has r-x, needed --x  app/Dockerfile:4:1 COPY
      EACCES  /etc/gauge/level.toml  other-bits  -rw-r----- 0640 0:0: other has ---, needed r--  app/Dockerfile:4:1 COPY

      EACCES: permission denied

    Assumed
      image marsh-gauge is built by buildkit, the usual builder here (--builder names another)
    --- status 0
    ");
}

#[test]
fn builders_differ() {
    let project = || project().and("app/Dockerfile", BUILD.replace("gauge:tides run.sh", "gauge run.sh"));
    let podman = project().run(["identity", "compose.yaml", "--runtime", "podman"]);
    assert!(podman.contains("7101") && podman.ends_with("--- status 0"), "{podman}");
    // The account's own group is called tides, and Docker's builder without BuildKit looks for one called gauge.
    let classic = project().run(["identity", "compose.yaml", "--runtime", "docker", "--builder", "classic"]);
    assert!(classic.contains("the image has no group `gauge`"), "{classic}");
    let docker = project().run(["identity", "compose.yaml", "--runtime", "docker"]);
    assert!(
        docker.contains(
            "image marsh-gauge is built by buildkit, the usual builder here (--builder names another)"
        ),
        "{docker}"
    );
}

#[test]
fn a_mistake_in_a_build_file_points_at_it() {
    let scratch = project().and("app/Dockerfile", "FROM scratch\nUSRE gauge\n");
    assert_snapshot!(scratch.run(["identity", "compose.yaml"]), @"
    --- standard error
    error: unknown instruction 'USRE'
     --> app/Dockerfile:2:1
      |
    2 | USRE gauge
      | ^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_further_file_is_merged_on_top() {
    let over = "services:\n  gauge: { build: !reset null, image: tides/gauge:1, user: '7105:7205', group_add: [7300] }\n";
    let scratch = project().and("over.yaml", over);
    let document = scratch.json(["identity", "compose.yaml", "--merge", "over.yaml", "--format", "json"]);
    let actor = &document["actors"][0];
    assert_eq!((&actor["uid"], &actor["groups"]), (&json!(7105), &json!([7205, 7300])));
    let scene = "scene: 1\nworkloads: [[compose.yaml, over.yaml]]\n";
    let document = scratch.and("s.yaml", scene).json(["identity", "s.yaml", "--format", "json"]);
    assert_eq!(document["actors"][0]["uid"], 7105);
}

#[test]
fn only_compose_files_are_merged() {
    let scratch = project().and("s.yaml", "scene: 1\nworkloads: [compose.yaml]\n");
    assert_snapshot!(scratch.run(["identity", "compose.yaml", "--merge", "s.yaml"]), @"
    --- standard error
    error: only Compose files of one document each are merged
     --> s.yaml:1:1
      |
    1 | scene: 1
      | ^^^^^
      |
      = help: in a scene file write `workloads: [[first, second]]`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["identity", "compose.yaml", "--merge", "none.yaml"]), @"
    --- standard error
    error: none.yaml cannot be read: No such file or directory (os error 2)
    --- status 2
    ");
}

/// The rows of `identity` of an image that is built on one with accounts by these lines.
fn built(lines: &str) -> String {
    let passwd = "root:x:0:0::/:\nkeeper:x:5101:5101::/:\n";
    let base = json!({
        "user": null,
        "accounts": { "passwd": passwd, "group": "root:x:0:\nkeeper:x:5101:\nbees:x:5200:keeper\n" },
        "tree": [
            { "path": "/", "kind": "dir", "owner": "0:0", "mode": "0755" },
            { "path": "/etc/group", "owner": "0:0", "mode": "0644" },
            { "path": "/etc/passwd", "owner": "0:0", "mode": "0644" },
        ],
    });
    let scene = json!({ "scene": 1, "workloads": ["c.yaml"], "images": { "base": base } });
    let scratch = Scratch::with("s.yaml", &scene.to_string())
        .and("c.yaml", "services: { gauge: { build: . } }\n")
        .and("accounts", "keeper:x:9:9::/:\n")
        .and("Dockerfile", format!("FROM base\n{lines}\nUSER keeper\n"));
    let text = scratch.run(["identity", "s.yaml"]);
    let row = |line: &str| line.split_whitespace().take(2).collect::<Vec<_>>().join(" ");
    let wanted =
        |line: &&str| ["uid", "gid", "group", "never"].iter().any(|word| line.trim_start().starts_with(word));
    text.lines().filter(wanted).map(row).collect::<Vec<_>>().join(", ")
}

#[test]
fn accounts_that_a_build_changes_are_followed_or_not_known() {
    for (lines, wanted) in [
        ("RUN groupmod -g 6000 bees", "uid 5101, gid 5101, group 6000"),
        ("RUN groupmod -n wasps bees", "uid 5101, gid 5101, group 5200"),
        ("RUN groupmod -g 6000 keeper", "uid 5101, gid 6000, group 5200"),
        ("RUN groupmod -g 5101 bees", "never runs:"),
        ("RUN groupdel bees", "uid 5101, gid 5101"),
        ("RUN groupdel keeper", "never runs:"),
        ("RUN userdel keeper", "never runs:"),
        ("RUN gpasswd -d keeper bees", "uid 5101, gid 5101"),
        ("RUN deluser keeper bees", "uid 5101, gid 5101"),
        ("RUN groupadd -g 7 ants && gpasswd -a keeper ants && groupdel bees", "uid 5101, gid 5101, group 7"),
        // What is not followed leaves no line certain.
        ("RUN userdel -r keeper", "uid that"),
        ("RUN sed -i s/5200/77/ /etc/group", "uid that"),
        ("RUN echo x:x:5:5:: >> /etc/passwd", "uid that"),
        ("RUN usermod -l ant keeper", "uid that"),
        ("COPY accounts /etc/passwd", "uid that"),
        // A file of another image is known with it.
        ("FROM scratch\nCOPY --from=base /etc/passwd /etc/passwd", "uid 5101, gid 5101"),
    ] {
        assert_eq!(built(lines), wanted, "{lines}");
    }
}

#[test]
fn what_a_build_leaves_is_changed_by_a_sentence() {
    let scene = "scene: 1\nworkloads: [compose.yaml]\nimages:\n  base:\n    user: null\n    accounts: { passwd: 'root:x:0:0::/:/bin/sh', group: 'root:x:0:' }\n    \
                 tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /srv, kind: dir, owner: '0:0', mode: 0755 }]\n";
    let scratch = Scratch::with("s.yaml", scene)
        .and("compose.yaml", "services: { jam: { build: . } }\n")
        .and("Dockerfile", "FROM base\nRUN mkdir /srv/jam && chown 7:7 /srv/jam\nUSER 7:7\n");
    let act = "jam creates /srv/jam/x";
    assert!(scratch.run(["ask", "-q", "s.yaml", act]).starts_with("allowed"));
    let said = scratch.run(["ask", "-q", "s.yaml", act, "--change", "image jam sets-owner 5:5 on /srv/**"]);
    assert!(said.starts_with("denied EACCES") && said.contains("5:5"), "{said}");
    // Of a base that nobody told there is nothing to change.
    let unknown = scratch.and("s.yaml", "scene: 1\nworkloads: [compose.yaml]\n");
    let said = unknown.run(["ask", "-q", "s.yaml", act, "--change", "image jam sets-owner 5 on /srv/jam"]);
    assert!(said.contains("what image base holds") && said.ends_with("--- status 2"), "{said}");
}
