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
      sum   0       2       1       4+2+1  4+2+1  0

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
      sum   4       0       0       4+2    4      4
    +x on a file: 4644 -> 4754 -rwsr-xr-- (no class named: under 0027)
      sets u+x,g+x, clears nothing
      note no class is named, so bits that the umask masks stay as they are: `a` before the sign means all
    +x on a directory: 4644 -> 4754 drwsr-xr-- (no class named: under 0027)
      sets u+x,g+x, clears nothing
      note no class is named, so bits that the umask masks stay as they are: `a` before the sign means all

    on a file  -rwsr-xr--
      owner   rwx  reads, changes and runs it
      group   r-x  reads and runs it
      others  r--  reads it
      note setuid: whoever runs it acts as its owner, unless nosuid or no-new-privileges; on a script (#!) it does nothing
      deleting and renaming it is the directory's matter: w and x there
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
    error: invalid value 'rwx' for '[MODE]': `rwx` is not a mode: three letters are one class of three: write nine, such as `rwxr-x---`, or `u=rwx`

    For more information, try '--help'.
    --- status 2
    ");
    assert_snapshot!(nothing().run(["decode", "0644", "z+x"]), @"
    --- standard error
    error: invalid value 'z+x' for '[CHANGE]': `z+x` is not a mode: write octal (0640) or clauses (g+w,o=)

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

#[test]
fn a_umask_alone_and_the_modes_that_people_use() {
    let expected = nothing().run(["decode", "--umask", "027"]);
    assert_snapshot!(expected, @"
    umask 0027  lets u=rwx,g=rx,o= through, takes g-w,o-rwx
      what         asked for  gets
      a file       0666       0640  -rw-r-----
      a directory  0777       0750  drwxr-x---
      a program    0777       0750  -rwxr-x---
      a default ACL of the directory takes the place of the umask
    --- status 0
    ");
    assert_eq!(nothing().run(["decode", "--umask", "u=rwx,g=rx,o="]), expected);
    let modes = &nothing().json(["decode", "--umask", "027", "--format", "json"])["modes"];
    let made = |at: usize| modes[at]["created"][0]["mode"].clone();
    assert_eq!([made(0), made(1), made(2)], ["0640", "0750", "0750"]);
    let table = nothing().run(["decode"]);
    assert!(
        table.contains("0640  rw-r-----  4+2    4      0       configuration that a group reads"),
        "{table}"
    );
    assert!(table.contains("4 reads (r), 2 writes (w), 1 runs a file or enters a directory (x)"), "{table}");
    // Every mode for files and for directories.
    assert_eq!(nothing().json(["decode", "--format", "json"])["modes"].as_array().unwrap().len(), 38);
}

#[test]
fn what_a_change_sets_and_clears_and_what_to_know_about_it() {
    let difference = |words: &[&str]| {
        let shown = nothing().run([&["decode", "--kind", "dir"], words].concat());
        shown
            .lines()
            .skip(5)
            .take_while(|line| !line.is_empty())
            .map(|line| line.trim().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(difference(&["0644", "g+w,o="]), ["sets g+w, clears o-r"]);
    assert_eq!(difference(&["0644", "0777"]), ["sets u+x,g+wx,o+wx, clears nothing"]);
    assert_eq!(difference(&["0644", "u+r"]), ["changes nothing"]);
    let set_group_id = difference(&["2775", "0755"]);
    assert_eq!(set_group_id[0], "sets nothing, clears g-ws");
    assert!(set_group_id[1].contains("some implementations of chmod keep it"), "{set_group_id:?}");
    let spared = nothing().run(["decode", "0777", "-w", "--kind", "file"]);
    assert!(spared.contains("clears u-w\n") && spared.contains("bits that the umask masks stay"), "{spared}");
    let execute = nothing().run(["decode", "0654", "a+X", "--kind", "file"]);
    assert!(execute.contains("X gives x to files that some class may run already"), "{execute}");
}

#[test]
fn a_line_of_a_listing_and_slips() {
    let line = nothing().run(["decode", "-rw-r-----+ 1 scribe hive 120 Mar  1 10:00 notes"]);
    assert!(line.starts_with("0640  rw-r-----") && line.contains("  owner scribe, group hive\n"), "{line}");
    let decimal = nothing().run(["decode", "420"]);
    assert!(decimal.contains("note the number is read as octal; in decimal it would be 0644"), "{decimal}");
    for (words, right) in [
        (&["U+x"][..], "write `u+x`"),
        (&["0644", "owner+x"], "write `u+x`"),
        (&["888"], "8 is not an octal digit"),
        (&["493"], "in decimal it would be 0755"),
        (&["rw-rw-r-"], "`rw-rw-r--`?"),
        (&["0644", "g+w", "o-r"], "write its clauses with commas, `g+w,o-r`"),
        (&["--umask", "0999"], "9 is not an octal digit"),
    ] {
        let shown = nothing().run([&["decode"], words].concat());
        assert!(shown.contains(right) && shown.ends_with("--- status 2"), "{words:?}: {shown}");
    }
    let scratch = Scratch::with("s.yaml", "scene: 1\ncontainers: [{ name: a, user: '5:5' }]\n");
    let act = scratch.run(["ask", "s.yaml", "a sets-mode owner+x on /f"]);
    assert!(act.contains("write `u+x`"), "{act}");
}
