//! Whole trees, hand-offs, findings and drafts of descriptions of which not everything is known.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// Two containers share the claim of a stateful set, which a filesystem group usually reaches.
const SET: &str = "\
apiVersion: apps/v1
kind: StatefulSet
metadata: { name: tide }
spec:
  selector: { matchLabels: { app: tide } }
  template:
    metadata: { labels: { app: tide } }
    spec:
      securityContext: { runAsUser: 1000, runAsGroup: 1000, fsGroup: 2000 }
      containers:
      - { name: gauge, image: 'tides/gauge:1', volumeMounts: [{ name: state, mountPath: /state }] }
      - name: press
        image: tides/press:1
        securityContext: { runAsUser: 1001 }
        volumeMounts: [{ name: state, mountPath: /data }]
  volumeClaimTemplates:
  - metadata: { name: state }
    spec: { accessModes: [ReadWriteOnce] }
";

/// What is on it; the group opens the first directory and its file.
const SCENE: &str = "\
scene: 1
workloads: [set.yaml]
volumes:
  state-tide-0:
    tree:
    - { path: /, kind: dir, owner: '0:0', mode: '0755' }
    - { path: /d, kind: dir, owner: '0:0', mode: '0700' }
    - { path: /d/f, owner: '0:0', mode: '0600' }
";

fn scratch() -> Scratch {
    Scratch::with("set.yaml", SET).and("tide.scene.yaml", SCENE)
}

#[test]
fn a_tree_that_a_group_may_reach_is_never_certain() {
    let scratch = scratch();
    let list = ["access", "-q", "tide.scene.yaml", "--tree", "--list", "--actor", "gauge"];
    assert_snapshot!(scratch.run(list), @"
    gauge: below /state
      mode                  owner  read       write      create     delete     list       enter      run        path
      dir not known         ?:?  -          -          ~yes       ~ENOTEMPTY ~yes       ~yes       -          /state/d
      file not known         ?:?  ~yes       ~yes       -          ~yes       -          -          EACCES     /state/d/f

    ~: usually so; `ask` says on what it rests.
    --- status 0
    ");
    assert_snapshot!(scratch.run(["access", "-q", "tide.scene.yaml", "--tree", "--actor", "gauge"]), @"
    gauge: 2 entries below /state
      act     outcome                   entries  directories  decided by
      read    usually allowed                 1            1  whether a directory above may be searched
      write   usually allowed                 1            1  whether a directory above may be searched
      create  usually allowed                 1            1  a missing fact
      delete  usually denied ENOTEMPTY        1            1  a missing fact
              usually allowed                 1            1  whether a directory above may be searched
      list    usually allowed                 1            1  a missing fact
      enter   usually allowed                 1            1  a missing fact

    as usual: the kubelet gives claim state-tide-0 to the filesystem group

    Assumed
      the root of image tides/gauge:1 is 0:0 0755
    --- status 0
    ");
    // That nothing is listed is not that nothing is there.
    let unknown = scratch.run(["access", "-q", "set.yaml", "--tree", "--actor", "gauge"]);
    assert!(unknown.starts_with("gauge: nothing is known of what is below /state\n"), "{unknown}");
    let rows = scratch.json([&list[..], &["--format", "json"]].concat());
    assert_eq!(rows["rows"][1]["write"], "depends");
    assert_eq!(rows["rows"][1]["usually"]["write"]["outcome"], "allowed");
    // What a line says of all of it is no more certain than that.
    let scratch = scratch.and("holds", "gauge writes /state/**\npress never writes /data/d/**\n");
    let held = scratch.run(["uphold", "-q", "tide.scene.yaml", "--expect", "holds"]);
    assert_eq!(held.matches("depends  ").count(), 2, "{held}");
}

#[test]
fn a_hand_off_over_a_new_claim_is_told_as_usual() {
    assert_snapshot!(scratch().run(["handoff", "-q", "set.yaml"]), @"
    claim state-tide-0  /data in press; /state in gauge
      creator  new file         gauge        press
      gauge    ~1000:2000 0644  .            ~r-dp/~r---
      press    ~1001:2000 0644  ~r-dp/~r---  .

      as usual: claim state-tide-0 is new and empty, on a disk, its root 0:0 0755; the kubelet gives claim state-tide-0 to the filesystem group

      actor  cannot          files of  because
      press  change          gauge     -rw-r--r-- 0644 1000:2000: group 2000 has r--, needed -w- (/data/new-of-gauge)
      press  delete replace  gauge     drwxr-sr-x 2755 1000:2000: group 2000 has r-x, needed -wx (/data/dir-of-gauge)
      gauge  change          press     -rw-r--r-- 0644 1001:2000: group 2000 has r--, needed -w- (/state/new-of-press)
      gauge  delete replace  press     drwxr-sr-x 2755 1001:2000: group 2000 has r-x, needed -wx (/state/dir-of-press)
      what would help: mivask remedy INPUT 'press writes what gauge makes in /state'

    r reads, c changes, d deletes, p replaces (renames a file of its own over it); - cannot, ? depends. First a file made there, behind the slash a file in a subdirectory made there. ~: usually so.

    Assumed
      after the filesystem-group step the volume's root is at least 2770; its owner is taken to be root
      no group of image tides/gauge:1 lists the user as a member (its group file is not given)
      no group of image tides/press:1 lists the user as a member (its group file is not given)
      the root of image tides/gauge:1 is 0:0 0755
      the root of image tides/press:1 is 0:0 0755
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
    let told = scratch().json(["handoff", "-q", "set.yaml", "--format", "json"]);
    let creation = &told["directories"][0]["creations"][0];
    assert_eq!(creation["outcome"], "depends");
    assert_eq!(creation["usually"]["file"]["gid"], 2000);
    assert_eq!(creation["consumers"][0]["file"]["change"]["usually"]["errno"], "EACCES");
    assert_eq!(told["directories"][0]["as_usual"][0]["rule"], "new-claim");
}

#[test]
fn a_part_of_a_new_claim_is_usually_shared() {
    let parts = SET.replace("mountPath: /state }", "mountPath: /state, subPath: x }");
    let scratch =
        Scratch::with("set.yaml", &parts.replace("mountPath: /data }", "mountPath: /data, subPath: x }"));
    let told = scratch.json(["handoff", "-q", "set.yaml", "--format", "json"]);
    let directory = &told["directories"][0];
    assert_eq!(directory["directory"], "/x");
    let creation = &directory["creations"][0];
    assert_eq!((&creation["outcome"], &creation["file"]), (&"depends".into(), &serde_json::Value::Null));
    assert_eq!(creation["why"], "depends on what claim state-tide-0 holds");
    assert_eq!(creation["usually"]["file"]["mode"], "0644");
    assert_eq!(creation["consumers"][0]["file"]["read"]["outcome"], "depends");
    assert_eq!(creation["consumers"][0]["file"]["read"]["usually"]["outcome"], "allowed");
    // Two parts are two directories.
    let scratch =
        Scratch::with("set.yaml", &parts.replace("mountPath: /data }", "mountPath: /data, subPath: z }"));
    let told = scratch.run(["handoff", "-q", "set.yaml"]);
    assert!(told.starts_with("No directory is known to be shared by two containers."), "{told}");
}

#[test]
fn a_finding_that_hangs_on_what_is_usual_says_so() {
    assert_snapshot!(scratch().run(["exposure", "-q", "tide.scene.yaml"]), @"
    low     group-shared /data /data/d /data/d/f /state and 2 more
            usually: any member of group 2000 (gauge, press) can rewrite what the others rely on
            drwxrwsr-x 2775 0:2000 on claim state-tide-0, by gauge, press  (set.yaml:9:70 securityContext.fsGroup)
    --- status 0
    ");
    let told = scratch().json(["exposure", "-q", "tide.scene.yaml", "--format", "json"]);
    assert_eq!(told["findings"][0]["usually"], true);
}

/// The part of a new claim that the kubelet makes is what it makes on the same claim whose files are told.
#[test]
fn a_part_of_a_new_claim_is_made_like_its_root() {
    for (group, path) in [("2000", "a"), ("2000", "a/b"), ("", "a"), ("", "a/b/c")] {
        let set = SET.replace("mountPath: /state", &format!("mountPath: /state, subPath: {path}"));
        let set = if group.is_empty() { set.replace(", fsGroup: 2000", "") } else { set };
        let told = SCENE
            .lines()
            .take(6)
            .collect::<Vec<_>>()
            .join("\n")
            .replace("    tree:", "    group-ownership: apply\n    tree:");
        let scratch = Scratch::with("set.yaml", &set).and("told.yaml", format!("{told}\n"));
        for act in ["gauge creates /state/x", "gauge makes-directory /state/x", "gauge lists /state"] {
            let usual = scratch.json(["ask", "-q", "set.yaml", act, "--format", "json"]);
            let certain = scratch.json(["ask", "-q", "told.yaml", act, "--format", "json"]);
            let (usual, certain) = (&usual["acts"][0], &certain["acts"][0]);
            assert_eq!(usual["outcome"], "depends", "{path} {act}");
            for field in ["outcome", "errno", "imprint"] {
                assert_eq!(
                    usual["usually"][field], certain[field],
                    "{group} {path} {act}: {usual:#} {certain:#}"
                );
            }
        }
    }
}

#[test]
fn a_draft_has_what_was_given_beside_the_description() {
    let compose = "\
services:
  gauge: { image: 'tides/gauge:3', volumes: ['store:/store', '/srv/tides:/tides', '/srv/other:/other'] }
  press: { image: 'tides/press:1' }
volumes: { store: }
";
    let listing = "drwxr-xr-x 2 7101 7200 4096 Nov  1 10:00 d\n";
    let scratch = Scratch::with("compose.yaml", compose).and("store.txt", listing).and("tides.txt", listing);
    std::fs::create_dir(scratch.path().join("press")).expect("a new folder");
    let given = [
        "--disk",
        "store=store.txt",
        "--disk",
        "host:/srv/tides=tides.txt",
        "--image",
        "tides/press:1=press",
        "--runtime",
        "podman",
    ];
    let drafted = scratch.run([&["draft", "compose.yaml"][..], &given].concat());
    assert_snapshot!(drafted, @r#"
    # A scene: what runs, and the facts that decide who can do what to which files.
    # Take the `#` away in front of what you fill in; what stays away is unknown, and answers say so.
    scene: 1
    workloads:
      - compose.yaml
    runtime: podman

    images:
      "tides/press:1":
        from: press
    #   "tides/gauge:3":   # run by gauge
    #     from: tides-gauge-3.tar   # all at once: an archive that an engine saved, an OCI layout, a root file system
    #     # or each by itself:
    #     # user: "UID:GID"   # its USER; null where it has none
    #     # accounts: { passwd: passwd, group: group }   # copies of its /etc/passwd and /etc/group
    #     # tree: tides-gauge-3.survey   # its files

    volumes:
      store:
        tree: store.txt

    host:
      trees:   # what is at the paths of the host that are mounted
        /srv/tides: tides.txt
    #     /srv/other: srv-other.survey
    #   mounts: mountinfo   # a copy of its /proc/self/mountinfo

    # What is to hold, for `mivask uphold`.
    # expect:
    #   - gauge writes /store
    --- status 0
    "#);
    let drafted = scratch.run([&["draft", "compose.yaml", "-o", "s.yaml"][..], &given].concat());
    assert!(drafted.ends_with("--- status 0"), "{drafted}");
    // It answers the same as the description with its options.
    let with = [&["access", "-q", "--format", "json", "compose.yaml"][..], &given].concat();
    assert_eq!(scratch.json(with), scratch.json(["access", "-q", "--format", "json", "s.yaml"]));
}
