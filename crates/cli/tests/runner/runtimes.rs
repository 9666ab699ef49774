//! Runtimes side by side, and bundles.

use insta::assert_snapshot;

use crate::scratch::Scratch;

pub(crate) const COMPOSE: &str = "\
name: tides
services:
  press:
    image: tides/press:1
    user: '7102'
    volumes: ['charts:/out']
volumes: { charts: }
";

const PRESS: &str = "\
scene: 1
workloads: [compose.yaml]
images:
  tides/press:1:
    user: null
    accounts: null
    tree:
    - { path: /, kind: dir, owner: '0:0', mode: 0755 }
    - { path: /etc, kind: dir, owner: '0:0', mode: 0755 }
";

#[test]
fn two_runtimes_show_only_what_differs() {
    let scratch = Scratch::with("compose.yaml", COMPOSE).and("s.yaml", PRESS);
    assert_snapshot!(scratch.run(["access", "s.yaml", "--runtime", "docker,podman"]), @"
      about       what    docker         podman
      press /out  owner   0:0            7102:0
                  create  denied EACCES  allowed
    --- status 0
    ");
    assert_snapshot!(scratch.run(["ask", "s.yaml", "--runtime", "docker,podman", "--format", "json", "press creates /out/a"]), @r#"
    {
      "mivask": 1,
      "runtimes": [
        "docker",
        "podman"
      ],
      "differences": [
        {
          "subject": "press creates /out/a",
          "field": "outcome",
          "values": [
            "denied EACCES",
            "allowed"
          ]
        },
        {
          "subject": "press creates /out/a",
          "field": "leaves",
          "values": [
            null,
            "7102:0 0644"
          ]
        }
      ]
    }
    --- status 0
    "#);
    assert_snapshot!(scratch.run(["why", "s.yaml", "--runtime", "docker,podman", "press lists /etc"]), @"
    the same under docker and podman
    --- status 0
    ");
}

#[test]
fn a_runtime_must_fit_the_workload() {
    let scratch = Scratch::with("compose.yaml", COMPOSE);
    assert_snapshot!(scratch.run(["identity", "compose.yaml", "--runtime", "crun"]), @"
    --- standard error
    error: crun does not run Compose project tides: name one of docker, podman
    --- status 2
    ");
}

#[test]
fn strict_takes_no_warning() {
    let scratch = Scratch::with("compose.yaml", &COMPOSE.replace("user:", "usr:"));
    assert_snapshot!(scratch.run(["identity", "compose.yaml", "--strict"]), @"
    --- standard error
    warning: unknown key `usr`, ignored
     --> compose.yaml:5:5
      |
    5 |     usr: '7102'
      |     ^^^
      |
      = help: did you mean `user`?

    error: 1 warning above, and --strict allows none
    --- status 2
    ");
}

#[test]
fn a_bundle_is_an_input() {
    let config = r#"{ "ociVersion": "1.0.2", "root": { "path": "rootfs", "readonly": true },
  "process": { "cwd": "/", "user": { "uid": 7102, "gid": 7200, "additionalGids": [7300] } },
  "mounts": [ { "destination": "/proc", "type": "proc", "source": "proc" },
    { "destination": "/t", "type": "tmpfs", "source": "tmpfs", "options": ["nosuid", "mode=1770", "gid=7300"] } ] }"#;
    let scratch = Scratch::with("config.json", config);
    assert_snapshot!(scratch.run(["identity", "config.json"]), @"
    process  app container of process, image rootfs
      field      value  from
      uid        7102   config.json:2:45 process.user.uid
      gid        7200   config.json:2:58 process.user.gid
      group      7300   config.json:2:83 process.user.additionalGids
      umask      0022   the runtime's default umask
      effective  none   a process that is not root starts with none
      assumed: no group of the root file system has a number for its name
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "config.json", "/t", "/etc"]), @"
    process
      path  owner   mode           read     write   create   delete  list     enter    run
      /t    0:7300  dir not known  -        -       depends  EROFS   depends  depends  -
      /etc          not known      depends  denied  denied   EROFS   -        -        depends

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
}

#[test]
fn one_runtime_that_refuses_is_a_difference_in_every_table() {
    let scene = "\
scene: 1
containers: [{ name: gauge, image: x, user: '5102:5200', capabilities: { add: [CHOWN], drop: [CHOWN] } }]
images: { x: { tree: [{ path: /, kind: dir, owner: '0:0', mode: '0755' }] } }
";
    for command in ["identity", "mounts", "access"] {
        let answer = Scratch::with("s.yaml", scene).run([command, "s.yaml", "--runtime", "docker,podman"]);
        let row = "gauge  starts  yes     never runs: CHOWN cannot be dropped and added at once";
        assert!(answer.contains(row), "{command}: {answer}");
    }
    let alone = Scratch::with("s.yaml", scene).run(["mounts", "s.yaml", "--runtime", "podman", "-q"]);
    assert!(
        alone
            .contains("never runs: CHOWN cannot be dropped and added at once; this is what would be mounted")
    );
    let alone = Scratch::with("s.yaml", scene).json([
        "mounts",
        "s.yaml",
        "--runtime",
        "podman",
        "-q",
        "--format",
        "json",
    ]);
    assert_eq!(
        alone["mounts"][0]["refusal"]["reason"], "CHOWN cannot be dropped and added at once",
        "{alone}"
    );
}
