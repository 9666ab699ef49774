//! A corpus of descriptions, each with what must be read out of it in its first lines.
//!
//! `#= ACTOR is UID:GID GROUPS`, `#= ACTOR refused WORDS`, `#= ACTOR at PATH KIND OWNER MODE FLAGS` (`?` is not known),
//! `#= ACT -> ...` as for `ask`, `#= depends ACT`, `#= says SEVERITY WORDS`. An error that no line expects fails.

mod fixtures;

use std::collections::BTreeSet;
use std::path::Path;

use mivask_core::act::parse_act;
use mivask_core::prepare::{self, Staging};
use mivask_core::question::{access, ask, default_paths, mounts};
use mivask_core::settle::Outcome;
use mivask_core::sharing::Sharing;
use mivask_core::stage::{Actor, Stage};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{InputError, Origin, read_input};
use mivask_read::outline::Outline;

use fixtures::{Memory, read};

const LEAST: usize = 40;

fn corpus() -> Vec<(String, String)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let entries = std::fs::read_dir(folder).expect("the corpus").map(|entry| entry.expect("an entry").path());
    let mut files: Vec<(String, String)> = entries
        .map(|path| {
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            (name, std::fs::read_to_string(path).expect("a text"))
        })
        .collect();
    files.sort();
    files
}

fn who(actor: &Actor) -> String {
    let possible = actor.identity.possible.iter().map(|(_, who)| {
        let groups: Vec<String> = who.groups.iter().map(ToString::to_string).collect();
        let groups = if groups.is_empty() { "-".to_owned() } else { groups.join(",") };
        format!("{}:{} {groups}", who.uid, who.gid)
    });
    possible.collect::<Vec<_>>().join(" or ")
}

fn mounted(stage: &Stage, actor: &Actor, path: &str) -> String {
    let rows = mounts(stage, actor);
    let Some(row) = rows.iter().rev().find(|row| row.at == path.as_bytes()) else {
        return "nothing".to_owned();
    };
    let root =
        row.root.map_or_else(|| "? ?".to_owned(), |root| format!("{}:{} {}", root.uid, root.gid, root.mode));
    format!("{} {root} {}", row.kind, row.flags)
}

/// What is wrong with one expectation; `None` where it holds.
fn broken(expected: &str, stage: Option<&Stage>, diagnostics: &[String]) -> Option<String> {
    if let Some(words) = expected.strip_prefix("says ") {
        let (severity, words) = words.split_once(' ').unwrap_or((words, ""));
        let said = diagnostics
            .iter()
            .any(|diagnostic| diagnostic.starts_with(severity) && diagnostic.contains(words));
        return (!said).then(|| format!("{diagnostics:#?}"));
    }
    let Some(stage) = stage else { return Some(format!("it cannot be read: {diagnostics:#?}")) };
    if let Some(act) = expected.strip_prefix("depends ") {
        let answer = ask(stage, &parse_act(act).expect(act)).expect(act);
        return (answer.outcome != Outcome::Depends).then(|| format!("{:?}", answer.outcome));
    }
    if expected.contains(" -> ") {
        let answer = ask(stage, &parse_act(expected).expect(expected)).expect(expected);
        return (answer.holds() != Some(true))
            .then(|| format!("{:?} {:?}", answer.outcome, answer.effect.imprint));
    }
    let words: Vec<&str> = expected.splitn(3, ' ').collect();
    let &[name, what, rest] = words.as_slice() else { panic!("no expectation: {expected}") };
    let actor = stage.actor(name).expect(expected);
    let (found, holds) = match what {
        "is" => (who(actor), who(actor) == rest && actor.refusal().is_none()),
        "refused" => {
            let reason = actor.refusal().map_or_else(String::new, |refusal| refusal.reason.clone());
            (reason.clone(), reason.contains(rest) && !reason.is_empty())
        }
        "at" => {
            let (path, facts) = rest.split_once(' ').expect(expected);
            (mounted(stage, actor, path), mounted(stage, actor, path) == facts)
        }
        _ => panic!("no expectation: {expected}"),
    };
    (!holds).then_some(found)
}

#[test]
fn every_description_reads_with_the_right_facts() {
    let files = corpus();
    assert!(files.len() >= LEAST, "{} files", files.len());
    let mut wrong = Vec::new();
    for (name, text) in &files {
        let (scene, diagnostics) = read(name, &[(name.as_str(), text.as_str())]);
        let failed = diagnostics.iter().any(|diagnostic| diagnostic.starts_with("error"));
        let stage = (!failed).then(|| prepare::stage(&scene));
        let expected: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("#= ")).collect();
        assert!(!expected.is_empty(), "{name} expects nothing");
        if failed && !expected.iter().any(|line| line.starts_with("says error")) {
            wrong.push(format!("{name}: {diagnostics:#?}"));
            continue;
        }
        let lines =
            expected.iter().filter_map(|line| Some((line, broken(line, stage.as_ref(), &diagnostics)?)));
        wrong.extend(lines.map(|(line, found)| format!("{name}: {line}\n    found {found}")));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// Every field the readers promise is in some file of the corpus.
#[test]
fn every_field_is_covered() {
    let whole: String = corpus().into_iter().map(|(_, text)| text).collect();
    let words: BTreeSet<&str> = whole
        .split(|c: char| !c.is_alphanumeric() && c != '_' && c != '-')
        .filter(|word| !word.is_empty())
        .collect();
    let wanted = "
        Pod Deployment StatefulSet DaemonSet ReplicaSet ReplicationController Job CronJob PodTemplate List
        initContainers ephemeralContainers restartPolicy volumeClaimTemplates emptyDir hostPath configMap secret downwardAPI
        projected serviceAccountToken persistentVolumeClaim ephemeral csi nfs iscsi fc rbd cephfs azureFile image
        defaultMode mode items subPath subPathExpr readOnly recursiveReadOnly mountPropagation hostUsers
        supplementalGroupsPolicy fsGroupChangePolicy supplementalGroups capabilities procMount seLinuxOptions
        appArmorProfile PersistentVolume PersistentVolumeClaim StorageClass CSIDriver ConfigMap Secret Namespace
        fsGroupPolicy mountOptions accessModes volumeName claimRef
        FileOrCreate DirectoryOrCreate Socket CharDevice BlockDevice Directory
        volumes tmpfs user group_add cap_add cap_drop privileged read_only security_opt userns_mode volumes_from secrets
        configs working_dir driver_opts external name extends profiles build dockerfile_inline nocopy create_host_path
        additionalGids umask noNewPrivileges readonly rro idmap uidMappings gidMappings maskedPaths readonlyPaths ambient";
    let missing: Vec<&str> = wanted.split_whitespace().filter(|field| !words.contains(field)).collect();
    assert!(missing.is_empty(), "{missing:?}");
}

/// Workload by workload the answers are those of the whole scene at once.
#[test]
fn one_stage_at_a_time_answers_alike() {
    for (name, text) in &corpus() {
        let (scene, diagnostics) = read(name, &[(name.as_str(), text.as_str())]);
        if diagnostics.iter().any(|diagnostic| diagnostic.starts_with("error")) {
            continue;
        }
        let rows = |stage: &Stage| {
            let of = |actor: &Actor| {
                let paths = default_paths(stage, actor);
                paths.iter().map(|path| format!("{:?}", access(stage, actor, path))).collect::<Vec<_>>()
            };
            stage.actors.iter().flat_map(of).collect::<Vec<_>>()
        };
        let mut staging =
            Staging::new(&scene, scene.actor_names().into(), Sharing::of(&scene.workloads).into());
        let apart: Vec<String> =
            scene.workloads.iter().flat_map(|workload| rows(&staging.next(workload))).collect();
        assert_eq!(apart, rows(&prepare::stage(&scene)), "{name}");
    }
}

/// Many workloads are read again one by one, few are held: both give the same, in the same order, under the same names.
#[test]
fn many_workloads_are_read_again() {
    for count in [3, 64, 65, 200] {
        let pod = |number: usize| {
            format!(
                "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p{number} }}\nspec:\n  containers:\n  - {{ name: {}, image: i }}\n",
                if number.is_multiple_of(2) { "twin".to_owned() } else { format!("c{number}") }
            )
        };
        let text = (0..count).map(pod).collect::<Vec<_>>().join("---\n");
        let files = Memory::new(&[("m.yaml", &text)]);
        let (origin, mut diagnostics) = (Origin::File("m.yaml".into()), Diagnostics::default());
        let whole = read_input(&origin, &files, &mut diagnostics).unwrap();
        let outline = Outline::read(&origin, &files, &mut diagnostics).unwrap();
        let mut names = Vec::new();
        let each: Result<(), InputError> = outline.each(&files, &mut |workload| {
            names.push(workload.name.clone());
            Ok(())
        });
        each.unwrap();
        assert!(diagnostics.is_empty() && outline.scene.workloads.is_empty());
        let expected: Vec<String> = whole.workloads.iter().map(|workload| workload.name.clone()).collect();
        assert_eq!(names, expected);
        assert_eq!(outline.actor_names.names(), whole.actor_names().names());
        assert_eq!(outline.headings.len(), count);
    }
}
