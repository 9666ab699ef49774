//! `decode`: a mode taken apart.

use insta::assert_snapshot;
use serde_json::json;

use crate::scratch::Scratch;

fn nothing() -> Scratch {
    Scratch::with("elsewhere", "")
}

#[test]
fn a_directory_mode_is_taken_apart() {
    assert_snapshot!(nothing().run(["decode", "drwxrws--T"]), @"
    3770  rwxrws--T  u=rwx,g=rwxs,o=t
            setuid  setgid  sticky  owner  group  others
      bits  0       1       1       111    111    000

    on a directory  drwxrws--T
      owner   rwx  lists and enters it, creates, renames and removes entries
      group   rwx  lists and enters it, creates, renames and removes entries
      others  ---  nothing
      note T for others: the sticky bit is set and others cannot enter, so it protects entries from the group alone
      note set-group-id: new entries get its group, and new directories the bit too
      created with 3770: umask 0002 -> 1770, umask 0022 -> 1750, umask 0027 -> 1750, umask 0077 -> 1700
    --- status 0
    ");
}

#[test]
fn a_change_is_made_under_a_umask() {
    assert_snapshot!(nothing().run(["decode", "4644", "+x", "--umask", "0027"]), @"
    4644  rwSr--r--  u=rws,g=r,o=r
            setuid  setgid  sticky  owner  group  others
      bits  1       0       0       110    100    100
    +x on a file: 4644 -> 4754 -rwsr-xr-- (no class named: under 0027)
    +x on a directory: 4644 -> 4754 drwsr-xr-- (no class named: under 0027)

    on a file  -rwsr-xr--
      owner   rwx  reads, changes and runs it
      group   r-x  reads and runs it
      others  r--  reads it
      note setuid: whoever runs it acts as its owner, unless nosuid or no-new-privileges
      created with 4754: umask 0027 -> 4750

    on a directory  drwsr-xr--
      owner   rwx  lists and enters it, creates, renames and removes entries
      group   r-x  lists and enters it
      others  r--  sees names alone: without x nothing in it is reached
      note set-user-id has no effect on a directory: entries do not inherit an owner
      note r without x: names can be listed, nothing in it can be opened
      created with 4754: umask 0027 -> 0750
    --- status 0
    ");
}

#[test]
fn what_is_no_mode_is_refused() {
    assert_snapshot!(nothing().run(["decode", "rwx"]), @"
    --- standard error
    error: invalid value 'rwx' for '<MODE>': `rwx` is not a mode: write octal (0750, 100644), letters (rwxr-x---, drwxr-s---) or clauses (u=rwx,g=rx,o=)

    For more information, try '--help'.
    --- status 2
    ");
    assert_snapshot!(nothing().run(["decode", "0644", "z+x"]), @"
    --- standard error
    error: invalid value 'z+x' for '[CHANGE]': `z+x` is not an octal mode

    For more information, try '--help'.
    --- status 2
    ");
}

#[test]
fn a_mode_as_json() {
    let document =
        nothing().json(["decode", "2750", "g-x", "--kind", "dir", "--umask", "0077", "--format", "json"]);
    let mode = &document["modes"][0];
    assert_eq!(
        (&mode["before"], &mode["mode"], &mode["letters"]),
        (&json!("2750"), &json!("2740"), &json!("drwxr-S---"))
    );
    assert_eq!(mode["clauses"], "u=rwx,g=rs,o=");
    assert_eq!(mode["classes"][1]["bits"], "r--");
    assert_eq!(mode["created"], json!([{ "umask": "0077", "mode": "0700" }]));
    assert_eq!(mode["notes"].as_array().unwrap().len(), 2);
}
