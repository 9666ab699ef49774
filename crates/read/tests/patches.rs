//! A change that is written into a description says what the change says: the patched text, read again, gives every actor
//! the same identity and mounts as the change made on what was read before. And nothing else in the text changes.

mod fixtures;

use std::path::Path;
use std::sync::{Arc, OnceLock};

use mivask_core::change::{Change, Changes, Process, parse_change};
use mivask_core::fact::Provenance;
use mivask_core::prepare;
use mivask_core::question::mounts;
use mivask_core::scene::{Scene, Selinux, SelinuxMode};
use mivask_core::stage::{Actor, Stage};
use mivask_label::Policy;
use mivask_read::patch::{PatchError, patched};

use fixtures::read;

/// Who an actor is and what it sees, without where each fact came from.
fn seen(stage: &Stage, actor: &Actor) -> String {
    let who: Vec<String> =
        actor.identity.possible.iter().map(|(when, identity)| format!("{when} {identity:?}")).collect();
    // Secrets and configs come after a scratch mount in a service, which no one sees unless one hides the other.
    let mut seen = mounts(stage, actor);
    seen.sort_by(|one, other| one.at.cmp(&other.at));
    let rows: Vec<String> = seen
        .iter()
        .map(|row| format!("{} {} {} {:?}", String::from_utf8_lossy(&row.at), row.kind, row.flags, row.root))
        .collect();
    let facts = actor.facts();
    let label = facts.iter().find(|fact| fact.field.word() == "label").map(|fact| &fact.value);
    format!("{} {label:?} {:?} {who:?} {rows:#?}", actor.name, actor.refusal().map(|refusal| refusal.class))
}

/// All actors, on a host with the tests' policy.
fn all(scene: &Scene) -> Vec<String> {
    static POLICY: OnceLock<Arc<Policy>> = OnceLock::new();
    let policy = POLICY.get_or_init(|| {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../label/tests/policy/containers.33");
        Arc::new(Policy::read(&std::fs::read(path).expect(path)).expect("a policy"))
    });
    let mut scene = scene.clone();
    scene.host.selinux.get_or_insert_with(|| Selinux {
        mode: SelinuxMode::Permissive,
        policy: Some(policy.clone()),
        from: Provenance::rule("a test"),
    });
    let stage = prepare::stage(&scene);
    stage.actors.iter().map(|actor| seen(&stage, actor)).collect()
}

/// Changes of one container, whose mounts are at `mounted`.
fn changes(name: &str, mounted: &[Vec<u8>]) -> Vec<Change> {
    let sentences = [
        "becomes 4444",
        "becomes 4444:5555",
        "umask 0077",
        "user-namespace host",
        "level s0:c7,c8",
        "drops ALL",
        "drops CHOWN",
        "adds FOWNER",
        "joins 6666",
        "filesystem-group 7777",
        "filesystem-group none",
        "filesystem-group on-root-mismatch",
        "mounts / with ro",
        "mounts / with rw",
        "mounts scratch at /made/up",
    ];
    let parse = |text: &str| parse_change(&format!("{name} {text}")).expect(text);
    let mut all: Vec<Change> = sentences.map(parse).into();
    for at in mounted {
        for option in ["ro", "rw", "noexec", "mode=0400"] {
            all.push(Change::Process(name.to_owned(), Process::Mounts(at.clone(), vec![option.to_owned()])));
        }
        all.push(Change::Process(name.to_owned(), Process::Only([at.as_slice(), b"/part/of"].concat())));
    }
    all
}

fn lines_only_in<'a>(one: &'a str, other: &str) -> Vec<&'a str> {
    let known: Vec<&str> = other.lines().collect();
    one.lines().filter(|line| !known.contains(line)).collect()
}

/// Holds every change of every container of `text` to that; how many were written, for how many there is no field,
/// and how many the layout of the text does not allow.
fn hold(name: &str, text: &str) -> [usize; 3] {
    let (scene, diagnostics) = read(name, &[(name, text)]);
    if diagnostics.iter().any(|diagnostic| diagnostic.starts_with("error")) {
        return [0; 3];
    }
    let [mut written, mut refused, mut astray] = [0; 3];
    for workload in &scene.workloads {
        for container in &workload.containers {
            let full = format!("{}/{}", workload.name, container.name);
            let mounted: Vec<Vec<u8>> = container.mounts.iter().map(|mount| mount.at.value.clone()).collect();
            for change in changes(&full, &mounted) {
                let mut changed = scene.clone();
                if Changes::new(vec![change.clone()]).apply_to_scene(&mut changed).is_err() {
                    continue;
                }
                let new = match patched(text, workload, &change) {
                    Ok(new) => new,
                    Err(PatchError::NoField(why)) => {
                        assert!(why.len() > 20, "{name}: {change}: {why}");
                        refused += 1;
                        continue;
                    }
                    Err(PatchError::Layout) => {
                        astray += 1;
                        continue;
                    }
                    Err(error) => panic!("{name}: {change}: {error}"),
                };
                let (again, diagnostics) = read(name, &[(name, &new)]);
                assert!(
                    !diagnostics.iter().any(|diagnostic| diagnostic.starts_with("error")),
                    "{name}: {change}: {diagnostics:#?}\n{new}"
                );
                let (found, meant) = (all(&again), all(&changed));
                let differs: Vec<String> = found
                    .iter()
                    .zip(&meant)
                    .flat_map(|(found, meant)| found.lines().zip(meant.lines()).filter(|(a, b)| a != b))
                    .map(|(found, meant)| format!("  read {found}\n  meant {meant}"))
                    .collect();
                assert!(found == meant, "{name}: {change}\n{}\n{new}", differs.join("\n"));
                let lost = lines_only_in(text, &new);
                // JSON has a comma before a further value, and each capability set is a list of its own.
                let most = if name.ends_with(".json") { 6 } else { 3 };
                assert!(lost.len() <= most, "{name}: {change} rewrites {lost:#?}\n{new}");
                for comment in text.lines().filter(|line| line.contains('#')) {
                    assert!(new.contains(comment), "{name}: {change} loses {comment}\n{new}");
                }
                written += 1;
            }
        }
    }
    [written, refused, astray]
}

#[test]
fn every_change_of_the_corpus_reads_back_as_it_was_meant() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let mut counts = [0; 3];
    for entry in std::fs::read_dir(folder).expect("the corpus") {
        let path = entry.expect("an entry").path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let mut text = std::fs::read_to_string(&path).expect("a text");
        if name.ends_with(".json") {
            // What is expected of it is no JSON.
            text = text.split_inclusive('\n').filter(|line| !line.starts_with('#')).collect();
        }
        let more = hold(&name, &text);
        (0..3).for_each(|at| counts[at] += more[at]);
    }
    let [written, refused, astray] = counts;
    println!(
        "{written} changes written and read back, {refused} without a field, {astray} not for the layout"
    );
    assert!(written > 450 && astray < 20, "{written} written, {refused} refused, {astray} astray");
}

#[test]
fn comments_and_layout_stay() {
    let text = "\
# two pods
apiVersion: v1
kind: Pod
metadata: { name: other }
spec: { containers: [{ name: a, image: i }] }
---
apiVersion: v1
kind: Pod      # the one that counts
metadata: { name: p }
spec:
  containers:
    # it measures
    - name: a
      image: i
      volumeMounts:
        - { name: v, mountPath: /v, readOnly: true }   # for now
  volumes:
    - name: v
      emptyDir: {}
";
    let (scene, _) = read("p.yaml", &[("p.yaml", text)]);
    let write = |sentence: &str| {
        patched(text, &scene.workloads[1], &parse_change(sentence).expect(sentence)).expect(sentence)
    };
    let differing = |new: &str| {
        let (gone, new) = (lines_only_in(text, new), lines_only_in(new, text));
        format!("{} -> {}", gone.join("|"), new.join("|"))
    };
    assert_eq!(
        differing(&write("p/a mounts /v with rw")),
        "        - { name: v, mountPath: /v, readOnly: true }   # for now -> \
         \x20       - { name: v, mountPath: /v, readOnly: false }   # for now"
    );
    let new = write("p/a joins 7");
    assert!(
        new.contains("\n  securityContext:\n    supplementalGroups:") && new.starts_with("# two pods"),
        "{new}"
    );
    assert_eq!(lines_only_in(text, &new), Vec::<&str>::new());
    assert!(matches!(
        patched("", &scene.workloads[1], &parse_change("p/a joins 7").expect("a change")),
        Err(PatchError::Lost)
    ));
    assert!(matches!(
        patched(text, &scene.workloads[1], &parse_change("host joins a to b").expect("a change")),
        Err(PatchError::Elsewhere)
    ));
}
