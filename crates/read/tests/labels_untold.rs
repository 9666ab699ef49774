//! A host that enforces a policy which nobody gave: certain where all policies with container domains agree, open elsewhere.

#![expect(clippy::unwrap_used, reason = "tests")]

mod labels {
    pub(crate) mod scenes;
}

use std::process::Command;

use labels::scenes::{POLICY, asked, staged_with, verdict};
use mivask_core::stage::Stage;

const TREE: &str = "    - { path: /, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:root_t:s0' }
    - { path: /own, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /own/f, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_file_t:s0' }
    - { path: /own/other, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_file_t:s0:c1,c2' }
    - { path: /own/ro, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:container_ro_file_t:s0' }
    - { path: /own/home, owner: '7101:7101', mode: '0644', label: 'unconfined_u:object_r:user_home_t:s0' }
    - { path: /own/usr, owner: '7101:7101', mode: '0755', content: program, label: 'system_u:object_r:usr_t:s0' }
    - { path: /own/site, owner: '7101:7101', mode: '0644', label: 'system_u:object_r:site_data_t:s0' }
    - { path: /own/bare, owner: '7101:7101', mode: '0644' }
    - { path: /log, kind: dir, owner: '7101:7101', mode: '0755', label: 'system_u:object_r:var_log_t:s0' }
";

fn host(selinux: &str, services: &str) -> Stage {
    let scene = format!(
        "scene: 1\nworkloads: [compose.yaml]\nhost:\n  selinux: {selinux}\n  tree:\n{TREE}images: {{ i: {{ user: '7101:7101' }} }}\n"
    );
    staged_with(&scene, &[("compose.yaml", &format!("name: p\nservices:\n{services}"))])
}

const ONE: &str = "  a: { image: i, volumes: ['/own:/own', '/log:/log', '/log:/logs:Z'] }\n";

#[test]
fn what_all_policies_say_is_certain_and_the_rest_names_the_policy() {
    let stage = host("enforcing", ONE);
    let denied = [
        "a reads /own/home",
        "a writes /own/usr",
        "a writes /own/ro",
        "a reads /own/other",
        "a creates /log/new",
        "a lists /log",
    ];
    for act in denied {
        let told = verdict(&stage, act);
        assert!(told.starts_with("label: container_t"), "{act}: {told}");
    }
    let allowed = [
        "a writes /own/f",
        "a creates /own/new",
        "a deletes /own/f",
        "a reads /own/ro",
        "a creates /logs/new",
    ];
    for act in allowed {
        assert_eq!(verdict(&stage, act), "allowed", "{act}");
        let assumptions = asked(&stage, act).assumptions;
        assert!(assumptions.iter().any(|text| text.contains("which is not given")), "{act}: {assumptions:?}");
    }
    for (act, fact) in [
        ("a reads /own/usr", "depends on whether in the host's policy container_t"),
        ("a runs /own/usr", "depends on whether in the host's policy container_t"),
        ("a inspects /log", "depends on whether in the host's policy container_t"),
        (
            "a reads /own/site",
            "depends on what the host's policy permits with the label system_u:object_r:site_data_t:s0",
        ),
        ("a reads /own/bare", "depends on the SELinux labels of /own"),
    ] {
        let told = verdict(&stage, act);
        assert!(told.starts_with(fact), "{act}: {told}");
    }
}

#[test]
fn what_is_certain_without_a_policy_is_so_with_the_tests_own() {
    let services = "  a: { image: i, volumes: ['/own:/own', '/log:/log'] }\n  b: { image: i, security_opt: ['label=level:s0:c1,c2'], volumes: \
                    ['/own:/own', '/log:/log'] }\n  c: { image: i, security_opt: ['label=disable'], volumes: ['/own:/own', '/log:/log'] }\n";
    let (without, with) = (host("enforcing", services), host(&format!("{{ policy: '{POLICY}' }}"), services));
    let mut certain = 0;
    for actor in ["a", "b", "c"] {
        for path in ["/own/f", "/own/other", "/own/ro", "/own/home", "/own/usr", "/log"] {
            for verb in ["reads", "writes", "appends", "runs", "inspects", "lists", "deletes", "stamps"] {
                let act = format!("{actor} {verb} {path}");
                let (one, other) = (asked(&without, &act), asked(&with, &act));
                if one.depends_on.is_empty() {
                    certain += 1;
                    assert_eq!(one.outcome, other.outcome, "{act}");
                }
            }
        }
    }
    assert!(certain > 90, "{certain} of 144");
}

#[test]
fn parts_that_only_some_policies_know_are_a_missing_fact() {
    let own = host("enforcing", "  a: { image: i, security_opt: ['label=type:container_init_t'] }\n");
    assert!(
        verdict(&own, "a lists /")
            .starts_with("depends on the label of a, whose parts are not those of every policy")
    );
    let loose =
        host("enforcing", "  a: { image: i, security_opt: ['label=disable'], volumes: ['/own:/own'] }\n");
    assert_eq!(verdict(&loose, "a reads /own/home"), "allowed");
    let permissive = host("permissive", ONE);
    assert_eq!(verdict(&permissive, "a reads /own/home"), "allowed");
}

/// The policies that are kept beside their source.
#[test]
fn the_policies_that_are_kept_are_what_their_source_says() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../stage/src/prepare/policy");
    let out = tempfile::tempdir().unwrap();
    for (name, more) in [("least.33", "strict.cil"), ("most.33", "loose.cil")] {
        let file = out.path().join(name);
        let sources = ["usual.cil", more].map(|source| format!("{folder}/{source}"));
        let made = Command::new("secilc")
            .args(["-c", "33", "-f", "/dev/null", "-o"])
            .arg(&file)
            .args(sources)
            .status();
        match made {
            Ok(status) => {
                assert!(status.success());
                let kept = std::fs::read(format!("{folder}/{name}")).unwrap();
                assert_eq!(
                    std::fs::read(file).unwrap(),
                    kept,
                    "compile {name} anew: the first lines of usual.cil say how"
                );
            }
            Err(error) => skipped(&error.to_string()),
        }
    }
}

#[expect(clippy::print_stdout, reason = "a test that skips says so")]
fn skipped(why: &str) {
    println!("skipped: the policy beside its source: secilc: {why}");
}
