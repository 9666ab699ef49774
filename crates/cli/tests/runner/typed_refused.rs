//! Command lines that no engine reads.

use crate::scratch::Scratch;

/// What an engine refuses to read is no answer: its own words for switches, and a volume from nowhere.
#[test]
fn what_no_engine_reads_is_refused_at_its_place() {
    for (line, message) in [
        ("podman run --read-only-tmpfs=maybe i", "`--read-only-tmpfs` is true or false, not `maybe`"),
        ("docker run --privileged=yes i", "`--privileged` is true or false, not `yes`"),
        ("docker run --read-only= i", "`--read-only` is true or false, not ``"),
        ("podman run -v :/x i", "the source of a volume is empty"),
        ("docker run -v :/x:ro i", "the source of a volume is empty"),
    ] {
        let said = Scratch::with("run.sh", line).run(["identity", "run.sh"]);
        assert!(said.contains(&format!("error: {message}\n --> run.sh:1:")), "{line}: {said}");
        assert!(said.ends_with("--- status 2"), "{line}: {said}");
    }
    for word in ["1", "t", "T", "TRUE", "true", "True", "0", "f", "F", "FALSE", "false", "False"] {
        let scratch = Scratch::with("run.sh", &format!("docker run --read-only={word} i"));
        let row = &scratch.json(["access", "-q", "run.sh", "/", "--format", "json"])["rows"][0];
        let denied = row["errnos"]["create"] == "EROFS";
        assert_eq!(denied, "1tT".contains(&word[..1]), "{word}: {row:#}");
    }
}
