//! Files that nothing describes, and the first scene about them.

#![expect(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a test that fails says where, and what it skips"
)]

use std::os::unix::fs::{PermissionsExt, chown, symlink};

use insta::assert_snapshot;

use crate::recursion::is_root;
use crate::scratch::Scratch;

/// A folder with a file of somebody's, one of root's, and a link.
fn folder(test: &str) -> Option<(Scratch, String)> {
    if !is_root() {
        println!("skipped: {test}: it takes root to give files away");
        return None;
    }
    let scratch = Scratch::with("f/notes/today", "").and("f/wax", "");
    let top = scratch.path().canonicalize().unwrap();
    let mode = |path: &str, mode: u32| {
        std::fs::set_permissions(top.join(path), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    for (path, bits) in
        [("", 0o755), ("f", 0o755), ("f/notes", 0o750), ("f/notes/today", 0o640), ("f/wax", 0o600)]
    {
        mode(path, bits);
    }
    for path in ["f/notes", "f/notes/today"] {
        chown(top.join(path), Some(5102), Some(5200)).unwrap();
    }
    symlink("notes/today", top.join("f/l")).unwrap();
    let top = top.display().to_string();
    Some((scratch, top))
}

/// The text without the place of the folder: columns are as wide as its name is long.
fn short(text: &str, top: &str) -> String {
    let text = text.replace(top, "TOP");
    let lines = text.lines().map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "));
    lines.collect::<Vec<_>>().join("\n")
}

#[test]
fn one_user_and_one_folder() {
    let Some((scratch, top)) = folder("one_user_and_one_folder") else { return };
    let run = |words: &[&str]| short(&scratch.run(words), &top);
    let words = [
        "ask",
        "f",
        "--actor",
        "5102:5200",
        "reads notes/today",
        "writes ./wax",
        "reads l",
        "creates new",
        "lists .",
    ];
    assert_snapshot!(run(&words), @"
    allowed 5102:5200 reads TOP/f/notes/today
    denied EACCES 5102:5200 writes TOP/f/wax
    TOP/f/wax: -rw------- 0600 0:0: other has ---, needed -w-
    allowed 5102:5200 reads TOP/f/l
    denied EACCES 5102:5200 creates TOP/f/new
    TOP/f: drwxr-xr-x 0755 0:0: other has r-x, needed -wx
    allowed 5102:5200 lists TOP/f
    --- status 0
    ");
    assert_snapshot!(run(&["access", "f", "--actor", "nobody", "--actor", "5102:5200"]), @"
    nobody
    path owner mode read write create delete list enter run
    TOP/f 0:0 drwxr-xr-x 0755 - - EACCES EACCES yes yes -
    TOP/f/l 5102:5200 -rw-r----- 0640 EACCES EACCES - EACCES - - EACCES
    TOP/f/notes 5102:5200 drwxr-x--- 0750 - - EACCES EACCES EACCES EACCES -
    TOP/f/wax 0:0 -rw------- 0600 EACCES EACCES - EACCES - - EACCES

    5102:5200
    path owner mode read write create delete list enter run
    TOP/f 0:0 drwxr-xr-x 0755 - - EACCES EACCES yes yes -
    TOP/f/l 5102:5200 -rw-r----- 0640 yes yes - EACCES - - EACCES
    TOP/f/notes 5102:5200 drwxr-x--- 0750 - - yes EACCES yes yes -
    TOP/f/wax 0:0 -rw------- 0600 EACCES EACCES - EACCES - - EACCES

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    assert_snapshot!(run(&["access", "files:f", "--actor", "daemon", "wax"]), @"
    daemon
    path owner mode read write create delete list enter run
    TOP/f/wax 0:0 -rw------- 0600 EACCES EACCES - EACCES - - EACCES

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
}

#[test]
fn what_one_user_may_in_one_folder_is_mended_and_confirmed() {
    let Some((scratch, top)) = folder("what_one_user_may_in_one_folder") else { return };
    let run = |words: &[&str]| short(&scratch.run(words), &top);
    let said = run(&["identity", "f", "--actor", "daemon", "--actor", "root"]);
    assert!(said.contains("daemon on the host") && said.contains("effective all root gets"), "{said}");
    let said = run(&["rehearse", "f", "--actor", "5102:5200", "renames notes/today to notes/old"]);
    assert!(said.contains("gone -rw-r----- 5102:5200 - today"), "{said}");
    assert_snapshot!(run(&["remedy", "f", "--actor", "5103:5200", "writes notes/today"]), @"
    denied EACCES 5103:5200 writes TOP/f/notes/today
    TOP/f/notes/today: -rw-r----- 0640 5102:5200: group 5200 has r--, needed -w-

    1 disk for 5103:5200 sets-mode g+w on TOP/f/notes/today
    opens nothing else; touches 1 inode
    # on the host, as root
    chmod g+w TOP/f/notes/today

    2 disk for 5103:5200 sets-acl user:5103:rw-,group::r--,mask::rw- on TOP/f/notes/today
    opens nothing else; touches 1 inode
    # on the host, as root
    setfacl -m user:5103:rw-,group::r--,mask::rw- TOP/f/notes/today

    3 disk for 5103:5200 sets-owner 5103 on TOP/f/notes/today
    opens nothing else; touches 1 inode
    # on the host, as root
    chown 5103 TOP/f/notes/today
    --- status 0
    ");
    // What the kernel says of the same.
    let confirmed = run(&[
        "confirm",
        "f",
        &format!("5102:5200 reads {top}/f/notes/today"),
        &format!("5103:5201 reads {top}/f/l"),
    ]);
    assert!(confirmed.contains("2 the same, 0 different"), "{confirmed}");
}

#[test]
fn a_pasted_listing_and_somebody() {
    let listing = "\
.:
total 8
drwxr-xr-x 3 0 0 4096 Nov 1 10:00 .
drwxr-xr-x 9 0 0 4096 Nov 1 10:00 ..
drwxr-x--- 2 5102 5200 4096 Nov 1 10:00 notes
-rw------- 1 0 0 2 Nov 1 10:00 wax

./notes:
total 4
drwxr-x--- 2 5102 5200 4096 Nov 1 10:00 .
drwxr-xr-x 3 0 0 4096 Nov 1 10:00 ..
-rw-r----- 1 5102 5200 2 Nov 1 10:00 today
";
    let scratch = Scratch::with("listing.txt", listing);
    let words = [
        "ask",
        "listing.txt",
        "--actor",
        "5103:5200",
        "reads notes/today",
        "writes notes/today",
        "reads /wax",
    ];
    assert_snapshot!(scratch.run(words), @"
    allowed        5103:5200 reads /notes/today
    denied EACCES  5103:5200 writes /notes/today
                   /notes/today: -rw-r----- 0640 5102:5200: group 5200 has r--, needed -w-
    denied EACCES  5103:5200 reads /wax
                   /wax: -rw------- 0600 0:0: other has ---, needed r--
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "listing.txt"]), @"
    --- standard error
    error: a listing says nothing of who looks: name somebody, such as --actor 5102:5200
    --- status 2
    ");
    assert_snapshot!(scratch.run(["ask", "listing.txt", "7:7 reads notes/today"]), @"
    denied EACCES  7:7 reads /notes/today
                   /notes: drwxr-x--- 0750 5102:5200: other has ---, needed --x
    --- status 0
    ");
}

#[test]
fn one_actor_stands_for_acts_without_one() {
    let pod = "\
apiVersion: v1
kind: Pod
metadata: { name: hive }
spec:
  containers:
  - { name: comb, image: hive, securityContext: { runAsUser: 5101, runAsGroup: 5200 } }
  - { name: scout, image: hive, securityContext: { runAsUser: 5102, runAsGroup: 5200 } }
";
    let scratch = Scratch::with("pod.yaml", pod);
    let said =
        scratch.run(["ask", "pod.yaml", "--actor", "scout", "creates /dev/shm/x", "comb lists /dev/shm"]);
    assert!(
        said.contains("allowed        scout creates /dev/shm/x") && said.contains("comb lists"),
        "{said}"
    );
    let said = scratch.run(["ask", "pod.yaml", "creates /dev/shm/x"]);
    assert!(said.ends_with("--- status 2"), "{said}");
}

#[test]
fn a_build_file_alone() {
    let build = "FROM scratch\nCOPY honey /bin/sh\nCOPY --chown=5101:5200 honey /comb/honey\nRUN chmod 700 /comb\nUSER 5102:5200\n";
    let scratch = Scratch::with("Dockerfile", build)
        .and("honey", "")
        .and("other.Containerfile", "FROM scratch\nUSER 7\n");
    assert_snapshot!(scratch.run(["ask", "Dockerfile", "image reads /comb/honey"]), @"
    denied EACCES  image reads /comb/honey
                   /comb: drwx------ 0700 5101:5200: group 5200 has ---, needed --x

    Assumed
      image image is built by buildkit, the usual builder here (--builder names another)
    --- status 0
    ");
    assert!(scratch.run(["identity", "other.Containerfile"]).contains("uid        7"));
}

/// The draft with every fact it proposes.
fn filled_in(draft: &str) -> String {
    let told = ["# A scene", "# Take", "# What"];
    let either = ["by itself", "all at once"];
    let line = |line: &str| -> String {
        let bare = line.strip_prefix("# ").unwrap_or(line);
        let is_fact = bare.contains(':') || bare.trim_start().starts_with("- ");
        let passed =
            told.iter().any(|text| line.starts_with(text)) || either.iter().any(|text| line.contains(text));
        match (line.starts_with('#'), passed || !is_fact) {
            (true, true) => String::new(),
            (true, false) => bare.replacen("    # ", "    ", 1),
            (false, _) => line.to_owned(),
        }
    };
    draft.lines().map(line).map(|line| line + "\n").collect()
}

#[test]
fn a_first_scene_is_one_and_can_be_filled_in() {
    let pod = "\
apiVersion: v1
kind: Pod
metadata: { name: hive }
spec:
  volumes:
  - { name: v, persistentVolumeClaim: { claimName: honey } }
  - { name: h, hostPath: { path: /srv/hive } }
  containers:
  - { name: comb, image: 'bees/hive:3', volumeMounts: [{ name: v, mountPath: /comb }, { name: h, mountPath: /h }] }
";
    let scratch = Scratch::with("pod.yaml", pod);
    let drafted = scratch.run(["draft", "pod.yaml"]).replace("--- status 0", "");
    assert_snapshot!(drafted, @r#"
    # A scene: what runs, and the facts that decide who can do what to which files.
    # Take the `#` away in front of what you fill in; what stays away is unknown, and answers say so.
    scene: 1
    workloads:
      - pod.yaml
    # runtime: containerd   # of containerd, containerd-1.6, cri-o; containerd where left out

    # images:
    #   "bees/hive:3":   # run by comb
    #     from: bees-hive-3.tar   # all at once: an archive that an engine saved, an OCI layout, a root file system
    #     # or each by itself:
    #     # user: "UID:GID"   # its USER; null where it has none
    #     # accounts: { passwd: passwd, group: group }   # copies of its /etc/passwd and /etc/group
    #     # tree: bees-hive-3.survey   # its files

    # volumes:
    #   honey:   # comb at /comb
    #     tree: honey.survey   # what is on it: `mivask survey DIRECTORY -o honey.survey`, or the output of `ls -lanR`
    #     # filesystem: ext4

    # host:
    #   trees:   # what is at the paths of the host that are mounted
    #     /srv/hive: srv-hive.survey
    #   mounts: mountinfo   # a copy of its /proc/self/mountinfo

    # What is to hold, for `mivask uphold`.
    # expect:
    #   - comb writes /comb
    "#);
    assert!(scratch.run(["draft", "pod.yaml", "-o", "s.yaml"]).ends_with("--- status 0"));
    assert_eq!(
        scratch.json(["mounts", "-q", "s.yaml", "--format", "json"]),
        scratch.json(["mounts", "-q", "pod.yaml", "--format", "json"])
    );
    // Everything that is commented out reads, once its files are there.
    let filled = filled_in(&drafted);
    let listing = "-rw-r--r-- 1 0 0 2 Nov 1 10:00 x\n";
    let filled = filled.replace("UID:GID", "5101:5200");
    let scratch = scratch
        .and("f.yaml", &filled)
        .and("bees-hive-3.survey", listing)
        .and("honey.survey", listing)
        .and("srv-hive.survey", listing)
        .and("passwd", "root:x:0:0::/:/bin/sh\n")
        .and("group", "root:x:0:\n")
        .and("mountinfo", "20 1 8:1 / / rw - ext4 /dev/sda rw\n");
    let said = scratch.run(["identity", "f.yaml"]);
    assert!(!said.contains("error:"), "{filled}\n{said}");
    assert!(scratch.run(["draft", "s.yaml"]).contains("s.yaml is a scene already"));
    assert!(scratch.run(["draft", "-"]).contains("write it to one first"));
}
