//! Inputs that no one means well with: no panic, no partial answer, status 2.

use insta::assert_snapshot;

use crate::scratch::{Scratch, TIDES, pod};

#[test]
fn bytes_that_are_no_text() {
    let scratch = Scratch::with("x", "").and("bad.yaml", b"a: 1\nb: \xff\n");
    assert_snapshot!(scratch.run(["identity", "bad.yaml"]), @"
    --- standard error
    error: bad.yaml:2:4: not UTF-8 text (byte 8)
    --- status 2
    ");
    assert_snapshot!(scratch.run(["identity", "x"]), @"
    --- standard error
    error: there is nothing in it
     --> x:1:1
      |
    1 |
      | ^
      |
      = help: give a Kubernetes manifest, a Compose file, an OCI configuration or a scene file

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(scratch.run(["identity", "none.yaml"]), @"
    --- standard error
    error: none.yaml cannot be read: No such file or directory (os error 2)
    --- status 2
    ");
}

#[test]
fn names_cannot_move_the_terminal() {
    let text = pod(TIDES).replace("name: gauge", "name: \"g\\e[2J\\u202e\"");
    assert_snapshot!(Scratch::with("pod.yaml", &text).run(["mounts", "pod.yaml"]), @r"
    g\u{1b}[2J\u{202e}
      at         what                           flags  root         before    inodes changed
      /          image tides/gauge:3 (overlay)  rw     0:0 0755
      /data/app  emptyDir app                   rw     0:7300 2777  0:0 0777  1
      /data/app: the kubelet makes an emptyDir 0:0 0777
      /data/app: the kubelet gives the volume to group 7300: files | 0660, directories | 02770
    --- status 0
    ");
}

/// Every prefix of a manifest and many small changes of it: an answer or a mistake, never a panic.
#[test]
fn broken_manifests_are_mistakes() {
    let text = pod(TIDES);
    for end in (0..text.len()).step_by(7) {
        check(&text[..end]);
    }
    for (from, to) in [
        ("{", "["),
        (":", " "),
        ("-", "?"),
        ("name", "<<"),
        ("7", "&a *a"),
        ("p", "\u{0}"),
        (" ", "\t"),
        ("/", "!!"),
    ] {
        check(&text.replace(from, to));
    }
}

fn check(text: &str) {
    let scratch = Scratch::with("pod.yaml", text);
    let transcript = scratch.run(["access", "pod.yaml"]);
    let status = transcript.rsplit_once("--- status ").map(|(_, status)| status.to_owned());
    assert!(matches!(status.as_deref(), Some("0" | "2")), "{text}\n{transcript}");
    assert!(!transcript.contains("panicked"), "{text}\n{transcript}");
}
