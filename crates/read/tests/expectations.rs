//! Expectations over many actors and paths, case by case, with what speaks against each.

mod fixtures;

use mivask_core::expect::{Expected, Upheld, parse_expectation_line, uphold};
use mivask_core::fact::Provenance;
use mivask_core::glob::{Globs, Matcher, PatternError};
use mivask_core::stage::Stage;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Origin, read_described};

use fixtures::{Memory, stage};

/// `*` for anything within a name, `**` for anything; enough for these tests.
#[derive(Debug)]
struct Stars;

impl Globs for Stars {
    fn matcher(&self, pattern: &[u8]) -> Result<Matcher, PatternError> {
        let pattern = pattern.to_vec();
        Ok(Box::new(move |text| fits(&pattern, text)))
    }
}

fn fits(pattern: &[u8], text: &[u8]) -> bool {
    match pattern {
        [] => text.is_empty(),
        [b'*', b'*', rest @ ..] => (0..=text.len()).any(|at| fits(rest, &text[at..])),
        [b'*', rest @ ..] => {
            let own = text.iter().position(|byte| *byte == b'/').unwrap_or(text.len());
            (0..=own).any(|at| fits(rest, &text[at..]))
        }
        [first, rest @ ..] => text.first() == Some(first) && fits(rest, &text[1..]),
    }
}

const HARBOUR: &str = "\
scene: 1
volumes:
  hold:
    filesystem: ext4
    tree:
      - { path: /, kind: dir, owner: '0:500', mode: 2775 }
      - { path: /log, owner: '101:500', mode: 0644 }
      - { path: /keys, kind: dir, owner: '101:101', mode: 0700 }
      - { path: /keys/id, owner: '101:101', mode: 0600 }
      - { path: /tool, owner: '0:0', mode: 0755, content: program }
  dim: {}
images:
  i:
    user: null
    accounts: null
    tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /etc, kind: dir, owner: '0:0', mode: 0755 }, { path: /etc/motd, owner: '0:0', mode: 0644 }]
containers:
  - { name: mate, image: i, user: '101:101', groups: [500], mounts: [{ volume: hold, at: /hold }] }
  - { name: cook, image: i, user: '102:102', groups: [500], umask: '0002', mounts: [{ volume: hold, at: /stores }] }
  - { name: pilot, image: i, user: '103:103', mounts: [{ volume: hold, at: /hold, read-only: true }] }
  - { name: owner, image: i, user: '0:0', mounts: [{ volume: hold, at: /hold }] }
  - { name: lost, user: '9:9', mounts: [{ volume: dim, at: /x }] }
";

fn held_in(stage: &Stage, line: &str) -> Upheld {
    let claim = parse_expectation_line(line).unwrap_or_else(|error| panic!("{line}: {error}"));
    let expected =
        Expected { claim, text: line.to_owned(), from: Provenance::rule("this test"), unnamed: false };
    uphold(stage, &expected, &Stars).expect("a pattern")
}

/// The standing, how much was looked at, and what speaks against it.
fn told(line: &str) -> String {
    let held = held_in(&stage("s.yaml", &[("s.yaml", HARBOUR)]), line);
    let against = held.against.iter().map(|one| format!("; {}: {} [{}]", one.asked, one.found, one.from));
    format!("{} of {}{}", held.standing.word(), held.checked, against.collect::<String>())
}

#[test]
fn each_claim_stands_or_falls_by_the_right_fact() {
    let mut wrong = Vec::new();
    for (line, expected) in [
        // One act, as it is.
        ("mate writes /hold/log", "holds of 1"),
        ("mate writes /hold", "broken of 1; mate writes /hold: denied EISDIR [s.yaml:6:9 tree]"),
        ("cook writes /stores/log -> denied EACCES", "holds of 1"),
        ("cook writes /stores/log", "broken of 1; cook writes /stores/log: denied EACCES [s.yaml:7:9 tree]"),
        ("cook creates /stores/x -> leaves 102:500 0664", "holds of 1"),
        ("cook creates /stores/x -> leaves *:500 *", "holds of 1"),
        (
            "cook creates /stores/x -> leaves 102:500 0644",
            "broken of 1; cook creates /stores/x: leaves 102:500 0664 [s.yaml:19:68 containers.umask]",
        ),
        (
            "mate creates /hold/x -> leaves 101:101 0644",
            "broken of 1; mate creates /hold/x: leaves 101:500 0644 [s.yaml:6:9 tree]",
        ),
        (
            "mate creates /hold/keys/x -> leaves 102:101 0644",
            "broken of 1; mate creates /hold/keys/x: leaves 101:101 0644 [s.yaml:18:35 containers.user]",
        ),
        // Several of them, each as it is.
        ("mate, owner read /hold/keys/id", "holds of 2"),
        (
            "*o* read /hold/log -> allowed",
            "broken of 4; cook reads /hold/log: denied ENOENT [s.yaml:16:12 tree]; lost reads /hold/log: depends (allowed or denied EACCES or denied ENOENT) [unknown: what image of container lost holds]",
        ),
        // Patterns: /hold/** is /hold too, and writing to a directory is creating in it.
        ("pilot never writes /hold/**", "holds of 5"),
        ("mate, pilot never write /etc/**", "holds of 4"),
        (
            "mate never writes /hold/**",
            "broken of 5; mate creates /hold/new: allowed [s.yaml:6:9 tree]; mate creates /hold/keys/new: allowed [s.yaml:8:9 tree]; mate writes /hold/keys/id: allowed [s.yaml:9:9 tree]; mate writes /hold/log: allowed [s.yaml:7:9 tree]",
        ),
        (
            "mate never writes /hold/** except /hold/keys/**, /hold/log",
            "broken of 2; mate creates /hold/new: allowed [s.yaml:6:9 tree]",
        ),
        (
            "mate never writes /hold/*",
            "broken of 3; mate creates /hold/keys/new: allowed [s.yaml:8:9 tree]; mate writes /hold/log: allowed [s.yaml:7:9 tree]",
        ),
        (
            "* except owner, lost never runs /hold/tool",
            "broken of 3; mate runs /hold/tool: allowed [s.yaml:10:9 tree]; pilot runs /hold/tool: allowed [s.yaml:10:9 tree]",
        ),
        ("pilot never deletes /hold/**", "holds of 5"),
        ("mate reads /hold/**", "holds of 5"),
        ("pilot reads /hold/** except /hold/keys/**", "holds of 3"),
        (
            "pilot reads /hold/keys/**",
            "broken of 2; pilot lists /hold/keys: denied EACCES [s.yaml:8:9 tree]; pilot reads /hold/keys/id: denied EACCES [s.yaml:8:9 tree]",
        ),
        ("pilot reads /hold/keys/id -> denied EACCES", "holds of 1"),
        (
            "pilot reads /hold/keys/* -> denied EPERM",
            "broken of 1; pilot reads /hold/keys/id: denied EACCES [s.yaml:8:9 tree]",
        ),
        ("mate enters /hold/**", "holds of 2"),
        (
            "mate never sets-mode 0777 on /hold/**",
            "broken of 5; mate sets-mode 0777 on /hold/keys: allowed [s.yaml:8:9 tree]; mate sets-mode 0777 on /hold/keys/id: allowed [s.yaml:9:9 tree]; mate sets-mode 0777 on /hold/log: allowed [s.yaml:7:9 tree]",
        ),
        ("mate creates /hold/** -> leaves 101:* 0644", "holds of 2"),
        // `only` goes by the files themselves, wherever they are mounted, and says nothing of those it names.
        ("only mate, cook, owner write /hold/**", "holds of 5"),
        (
            "only owner writes /hold/**",
            "broken of 15; mate creates /hold/new: allowed [s.yaml:6:9 tree]; mate creates /hold/keys/new: allowed [s.yaml:8:9 tree]; mate writes /hold/keys/id: allowed [s.yaml:9:9 tree]; mate writes /hold/log: allowed [s.yaml:7:9 tree]; cook creates /stores/new: allowed [s.yaml:6:9 tree]",
        ),
        ("only mate, owner read /hold/keys/**", "holds of 4"),
        ("only mate, owner read /hold/keys/id", "holds of 2"),
        (
            "only owner creates /hold/keys/more",
            "broken of 3; mate creates /hold/keys/more: allowed [s.yaml:8:9 tree]",
        ),
        ("only lost reads /x/**", "meets-nothing of 0"),
        // Limits.
        (
            "/hold/keys/** at-most 0700 owned-by 101",
            "depends of 7; /hold/keys as lost sees it: depends [unknown: what is at /hold/keys]",
        ),
        (
            "mate /hold/* at-most 0700",
            "broken of 3; /hold/log as mate sees it: wider than 0700 [s.yaml:7:9 tree]; /hold/tool as mate sees it: wider than 0700 [s.yaml:10:9 tree]",
        ),
        (
            "mate /hold/log at-most 0644 owned-by 0",
            "broken of 1; /hold/log as mate sees it: not owned by 0 [s.yaml:7:9 tree]",
        ),
        // No one, nowhere.
        ("mate never writes /nowhere/**", "holds of 0"),
        ("mate writes /nowhere/**", "meets-nothing of 0"),
        ("bosun* never writes /hold/**", "meets-nothing of 0"),
        // What is not given is neither.
        (
            "lost never writes /x/**",
            "depends of 2; lost creates /x/new: depends (denied EEXIST or allowed or denied EACCES) [unknown: what volume dim holds]; lost writes /x/*: depends (allowed or denied EACCES or denied ENOENT) [unknown: what volume dim holds]",
        ),
        (
            "lost reads /etc/motd",
            "depends of 1; lost reads /etc/motd: depends (allowed or denied EACCES or denied ENOENT) [unknown: what image of container lost holds]",
        ),
        ("lost /x at-most 0700", "depends of 1; /x as lost sees it: depends [unknown: owner and mode of /x]"),
    ] {
        let found = told(line);
        if found != expected {
            wrong.push(format!("{line}\n  {found}\n  {expected}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn much_against_it_is_counted() {
    let many: String =
        (0..40).map(|number| format!("      - {{ path: /f{number}, owner: '0:0', mode: 0666 }}\n")).collect();
    let scene = HARBOUR.replace("  dim: {}\n", &format!("{many}  dim: {{}}\n"));
    let held = held_in(&stage("s.yaml", &[("s.yaml", &scene)]), "pilot, mate never write /hold/f*");
    assert_eq!((held.checked, held.against.len(), held.more), (80, 10, 30));
}

#[test]
fn a_scene_holds_its_expectations_in_three_ways() {
    let listed = format!("{HARBOUR}expect:\n  - mate writes /hold/log\n  - '* never writes /etc/**'\n");
    let block =
        format!("{HARBOUR}expect: |\n  # the crew\n  mate writes /hold/log\n\n  * never writes /etc/**\n");
    let file = format!("{HARBOUR}expect: crew.acts\n");
    let acts = ("crew.acts", "# the crew\nmate writes /hold/log # always\n* never writes /etc/**\n");
    for (scene, places) in [
        (listed, ["s.yaml:24:5 expect", "s.yaml:25:5 expect"]),
        (block, ["s.yaml:25:3 expect", "s.yaml:27:3 expect"]),
        (file, ["crew.acts:2:1 expectation", "crew.acts:3:1 expectation"]),
    ] {
        let (origin, files) = (Origin::File("s.yaml".into()), Memory::new(&[("s.yaml", &scene), acts]));
        let described = read_described(&origin, &files, &mut Diagnostics::default()).expect("it can be read");
        let expectations = &described.policy.expectations;
        let found: Vec<_> = expectations.iter().map(|one| (one.to_string(), one.from.to_string())).collect();
        assert_eq!(found[0], ("mate writes /hold/log".to_owned(), places[0].to_owned()));
        assert_eq!(found[1], ("* never writes /etc/**".to_owned(), places[1].to_owned()));
    }
}

/// Two workloads with a container of one name, an image whose user is not given, links, and one volume in parts.
const FLEET: &str = "\
apiVersion: v1
kind: Pod
metadata: { name: north }
spec:
  automountServiceAccountToken: false
  containers:
  - { name: crew, image: boats/crew:1, securityContext: { runAsUser: 101, runAsGroup: 101 }, volumeMounts: [{ name: log, mountPath: /log }, { name: log, mountPath: /part, subPath: keys }] }
  volumes: [{ name: log, persistentVolumeClaim: { claimName: log } }]
---
apiVersion: v1
kind: Pod
metadata: { name: south }
spec:
  automountServiceAccountToken: false
  containers:
  - { name: crew, image: boats/crew:1, volumeMounts: [{ name: log, mountPath: /in }] }
  - { name: cat, image: boats/crew:1, securityContext: { runAsUser: 0, runAsNonRoot: true }, volumeMounts: [{ name: log, mountPath: /in }] }
  volumes: [{ name: log, persistentVolumeClaim: { claimName: log } }]
";

const FLEET_SCENE: &str = "\
scene: 1
workloads: [fleet.yaml]
images:
  boats/crew:1:
    accounts: null
    tree: [{ path: /, kind: dir, owner: '0:0', mode: 0755 }, { path: /etc, kind: dir, owner: '0:0', mode: 0755 }, { path: /etc/motd, owner: '0:0', mode: 0644 }]
volumes:
  log:
    filesystem: ext4
    group-ownership: skip
    tree:
      - { path: /, kind: dir, owner: '101:101', mode: 0755 }
      - { path: /a.csv, owner: '101:101', mode: 0644 }
      - { path: /now, kind: link, owner: '101:101', target: a.csv }
      - { path: /up, kind: link, owner: '101:101', target: keys }
      - { path: /keys, kind: dir, owner: '0:0', mode: 0755 }
      - { path: /keys/id, owner: '0:0', mode: 0600 }
      - { path: '/odd*', owner: '101:101', mode: 0600 }
";

fn in_fleet(line: &str) -> String {
    let held = held_in(&stage("s.yaml", &[("s.yaml", FLEET_SCENE), ("fleet.yaml", FLEET)]), line);
    let against = held.against.iter().map(|one| format!("; {}: {}", one.asked, one.found));
    format!("{} of {}{}", held.standing.word(), held.checked, against.collect::<String>())
}

#[test]
fn names_links_parts_and_unknown_users_are_met_as_they_are_meant() {
    let mut wrong = Vec::new();
    for (line, expected) in [
        // A name that two have means both, the workload's name only one, a pattern any.
        ("crew reads /etc/motd", "holds of 2"),
        ("north/crew writes /log/a.csv", "holds of 1"),
        ("*/crew read /etc/motd", "holds of 2"),
        ("south/* read /etc/motd", "broken of 2; cat reads /etc/motd: never runs"),
        // One who never runs is denied everything.
        ("cat never reads /**", "holds of 1"),
        ("cat reads /in/a.csv -> denied", "holds of 1"),
        // A link is what it points at; what is behind a link to a directory is met once, under its own name.
        ("north/crew never writes /log/now", "broken of 1; north/crew writes /log/now: allowed"),
        ("north/crew reads /log/** except /log/keys/**", "holds of 5"),
        // The same directory twice, by its own mount and within the whole.
        ("north/crew lists /log/keys/**", "holds of 1"),
        ("north/crew lists /part/**", "holds of 1"),
        // What the kernel shows of itself is met only where a pattern begins there.
        ("north/crew never reads /**/id", "holds of 2"),
        ("north/crew never writes /dev/nu*", "broken of 1; north/crew writes /dev/null: allowed"),
        // A name with a star in it, as it is.
        ("north/crew reads \"/log/odd*\"", "holds of 1"),
        // A container whose image's user is not given may be root or not.
        (
            "south/crew never writes /in/a.csv",
            "depends of 1; south/crew writes /in/a.csv: depends (allowed or denied EACCES)",
        ),
        ("south/crew never runs /etc/motd", "holds of 1"),
        (
            "south/crew never writes /in/keys/**",
            "depends of 2; south/crew creates /in/keys/new: depends (allowed or denied EACCES); south/crew writes /in/keys/id: depends (allowed or denied EACCES)",
        ),
        // Through the part that is mounted alone.
        ("only south/crew, cat read /in/keys/id", "holds of 2"),
        (
            "only south/crew, cat list /in/keys",
            "broken of 2; north/crew lists /log/keys: allowed; north/crew lists /part: allowed",
        ),
        ("only south/crew creates /in/new.csv", "broken of 2; north/crew creates /log/new.csv: allowed"),
        // What changes files takes the same patterns.
        ("north/crew sets-mode 0600 on /log/a* -> leaves 101:101 0600", "holds of 1"),
        ("north/crew sets-owner 0 on /log/* -> denied EPERM", "holds of 5"),
        (
            "north/crew makes-directory /log/** -> allowed",
            "broken of 2; north/crew makes-directory /log/keys/new: denied EACCES",
        ),
    ] {
        let found = in_fleet(line);
        if found != expected {
            wrong.push(format!("{line}\n  {found}\n  {expected}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Each pod has the claim prepared in its own way, and it is one disk all the same; a scratch volume of one name is not.
#[test]
fn a_claim_of_two_pods_is_one_disk() {
    let pods = FLEET
        .replacen("spec:\n", "spec:\n  securityContext: { fsGroup: 700 }\n", 1)
        .replace("volumes: [{", "volumes: [{ name: spare, emptyDir: {} }, {")
        .replace("mountPath: /log }", "mountPath: /log }, { name: spare, mountPath: /spare }")
        .replace("mountPath: /in }", "mountPath: /in }, { name: spare, mountPath: /spare }");
    let scene = FLEET_SCENE.replace("group-ownership: skip", "group-ownership: apply");
    let stage = stage("s.yaml", &[("s.yaml", &scene), ("fleet.yaml", &pods)]);
    for (line, expected) in [
        (
            "only north/crew writes /log/a.csv",
            "south/crew writes /in/a.csv: depends (allowed or denied EACCES)",
        ),
        ("only north/crew writes /spare/**", ""),
    ] {
        let held = held_in(&stage, line);
        let against: Vec<String> =
            held.against.iter().map(|one| format!("{}: {}", one.asked, one.found)).collect();
        assert_eq!(against.join("; "), expected, "{line}");
    }
}
