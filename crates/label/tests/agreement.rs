//! The reader and its decisions against libsepol, the reference implementation: the same policies, the same questions.
//!
//! Needs a C compiler, libsepol's static library with its headers, and for the policies Debian's `selinux-policy-default`
//! and `secilc` or `checkpolicy`; what is not there is skipped, with a word.
#![expect(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    clippy::disallowed_types,
    reason = "a test that runs tools"
)]

mod agreement {
    pub(crate) mod judge;
    pub(crate) mod policies;
    pub(crate) mod questions;
}

use agreement::{judge, policies, questions};

/// How many questions each policy is asked: a million in all, of which transitions are fewer, since libsepol looks
/// for each new context among all it knows, one by one.
const VECTORS: usize = 160_000;
const CHANGES: usize = 6_000;

fn agrees(found: Option<policies::Found>) {
    let Some(found) = found else { return };
    let Some(judge) = judge::compiled() else { return };
    let totals = questions::compare(&judge, &found, VECTORS, CHANGES);
    report(&found.name, &totals);
    assert!(
        totals.differ.is_empty(),
        "{}: {} differ, such as\n{}",
        found.name,
        totals.differ.len(),
        totals.examples()
    );
    // Questions that are all denied would prove little.
    assert!(
        totals.some_allowed * 10 > totals.vectors,
        "{}: {} vectors allow anything",
        found.name,
        totals.some_allowed
    );
    assert!(totals.constrained > 0 && totals.new_labels > 0);
}

#[expect(clippy::print_stdout, reason = "what was compared is part of the tests' record")]
fn report(name: &str, totals: &questions::Totals) {
    println!(
        "{name}: {} vectors ({} allow something, {} denied by a constraint), {} new labels, {} refused changes, {} labels, \
         {} file systems; {} differ",
        totals.vectors,
        totals.some_allowed,
        totals.constrained,
        totals.new_labels,
        totals.changes,
        totals.labels,
        totals.file_systems,
        totals.differ.len()
    );
}

#[test]
fn debians_whole_policy() {
    agrees(policies::debian(33));
}

#[test]
fn debians_whole_policy_of_version_30() {
    agrees(policies::debian(30));
}

#[test]
fn our_own_policy() {
    agrees(policies::own(33, &[]));
}

#[test]
fn our_own_policy_with_booleans_turned() {
    agrees(policies::own(
        33,
        &[("virt_use_nfs", true), ("container_read_certs", false), ("container_use_cephfs", false)],
    ));
}

#[test]
fn our_own_policy_of_version_32() {
    agrees(policies::own(32, &[]));
}

#[test]
fn our_own_policy_of_version_31() {
    agrees(policies::own(31, &[("virt_use_samba", true)]));
}

#[test]
fn our_own_policy_of_version_30() {
    agrees(policies::own(30, &[("container_manage_cgroup", true)]));
}

/// The policy that is kept beside its source, for tests where no compiler is, and for the demo.
#[test]
fn the_policy_that_is_kept_is_what_its_source_says() {
    if let Some(made) = policies::own(33, &[]) {
        let kept = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/policy/containers.33");
        assert_eq!(
            std::fs::read(kept).unwrap(),
            std::fs::read(&made.file).unwrap(),
            "compile it anew: its first lines say how"
        );
    }
}
