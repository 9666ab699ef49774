//! Mistakes in the description, each with its line and what to do.

use insta::assert_snapshot;

use crate::scratch::{Scratch, TIDES, pod};

/// What standard error says of the first example with `from` replaced by `to`.
fn diagnostic(from: &str, to: &str) -> String {
    let text = pod(TIDES);
    assert!(text.contains(from), "{from}");
    Scratch::with("pod.yaml", &text.replace(from, to))
        .run(["mounts", "pod.yaml", "--format", "json", "--actor", "none"])
}

#[test]
fn a_key_in_the_wrong_letter_case() {
    assert_snapshot!(diagnostic("runAsUser", "runasuser"), @"
    --- standard error
    warning: unknown key `runasuser`, ignored
     --> pod.yaml:6:22
      |
    6 |   securityContext: { runasuser: 7101, runAsGroup: 7200, fsGroup: 7300 }
      |                      ^^^^^^^^^
      |
      = help: did you mean `runAsUser`?

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn a_filesystem_group_on_a_container() {
    assert_snapshot!(diagnostic("    image:", "    securityContext: { fsGroup: 7300 }\n    image:"), @"
    --- standard error
    warning: unknown key `fsGroup`, ignored
     --> pod.yaml:9:24
      |
    9 |     securityContext: { fsGroup: 7300 }
      |                        ^^^^^^^
      |
      = help: it belongs in the pod's `securityContext`, beside `containers`: it exists for the whole pod only

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn capabilities_on_a_pod() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "capabilities: { drop: [ALL] }"), @"
    --- standard error
    warning: unknown key `capabilities`, ignored
     --> pod.yaml:6:22
      |
    6 |   securityContext: { capabilities: { drop: [ALL] }, runAsGroup: 7200, fsGroup: 7300 }
      |                      ^^^^^^^^^^^^
      |
      = help: it belongs in the `securityContext` of a container: it does not exist for the pod

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn an_undeclared_volume() {
    assert_snapshot!(diagnostic("- { name: app, emptyDir", "- { name: apps, emptyDir"), @"
    --- standard error
    error: volume `app` is mounted but not declared
      --> pod.yaml:11:15
       |
    11 |     - { name: app, mountPath: /data/app }
       |               ^^^
       |
       = help: did you mean `apps`?

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_missing_colon_below_a_key() {
    assert_snapshot!(diagnostic(TIDES, "\n    runAsUser 7101"), @"
    --- standard error
    error: expected a mapping, found the text `runAsUser 7101`
     --> pod.yaml:7:5
      |
    7 |     runAsUser 7101
      |     ^^^^^^^^^^^^^^
      |
      = help: a colon is missing: write `runAsUser: 7101`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_missing_colon_among_keys() {
    assert_snapshot!(diagnostic(TIDES, "\n    runAsGroup: 7200\n    runAsUser 7101\n    fsGroup: 7300"), @"
    --- standard error
    error: a colon is missing after `runAsUser`
     --> pod.yaml:8:5
      |
    8 |     runAsUser 7101
      |     ^^^^^^^^^
      |
      = help: write `runAsUser: ...`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_number_in_quotes() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "runAsUser: '7101'"), @"
    --- standard error
    error: expected a number, found the text `7101`
     --> pod.yaml:6:33
      |
    6 |   securityContext: { runAsUser: '7101', runAsGroup: 7200, fsGroup: 7300 }
      |                                 ^^^^^^
      |
      = help: a number in quotes is text: remove the quotes

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_number_that_is_no_id() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "runAsUser: -1"), @"
    --- standard error
    error: -1 is not an id: the API takes 0 to 2147483647
     --> pod.yaml:6:33
      |
    6 |   securityContext: { runAsUser: -1, runAsGroup: 7200, fsGroup: 7300 }
      |                                 ^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_key_twice() {
    assert_snapshot!(diagnostic("runAsUser: 7101", "runAsUser: 7100, runAsUser: 7101"), @"
    --- standard error
    warning: the key `runAsUser` appears twice; this one counts
     --> pod.yaml:6:39
      |
    6 |   securityContext: { runAsUser: 7100, runAsUser: 7101, runAsGroup: 7200, fsGroup: 7300 }
      |                                       ^^^^^^^^^
      |
      = help: remove it here or on line 6

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn a_volume_without_a_source() {
    assert_snapshot!(diagnostic("emptyDir: {}", "emptydir: {}"), @"
    --- standard error
    warning: unknown key `emptydir`, ignored
      --> pod.yaml:13:18
       |
    13 |   - { name: app, emptydir: {} }
       |                  ^^^^^^^^
       |
       = help: did you mean `emptyDir`?

    warning: volume `app` has no known source, so the API server makes it an emptyDir
      --> pod.yaml:13:13
       |
    13 |   - { name: app, emptydir: {} }
       |             ^^^
       |
       = help: add `emptyDir: {}` if that is intended

    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn a_host_path_type_in_the_wrong_letter_case() {
    assert_snapshot!(diagnostic("emptyDir: {}", "hostPath: { path: /srv, type: directory }"), @"
    --- standard error
    error: the API knows no hostPath type `directory`
      --> pod.yaml:13:48
       |
    13 |   - { name: app, hostPath: { path: /srv, type: directory } }
       |                                                ^^^^^^^^^
       |
       = help: did you mean `Directory`? Letter case counts

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_mount_at_the_root() {
    assert_snapshot!(diagnostic("mountPath: /data/app", "mountPath: /"), @"
    --- standard error
    error: a volume cannot be mounted at `/`: the container would not start
      --> pod.yaml:11:31
       |
    11 |     - { name: app, mountPath: / }
       |                               ^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn two_mounts_at_one_path() {
    let twice = "- { name: app, mountPath: /data/app }\n    - { name: app, mountPath: /data/app }";
    assert_snapshot!(diagnostic("- { name: app, mountPath: /data/app }", twice), @"
    --- standard error
    error: two volumes are mounted at /data/app: the API refuses that
      --> pod.yaml:12:31
       |
    12 |     - { name: app, mountPath: /data/app }
       |                               ^^^^^^^^^

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    // The API compares the texts: the later of these hides the earlier one.
    let also = twice.replace("/data/app }\n", "/data/app/ }\n");
    assert_snapshot!(diagnostic("- { name: app, mountPath: /data/app }", &also), @"
    --- standard error
    error: there is no actor `none` in this scene; there is gauge
    --- status 2
    ");
}

#[test]
fn tabs_are_named() {
    assert_snapshot!(diagnostic("  containers:", "\tcontainers:"), @"
    --- standard error
    error: not valid YAML: a tab in the indentation
     --> pod.yaml:7:1
      |
    7 |  containers:
      | ^
      |
      = help: YAML is indented with blanks, not with tabs

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_kind_that_runs_nothing_here_is_a_note() {
    let text = format!("apiVersion: v1\nkind: Service\nmetadata: {{ name: n }}\n---\n{}", pod(TIDES));
    assert_snapshot!(Scratch::with("pod.yaml", &text).run(["ask", "pod.yaml", "gauge lists /data/app"]), @"
    allowed        gauge lists /data/app

    Assumed: no group of image tides/gauge:3 lists the user as a member (its group file is not given) (and 2 more: --all-assumptions)
    --- standard error
    note: 1 object skipped: it runs no container here: Service
     --> pod.yaml:2:7
      |
    2 | kind: Service
      |       ^^^^^^^

    --- status 0
    ");
}

#[test]
fn a_command_in_place_of_a_verb_is_answered_with_the_act() {
    let scratch = Scratch::with("s.yaml", "scene: 1\ncontainers: [{ name: a, user: '5:5' }]\n");
    for (act, form) in [
        ("a chmod 640 /f", "write `ACTOR sets-mode MODE on PATH`"),
        ("a cat /f", "write `ACTOR reads PATH`"),
        ("a rm /f", "write `ACTOR deletes PATH`"),
        ("a raeds /f", "did you mean `reads`?"),
    ] {
        let shown = scratch.run(["ask", "s.yaml", act]);
        assert!(shown.contains(form), "{act}: {shown}");
    }
}

#[test]
fn the_host_has_no_other_identity_and_a_page_is_no_picture() {
    let scratch = Scratch::with("s.yaml", "scene: 1\ncontainers: [{ name: a, user: '5:5' }]\n");
    for change in ["host umask 0002", "host becomes 5:5", "host joins 5"] {
        let shown = scratch.run(["compare", "s.yaml", "--change", change]);
        assert!(shown.contains("the host is root itself") && shown.ends_with("--- status 2"), "{shown}");
    }
    let shown = scratch.run(["report", "s.yaml", "-o", "x.svg"]);
    assert!(shown.contains("write --figure walk, mounts or handoff"), "{shown}");
    assert!(!scratch.path().join("x.svg").exists());
}

#[test]
fn an_id_that_yaml_reads_as_octal_is_pointed_at() {
    let pod = |ids: &str| pod(&format!("{{ {ids} }}"));
    let shown = Scratch::with("pod.yaml", &pod("runAsUser: 05101")).run(["identity", "pod.yaml"]);
    assert!(shown.contains("warning: 05101 is an octal number here: the id is 2625"), "{shown}");
    assert!(shown.contains("help: write 5101 if you mean that, or 2625"), "{shown}");
    for plain in ["runAsUser: 5101", "runAsUser: 0", "runAsUser: 07"] {
        let shown = Scratch::with("pod.yaml", &pod(plain)).run(["identity", "pod.yaml"]);
        assert!(!shown.contains("octal"), "{plain}: {shown}");
    }
}

#[test]
fn names_of_very_many_actors_are_counted_and_a_workload_is_answered_with_its_containers() {
    let pods: String = (0..50)
        .map(|number| {
            format!(
                "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p{number} }}\nspec: {{ containers: [{{ name: c, image: i }}] }}\n---\n"
            )
        })
        .collect();
    let scratch =
        Scratch::with("pods.yaml", &pods).and("e.acts", "nobody never reads /x\np7 never reads /x\n");
    let ask = scratch.run(["ask", "pods.yaml", "p7 reads /x"]);
    assert!(ask.contains("`p7` is a workload: write its container, p7/c"), "{ask}");
    let ask = scratch.run(["ask", "pods.yaml", "zz reads /x"]);
    assert!(ask.contains("p19/c and 30 more"), "{ask}");
    let ask = scratch.run(["ask", "pods.yaml", "c reads /x"]);
    assert!(
        ask.contains("`c` matches several actors: write one of p0/c") && ask.contains("and 30 more"),
        "{ask}"
    );
    let upheld = scratch.run(["uphold", "pods.yaml", "--expect", "e.acts"]);
    assert!(upheld.contains("and 30 more") && upheld.contains("write its container, p7/c"), "{upheld}");
}
