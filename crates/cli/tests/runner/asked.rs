//! What programs ask and are shown before they act, ACLs that are inherited or removed, names that change places.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// A directory with a default ACL, a file with an ACL, a link, and one actor with a capability that access(2) does not count.
const SCENE: &str = "scene: 1
volumes:
  data:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '1000:2000', mode: 0775, default-acl: 'user::rwx,group::rwx,group:3000:r-x,mask::rwx,other::---' }
      - { path: /key, owner: '0:0', mode: 0600 }
      - { path: /acl, owner: '1000:1000', mode: 0640, acl: 'user:7:rw-,mask::rw-' }
      - { path: /link, kind: link, owner: '5:5', target: key }
containers:
  - { name: app, user: '1000:2000', effective-capabilities: [DAC_OVERRIDE], mounts: [{ volume: data, at: /data }] }
";

#[test]
fn what_is_asked_and_shown() {
    let scratch = Scratch::with("s.yaml", SCENE);
    assert_snapshot!(scratch.run([
        "ask",
        "s.yaml",
        "app reads /data/key",
        "app may-read /data/key",
        "app inspects /data/link -> shows 0:0 0600",
        "app inspects-link /data/link -> shows 0:0 *",
        "app reads-tag /data/acl of user.note",
        "app links-target /data/link to /data/link2",
        "app renames-new /data/key to /data/acl",
        "app exchanges /data/key with /data/acl",
    ]), @"
    allowed        app reads /data/key
    denied EACCES  app may-read /data/key
                   /data/key: -rw------- 0600 0:0: other has ---, needed r--
    allowed        app inspects /data/link  (as expected)
                   shows 0:0 0600
    allowed        app inspects-link /data/link
                   shows 5:5 0777
                   NOT as expected: shows 0:0 *
    depends        app reads-tag /data/acl of user.note
                   denied ENODATA  when /data/acl lacks user.note
                   allowed         when /data/acl has user.note
                   to settle it: no scene can supply it
    allowed        app links-target /data/link to /data/link2
    denied EEXIST  app renames-new /data/key to /data/acl
                   /data/acl: something of that name is there already
    allowed        app exchanges /data/key with /data/acl

    Assumed
      the root of image of container app is 0:0 0755
    --- status 1
    ");
    assert_snapshot!(scratch.run(["ask", "s.yaml", "app exchanges /data/key to /data/acl"]), @"
    --- standard error
    error: `to` is not expected here
     --> act 1:1:25
      |
    1 | app exchanges /data/key to /data/acl
      |                         ^^
      |
      = help: write `ACTOR exchanges PATH with OTHER [-> EXPECTATION]`

    error: the input cannot be used: 1 error above
    --- status 2
    ");
}

#[test]
fn acls_are_inherited_and_removed() {
    let acts = "app makes-directory /data/d
app removes-default-acl /data/d
app sets-default-acl user:7:rwx on /data/d
app creates /data/d/f
app exchanges /data/d with /data/acl
app inspects /data/acl
app removes-acl /data/d
";
    let scratch = Scratch::with("s.yaml", SCENE).and("day.acts", acts);
    assert_snapshot!(scratch.run(["rehearse", "s.yaml", "--acts", "day.acts"]), @"
    allowed        app makes-directory /data/d
                   leaves 1000:2000 0770, acl user::rwx,group::rwx,group:3000:r-x,mask::rwx,other::---, default acl user::rwx,group::rwx,group:3000:r-x,mask::rwx,other::---
    allowed        app removes-default-acl /data/d
    allowed        app sets-default-acl user:7:rwx on /data/d
                   leaves 1000:2000 0770, default acl user::rwx,user:7:rwx,group::rwx,mask::rwx,other::---
    allowed        app creates /data/d/f
                   leaves 1000:2000 0660, acl user::rw-,user:7:rwx,group::rwx,mask::rw-,other::---
    allowed        app exchanges /data/d with /data/acl
    allowed        app inspects /data/acl
                   shows 1000:2000 0770
    allowed        app removes-acl /data/d
                   leaves 1000:1000 0660

    /data  as app sees it  (volume data)
           before                  after                   name
           drwxrwxr-x   1000:2000  same                    .
      now  -rw-rw----+  1000:1000  drwxrwx---+  1000:2000  acl  user::rwx,group::rwx,group:3000:r-x,mask::rwx,other::---
      new  -                       -rw-rw----   1000:1000  d
           -rw-------   0:0        same                    key
           lrwxrwxrwx   5:5        same                    link -> key

    Assumed
      the root of image of container app is 0:0 0755
    --- status 0
    ");
    let left = &scratch.json(["ask", "s.yaml", "app makes-directory /data/d", "--format", "json"])["acts"][0]
        ["imprint"];
    assert_eq!(left["default_acl"], "user::rwx,group::rwx,group:3000:r-x,mask::rwx,other::---");
}
