//! What is found to be too open, case by case, and beside each what is not.

mod fixtures;

use mivask_core::exposure::exposure;
use mivask_core::glob::NoGlobs;

use fixtures::stage;

const GAUGE: &str = "user: '71:71', groups: [500]";

/// The findings for actor `gauge`, and its neighbour `press` of the same group, on a volume with these entries, as
/// `severity kind`.
fn on_volume(entries: &str, gauge: &str, mount: &str) -> Vec<String> {
    let scene = format!(
        "scene: 1\nvolumes:\n  v: {{ filesystem: ext4, tree: [{{ path: /, kind: dir, owner: '0:0', mode: 0755 }}, {entries}] }}\n\
         containers:\n  - {{ name: gauge, {gauge}, mounts: [{{ volume: v, at: /v{mount} }}] }}\n\
         \x20 - {{ name: press, user: '72:72', groups: [500], no-new-privileges: true, mounts: [{{ volume: v, at: /v }}] }}\n"
    );
    found(&[("s.yaml", &scene)])
}

fn found(files: &[(&str, &str)]) -> Vec<String> {
    let stage = stage("s.yaml", files);
    let findings = exposure(&stage, &[], &[], &NoGlobs).expect("no patterns");
    findings
        .iter()
        .filter(|finding| finding.actors.iter().any(|actor| actor == "gauge"))
        .map(|finding| {
            assert!(finding.consequence.len() > 20, "a sentence: {}", finding.consequence);
            format!("{} {}", finding.severity, finding.kind.word())
        })
        .collect()
}

#[test]
fn each_kind_is_found_and_its_neighbour_is_not() {
    let quiet = format!("{GAUGE}, no-new-privileges: true");
    let file =
        |name: &str, owner: &str, mode: &str| format!("{{ path: /{name}, owner: '{owner}', mode: {mode} }}");
    let dir = |owner: &str, mode: &str| format!("{{ path: /d, kind: dir, owner: '{owner}', mode: {mode} }}");
    let cases: &[(String, &[&str])] = &[
        // Open to all.
        (file("a", "0:0", "0666"), &["high world-writable"]),
        (file("a", "0:0", "0664"), &[]),
        (dir("0:0", "0777"), &["high world-writable"]),
        (dir("0:0", "1777"), &["low world-writable-sticky"]),
        // w without x reaches nothing in a directory.
        (dir("0:0", "0772"), &[]),
        (format!("{}, {}", dir("0:0", "0700"), "{ path: /d/a, owner: '0:0', mode: 0666 }"), &[]),
        // A group with two members here.
        (file("a", "0:500", "0660"), &["low group-shared"]),
        (file("a", "0:500", "0640"), &[]),
        (file("a", "0:600", "0660"), &[]),
        (file("a", "71:500", "0660"), &[]),
        (dir("0:500", "2775"), &["low group-shared"]),
        // Keys.
        (file("id_rsa", "0:0", "0644"), &["high secret-readable"]),
        (file("id_rsa", "0:500", "0640"), &["medium secret-readable"]),
        (file("id_rsa", "0:0", "0600"), &[]),
        (file("id_rsa", "71:71", "0600"), &[]),
        (file("id_rsa.pub", "0:0", "0644"), &[]),
        // Programs.
        (file("run", "0:500", "0770"), &["medium program-writable", "low group-shared"]),
        (file("run", "71:71", "0755"), &["medium program-writable"]),
        (file("run", "0:0", "0755"), &[]),
        // Bits that say S and T.
        (dir("0:0", "2745"), &["low missing-x"]),
        (dir("0:0", "2755"), &[]),
        (file("a", "0:0", "4644"), &["low missing-x"]),
        (dir("0:0", "1754"), &["low missing-x"]),
        // No one reaches what is behind a closed directory, so nothing is said of it.
        (format!("{}, {}", dir("0:0", "0700"), "{ path: /d/id_rsa, owner: '0:0', mode: 0644 }"), &[]),
    ];
    for (entries, wanted) in cases {
        assert_eq!(on_volume(entries, &quiet, ""), *wanted, "{entries}");
    }
}

#[test]
fn what_lends_its_owner_counts_where_it_can_be_run_and_lends() {
    let program = |owner: &str, mode: &str| {
        format!("{{ path: /lend, owner: '{owner}', mode: {mode}, content: program }}")
    };
    let quiet = format!("{GAUGE}, no-new-privileges: true");
    let cases: &[(String, &str, &str, &[&str])] = &[
        (program("0:0", "4755"), GAUGE, "", &["high set-id"]),
        (program("9:0", "4755"), GAUGE, "", &["medium set-id"]),
        (program("0:9", "2755"), GAUGE, "", &["medium set-id"]),
        (program("71:0", "4755"), GAUGE, ", read-only: true", &[]),
        (program("0:0", "4750"), GAUGE, "", &[]),
        (program("0:0", "4755"), &quiet, "", &[]),
        (program("0:0", "4755"), GAUGE, ", options: [nosuid]", &[]),
        (program("0:0", "4755"), GAUGE, ", options: [noexec]", &[]),
        // A script is run by its interpreter, and lends nothing.
        (program("0:0", "4755").replace("content: program", "content: '#!/bin/sh'"), GAUGE, "", &[]),
    ];
    for (entries, gauge, mount, wanted) in cases {
        assert_eq!(on_volume(entries, gauge, mount), *wanted, "{entries} {gauge}{mount}");
    }
}

#[test]
fn a_umask_leaks_to_all_or_to_a_shared_group() {
    let umask = |user: &str, umask: &str| {
        let scene = format!(
            "scene: 1\ncontainers:\n  - {{ name: gauge, user: '{user}', umask: '{umask}', no-new-privileges: true }}\n\
             \x20 - {{ name: press, user: '72:500', no-new-privileges: true }}\n"
        );
        found(&[("s.yaml", &scene)])
    };
    assert_eq!(umask("71:71", "0000"), ["high umask"]);
    assert_eq!(umask("71:71", "0020"), ["high umask"]);
    assert_eq!(umask("71:500", "0002"), ["low umask"]);
    assert_eq!(umask("71:71", "0002"), [""; 0]);
    assert_eq!(umask("71:500", "0022"), [""; 0]);
}

#[test]
fn a_path_of_the_host_is_worse_the_nearer_it_is_to_the_host_itself() {
    let host = |path: &str, user: &str, options: &str| {
        let compose = format!(
            "services:\n  gauge: {{ image: i, user: '{user}', security_opt: [no-new-privileges], volumes: ['{path}:/h{options}'] }}\n"
        );
        let scene = "scene: 1\nworkloads: [compose.yaml]\n\
            images: { i: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }\n\
            host:\n  tree:\n    - { path: /, kind: dir, owner: '0:0', mode: 0755 }\n    - { path: /etc, kind: dir, owner: '0:71', mode: 0775 }\n    \
            - { path: /srv, kind: dir, owner: '0:0', mode: 0755 }\n    - { path: /srv/tides, kind: dir, owner: '71:71', mode: 0755 }\n    \
            - { path: /run/engine.sock, kind: socket, owner: '0:71', mode: 0660 }\n";
        found(&[("s.yaml", scene), ("compose.yaml", &compose)])
    };
    assert_eq!(host("/srv/tides", "71:71", ""), ["medium host-writable"]);
    assert_eq!(host("/srv/tides", "71:71", ":ro"), [""; 0]);
    assert_eq!(host("/srv/tides", "75:75", ""), [""; 0]);
    assert_eq!(host("/etc", "75:71", ""), ["high host-writable"]);
    assert_eq!(host("/run/engine.sock", "75:71", ""), ["high host-writable"]);
}

/// A configMap's directory says 0777 and the filesystem group makes it 2777; every mount of it is read-only.
#[test]
fn what_the_kubelet_writes_itself_is_not_open() {
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: { name: p }\nspec:\n  automountServiceAccountToken: false\n  securityContext: { fsGroup: 900 }\n  containers:\n    \
               - name: gauge\n      image: i\n      securityContext: { runAsUser: 71, runAsGroup: 71, allowPrivilegeEscalation: false }\n      \
               volumeMounts: [{ name: c, mountPath: /c }, { name: e, mountPath: /e }]\n  \
               volumes: [{ name: c, configMap: { name: c } }, { name: e, emptyDir: {} }]\n";
    assert_eq!(found(&[("s.yaml", pod)]), ["medium world-writable"], "the emptyDir alone");
}

#[test]
fn root_that_nothing_needs() {
    let root = "user: '0:0', no-new-privileges: true";
    let file = |owner: &str, mode: &str| format!("{{ path: /a, owner: '{owner}', mode: {mode} }}");
    let is_found = |entries: &str, gauge: &str, mount: &str| {
        on_volume(entries, gauge, mount).contains(&"low runs-as-root".to_owned())
    };
    // The root of the volume is 0755 and root's: only root makes entries there.
    assert!(!is_found(&file("0:0", "0644"), root, ""));
    assert!(is_found(&file("0:0", "0644"), root, ", read-only: true"));
    assert!(!is_found(&file("0:0", "0600"), root, ", read-only: true"));
    // Whoever owns it could do the same; capabilities beyond the usual ones are for something else.
    assert!(is_found(&file("71:71", "0600"), root, ", read-only: true"));
    assert!(!is_found(
        &file("71:71", "0600"),
        &format!("{root}, capabilities: {{ add: [NET_ADMIN] }}"),
        ", read-only: true"
    ));
    assert!(!is_found(&file("0:0", "0644"), GAUGE, ", read-only: true"));
}
