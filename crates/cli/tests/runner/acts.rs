//! Mistakes in acts, with their place and the form of a sentence.

use insta::assert_snapshot;

use crate::scratch::{BOATS, Scratch, TIDES, pod};

#[test]
fn acts_that_are_half_written() {
    let scratch = Scratch::with("pod.yaml", &pod(TIDES));
    let said = |act: &str| scratch.run(["ask", "pod.yaml", act]);
    assert_snapshot!(said("gauge renames /data/a"), @"
    --- standard error
    error: the act ends where `to` is expected
     --> act 1:1:22
      |
    1 | gauge renames /data/a
      |                      ^
      |
      = help: write `ACTOR renames PATH to NEW [-> EXPECTATION]`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(said("gauge sets-owner gauge on /data/a"), @"
    --- standard error
    error: `gauge` is not an owner
     --> act 1:1:18
      |
    1 | gauge sets-owner gauge on /data/a
      |                  ^^^^^
      |
      = help: write UID, UID:GID or :GID as the container sees them, or names that its account files have

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(said("gauge sets-mode 0640 /data/a"), @"
    --- standard error
    error: `/data/a` is not expected here
     --> act 1:1:22
      |
    1 | gauge sets-mode 0640 /data/a
      |                      ^^^^^^^
      |
      = help: write `ACTOR sets-mode MODE on PATH [-> EXPECTATION]`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn values_that_are_none() {
    let scratch = Scratch::with("pod.yaml", &pod(TIDES));
    let said = |act: &str| scratch.run(["ask", "pod.yaml", act]);
    assert_snapshot!(said("gauge sets-acl user:gauge:rw- on /data/a"), @"
    --- standard error
    error: `gauge` is not a numeric id: ACLs here name ids, not accounts
     --> act 1:1:16
      |
    1 | gauge sets-acl user:gauge:rw- on /data/a
      |                ^^^^^^^^^^^^^^
      |
      = help: write entries such as user:7102:rw-,group::r--,mask::rw-

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(said("gauge tags /data/a with system.posix_acl_access"), @"
    --- standard error
    error: `system.posix_acl_access` is not a name of an extended attribute
     --> act 1:1:25
      |
    1 | gauge tags /data/a with system.posix_acl_access
      |                         ^^^^^^^^^^^^^^^^^^^^^^^
      |
      = help: write 1 to 255 bytes, such as user.note (`sets-acl` sets ACLs)

    error: the input cannot be used: 1 error above
    --- status 2
    ");
    assert_snapshot!(said("gauge makes-node /data/a as char 9"), @"
    --- standard error
    error: `9` is not a device
     --> act 1:1:34
      |
    1 | gauge makes-node /data/a as char 9
      |                                  ^
      |
      = help: write `as char 1:3`, `as block 7:0` or `as socket`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn a_wrong_escape_of_a_long_character_is_pointed_at() {
    let scratch = Scratch::with("s.yaml", BOATS);
    assert_snapshot!(scratch.run(["ask", "s.yaml", "mate reads \"/\\é\""]), @r#"
    --- standard error
    error: only \\, \" and \xNN are escapes
     --> act 1:1:14
      |
    1 | mate reads "/\é"
      |              ^^
      |
      = help: write \\ for a backslash

    error: the input cannot be used: 1 error above
    --- status 2
    "#);
}
