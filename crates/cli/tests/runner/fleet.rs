//! Datasets of many volumes: asked by every command, and judged for engines that answer SQL. tools/fleet-agreement holds every row of a
//! large one against these answers.

use std::collections::BTreeSet;
use std::fs::File;

use insta::assert_snapshot;
use parquet::file::reader::{FileReader, SerializedFileReader};

use crate::scratch::Scratch;

/// One claim name in two namespaces, with a part of it, and a mount in it.
const PODS: &str = "\
apiVersion: v1
kind: Pod
metadata: { name: web, namespace: shop }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7101, runAsGroup: 7101 }
  containers:
    - { name: all, image: a, volumeMounts: [{ name: d, mountPath: /d }, { name: e, mountPath: /d/new }] }
    - { name: part, image: a, volumeMounts: [{ name: d, mountPath: /p, subPath: keys }] }
  volumes: [{ name: d, persistentVolumeClaim: { claimName: data } }, { name: e, emptyDir: {} }]
---
apiVersion: v1
kind: Pod
metadata: { name: web, namespace: depot }
spec:
  automountServiceAccountToken: false
  securityContext: { runAsUser: 7101, runAsGroup: 7101 }
  containers: [{ name: lone, image: a, volumeMounts: [{ name: d, mountPath: /d }, { name: f, mountPath: /f }] }]
  volumes: [{ name: d, persistentVolumeClaim: { claimName: data } }, { name: f, persistentVolumeClaim: { claimName: else } }]
";

const SCENE: &str = "\
scene: 1
workloads: [pods.yaml]
images: { a: { user: null, accounts: null, tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }] } }
volumes: { data: { filesystem: ext4, group-ownership: apply } }
";

const SHOP: &str = "#mtree
. type=dir uid=7101 gid=7101 mode=0755
./keys type=dir uid=7101 gid=7101 mode=0700
./keys/a.key type=file uid=7101 gid=7101 mode=0600
./keys/b.key type=file uid=7102 gid=7102 mode=0600
./new type=dir uid=0 gid=0 mode=0700
./new/hidden type=file uid=7101 gid=7101 mode=0666
./run type=file uid=0 gid=0 mode=0755
";

const DEPOT: &str = "#mtree
. type=dir uid=0 gid=0 mode=0755
./keys type=dir uid=0 gid=0 mode=0700
./keys/a.key type=file uid=7101 gid=7101 mode=0600
";

fn fleet() -> Scratch {
    let scratch = Scratch::with("s.yaml", SCENE)
        .and("pods.yaml", PODS)
        .and("shop.mtree", SHOP)
        .and("depot.mtree", DEPOT);
    for (source, volume, date) in [
        ("depot.mtree", "shop.data", "2026-11-30"),
        ("shop.mtree", "shop.data", "2026-12-01"),
        ("depot.mtree", "depot.data", "2026-12-01"),
    ] {
        let words = ["survey", source, "--to", "dataset", "-o", "fleet", "--volume", volume, "--date", date];
        assert!(scratch.run(words).ends_with("--- status 0"));
    }
    scratch
}

/// Columns of a table, a row a line.
pub(crate) fn table(scratch: &Scratch, name: &str, columns: &[&str]) -> BTreeSet<String> {
    let path = scratch.path().join(format!("out/{name}/part.parquet"));
    let reader = SerializedFileReader::new(File::open(path).expect("a table")).expect("Parquet");
    let rows = reader.get_row_iter(None).expect("rows").map(|row| {
        let fields: Vec<_> = row.expect("a row").into_columns();
        let of = |column: &&str| {
            fields.iter().find(|(name, _)| name == column).map(|(_, field)| field.to_string())
        };
        let cells: Vec<String> = columns.iter().map(|column| of(column).expect("a column")).collect();
        cells.join(" ").replace('"', "")
    });
    rows.collect()
}

#[test]
fn every_command_asks_a_dataset() {
    let scratch = fleet();
    assert_snapshot!(scratch.run(["access", "s.yaml", "/d/keys/a.key", "--actor", "all", "--actor", "lone", "--dataset", "fleet", "-q"]), @"
    all
      path           owner      mode             read  write  create  delete  list  enter  run
      /d/keys/a.key  7101:7101  -rw------- 0600  yes   yes    -       yes     -     -      EACCES

    lone
      path           owner      mode             read    write   create  delete  list  enter  run
      /d/keys/a.key  7101:7101  -rw------- 0600  EACCES  EACCES  -       EACCES  -     -      EACCES

    read, write, run: the file; list, enter: the directory; create: a new entry in it; delete: the path itself.
    --- status 0
    ");
    let from_dataset =
        scratch.run(["access", "s.yaml", "--tree", "--list", "--actor", "all", "--dataset", "fleet", "-q"]);
    let from_disk = scratch.run([
        "access",
        "s.yaml",
        "--tree",
        "--list",
        "--actor",
        "all",
        "--disk",
        "shop/data=shop.mtree",
        "-q",
    ]);
    assert_eq!(from_dataset, from_disk);
    // Another day, and only some volumes.
    assert_snapshot!(scratch.run(["ask", "s.yaml", "all reads /d/run", "lone reads /d/keys", "--dataset", "fleet", "--date", "2026-11-30", "--only-volume", "shop.data", "-q"]), @"
    denied ENOENT  all reads /d/run
                   /d/run: no such entry
    depends        lone reads /d/keys
                   denied EACCES  when owner and mode of /d do not give lone --x, or owner and mode of /d/keys do not give lone r--
                   denied ENOENT  when /d/keys is missing
                   allowed        otherwise
                   to settle it: give `volumes: { data: { tree: ... } }` in a scene file

    Assumed
      no file has an ACL: mtree does not show that
      what is not listed is of the kind the act needs, a file or a directory, and neither immutable nor append-only
    --- status 0
    ");
    assert_snapshot!(scratch.run(["exposure", "s.yaml", "--dataset", "fleet", "-q"]), @"
    medium  world-writable /d/new
            whoever reaches it can remove or replace everyone else's files there
            drwxrwxrwx 0777 0:0 on emptyDir e, by all  (the kubelet makes an emptyDir 0:0 0777)
    --- status 0
    ");
}

#[test]
fn a_scene_tells_of_a_claim_of_one_namespace() {
    let one = "volumes: { data: { filesystem: ext4, tree: shop.mtree }, depot/data: { filesystem: ext4, tree: depot.mtree } }";
    let scratch = fleet().and("t.yaml", SCENE.lines().take(3).collect::<Vec<_>>().join("\n") + "\n" + one);
    assert_snapshot!(scratch.run(["ask", "t.yaml", "all enters /d/keys", "lone enters /d/keys", "-q"]), @"
    allowed        all enters /d/keys
    denied EACCES  lone enters /d/keys
                   /d/keys: drwx------ 0700 0:0: other has ---, needed --x

    Assumed
      no file has an ACL: mtree does not show that
    --- status 0
    ");
}

#[test]
fn verdicts_are_small_tables() {
    let scratch = fleet();
    let said = scratch.run([
        "verdicts",
        "s.yaml",
        "--dataset",
        "fleet",
        "-o",
        "out",
        "--change",
        "all becomes 7102",
    ]);
    // How small a table is when it is compressed is not ours to say.
    let (count, rest) = said.split_once(", ").expect("a sum");
    assert_eq!(count, "3 actors on 2 volumes: 64 verdicts in 4 views");
    let rest = rest.split_once(" bytes").expect("a size").1;
    assert_snapshot!(rest, @"
     in out
    --- standard error
    note: what is behind its claims is not in the input: a cluster that runs this can tell
     --> pods.yaml:19:78 volumes.name
      = help: pipe `... get pod,pvc,pv,storageclass,csidriver,configmap,secret,serviceaccount -n depot -o yaml` into this command, with `-` in place of the file and your cluster's client for the dots

    note: the dataset has no claim else: nothing is said of what is there
    --- status 0
    ");
    let actors = ["state", "namespace", "actor", "uid", "volume", "date", "mounted_at", "shows", "reason"];
    let actors: Vec<String> = table(&scratch, "actors", &actors).into_iter().collect();
    assert_snapshot!(actors.join("\n"), @"
    changed depot lone 7101 depot.data 2026-12-01 /d / null
    changed shop all 7102 shop.data 2026-12-01 /d / null
    changed shop part 7101 shop.data 2026-12-01 /p /keys null
    given depot lone 7101 depot.data 2026-12-01 /d / null
    given shop all 7101 shop.data 2026-12-01 /d / null
    given shop part 7101 shop.data 2026-12-01 /p /keys null
    ");
    let regions: Vec<String> =
        table(&scratch, "regions", &["volume", "date", "region", "around"]).into_iter().collect();
    assert_snapshot!(regions.join("\n"), @"
    depot.data 2026-12-01 / null
    shop.data 2026-12-01 / null
    shop.data 2026-12-01 /keys /
    shop.data 2026-12-01 /new /
    ");
    let verdicts = table(&scratch, "verdicts", &["region", "act", "outcome", "errno", "decided_by"]);
    assert!(verdicts.contains("/keys read denied EACCES other-bits"), "{verdicts:#?}");
    // What is hidden by a mount is not judged, and nothing half-written is left.
    assert!(!verdicts.iter().any(|row| row.starts_with("/new ")), "{verdicts:#?}");
    let again = scratch.run(["verdicts", "s.yaml", "--dataset", "fleet", "-o", "out"]);
    assert!(again.ends_with("--- status 0"), "{again}");
    assert!(!table(&scratch, "actors", &["state"]).contains("changed"));
    let left = std::fs::read_dir(scratch.path().join("out/actors")).expect("a folder").count();
    assert_eq!(left, 1);
}

#[test]
fn another_description_is_a_second_state() {
    let scratch = fleet();
    let other = PODS.replace("runAsUser: 7101", "runAsUser: 10001");
    let scratch = scratch.and("next.yaml", SCENE.replace("pods.yaml", "other.yaml")).and("other.yaml", other);
    let words = ["verdicts", "s.yaml", "--against", "next.yaml", "--dataset", "fleet", "-o", "out", "-q"];
    assert!(scratch.run(words).ends_with("--- status 0"));
    let states = table(&scratch, "actors", &["state", "input", "uid"]);
    let expected = ["changed next.yaml 10001", "given s.yaml 7101"].map(str::to_owned);
    assert_eq!(states, BTreeSet::from(expected));
    // Actors of one name are told apart by the description, which has one number in both states.
    let words = [
        "verdicts",
        "s.yaml",
        "next.yaml",
        "--dataset",
        "fleet",
        "-o",
        "out",
        "-q",
        "--change",
        "all becomes 5",
    ];
    assert!(scratch.run(words).ends_with("--- status 0"));
    let parts = table(&scratch, "actors", &["part", "state", "input"]);
    let expected = ["0 changed s.yaml", "0 given s.yaml", "1 changed next.yaml", "1 given next.yaml"];
    assert_eq!(parts, BTreeSet::from(expected.map(str::to_owned)));
    assert_snapshot!(scratch.run(["verdicts", "s.yaml", "next.yaml", "--against", "next.yaml", "--dataset", "fleet", "-o", "out"]), @"
    --- standard error
    error: there are 2 descriptions and 1 with --against: name one for each, in the same order
    --- status 2
    ");
}

/// A survey that failed has no day, and what a run that was killed left goes with the next one.
#[test]
fn what_was_not_finished_is_not_there() {
    let scratch = fleet();
    let day = scratch.path().join("fleet/entries/volume=shop.data/date=2026-12-05");
    std::fs::create_dir_all(&day).expect("it is ours");
    let left = scratch.path().join("fleet/.mivask-a1B2c3");
    std::fs::write(&left, "half").expect("it is ours");
    let words = ["access", "s.yaml", "/d/run", "--actor", "all", "--dataset", "fleet", "-q"];
    assert!(scratch.run(words).contains("-rwxr-xr-x 0755"));
    scratch.run(["survey", "shop.mtree", "--to", "dataset", "-o", "fleet", "--volume", "other"]);
    assert!(!left.exists());
}

#[test]
fn what_is_wrong_with_a_dataset_is_told() {
    let scratch = fleet();
    let said = |words: &[&str]| scratch.run([&["verdicts", "s.yaml", "-o", "out", "-q"], words].concat());
    assert_snapshot!(said(&[]), @"
    --- standard error
    error: name the folder of the dataset with --dataset, such as --dataset /srv/fleet
    --- status 2
    ");
    assert_snapshot!(said(&["--dataset", "nowhere"]), @"
    --- standard error
    error: nowhere/entries: cannot be read: No such file or directory (os error 2)
      help: name the folder that `survey --to dataset -o` wrote to
    --- status 2
    ");
    assert_snapshot!(said(&["--dataset", "fleet", "--date", "2026-12-09"]), @"
    --- standard error
    error: fleet: there is no survey of volume depot.data of 2026-12-09: there are 2026-12-01
    --- status 2
    ");
    assert_snapshot!(said(&["--dataset", "fleet", "--date", "soon"]), @"
    --- standard error
    error: `soon` is not a date: write it as 2026-12-01
    --- status 2
    ");
    assert_snapshot!(said(&["--dataset", "fleet", "--only-volume", "data"]), @"
    --- standard error
    error: the dataset has no volume data: it has depot.data, shop.data
    --- status 2
    ");
    assert_snapshot!(said(&["--dataset", "fleet", "--change", "nobody becomes 5"]), @"
    --- standard error
    error: there is no actor `nobody` in this scene; there is all, part, lone
    --- status 2
    ");
    assert_snapshot!(said(&["--dataset", "fleet", "--change", "all sets-mode 0777 on /d"]), @"
    --- standard error
    error: a change of files needs their names, which verdicts do not have: make it, take the surveys again, or ask `compare --dataset`
    --- status 2
    ");
    let file = scratch.path().join("fleet/entries/volume=shop.data/date=2026-12-01/part.parquet");
    let mut bytes = std::fs::read(&file).expect("a file");
    bytes[100] ^= 1;
    std::fs::write(&file, bytes).expect("it is ours");
    assert_snapshot!(said(&["--dataset", "fleet"]), @"
    --- standard error
    error: fleet/entries/volume=shop.data/date=2026-12-01/part.parquet: it is damaged: it is not what was written
      help: take the survey of this volume again
    --- status 2
    ");
    assert!(!scratch.path().join("out").exists());
}

#[test]
fn a_dataset_has_volumes_and_days() {
    let scratch = Scratch::with("readings.mtree", SHOP);
    let written = scratch.run([
        "survey",
        "readings.mtree",
        "--to",
        "dataset",
        "-o",
        "fleet",
        "--volume",
        "readings",
        "--date",
        "2026-12-01",
    ]);
    assert!(written.contains("volume readings of 2026-12-01 in fleet"), "{written}");
    assert!(scratch.path().join("fleet/entries/volume=readings/date=2026-12-01/part.parquet").is_file());
    let said =
        |words: &[&str]| scratch.run([&["survey", "readings.mtree", "--to", "dataset"], words].concat());
    assert_snapshot!(said(&[]), @"
    --- standard error
    error: name the folder of the dataset with -o, such as -o /srv/fleet
    --- status 2
    ");
    assert_snapshot!(said(&["-o", "fleet"]), @"
    --- standard error
    error: name the volume in the dataset with --volume, such as --volume readings
    --- status 2
    ");
    assert_snapshot!(scratch.run(["survey", "readings.mtree", "-o", "f.survey", "--volume", "a"]), @"
    --- standard error
    error: --volume names a volume of a dataset: add --to dataset, or leave it out
    --- status 2
    ");
    assert_snapshot!(said(&["-o", "fleet", "--volume", "a/b"]), @"
    --- standard error
    error: a volume of a dataset is named by 1 to 200 letters, digits, `.`, `_` and `-`, and begins with a letter or digit
    --- status 2
    ");
    assert_snapshot!(said(&["-o", "fleet", "--volume", "a", "--date", "1st"]), @"
    --- standard error
    error: `1st` is not a date: write it as 2026-12-01
    --- status 2
    ");
    assert_snapshot!(said(&["-o", "fleet", "--volume", "a", "--date", "../../.."]), @"
    --- standard error
    error: `../../..` is not a date: write it as 2026-12-01
    --- status 2
    ");
}

#[test]
fn a_volume_that_nobody_mounts_is_named() {
    let scratch = fleet();
    let verdicts = ["verdicts", "s.yaml", "--dataset", "fleet", "-o", "out"];
    assert!(!scratch.run(verdicts).contains("nobody who is described"));
    let words = ["survey", "shop.mtree", "--to", "dataset", "-o", "fleet", "--volume", "spare"];
    assert!(scratch.run(words).ends_with("--- status 0"));
    let note = "note: nobody who is described mounts spare: there are no verdicts about it\n";
    assert!(scratch.run(verdicts).contains(note));
    // Something else tells of a volume that is mounted.
    let told = scratch.run([&verdicts[..], &["--disk", "shop/data=shop.mtree"]].concat());
    assert!(told.contains(note), "{told}");
}
