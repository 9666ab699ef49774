//! Text folds where the terminal ends, names are harmless, and JSON loses no byte.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::BTreeMap;
use std::path::Path;

use mivask_core::act::{Act, Verb, parse_act};
use mivask_core::observed::Observed;
use mivask_core::outcome::Errno;
use mivask_core::question::{Answer, Comparison, Held, access, ask, default_paths, imprints, mounts};
use mivask_core::stage::Stage;
use mivask_core::{act::parse_acts, prepare};
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Disk, Origin, read_input};
use mivask_show::json::List;
use mivask_show::text::Layout;
use mivask_show::{RandomSummary, json, text};

fn demo() -> Stage {
    let mut diagnostics = Diagnostics::default();
    let origin = Origin::of(Path::new("../../demo/tides.scene.yaml"));
    let scene = read_input(&origin, &Disk, &mut diagnostics).unwrap();
    assert!(diagnostics.is_empty());
    prepare::stage(&scene)
}

fn answers(stage: &Stage) -> Vec<Answer> {
    let acts = parse_acts(include_str!("../../../demo/station.acts")).unwrap();
    acts.iter().map(|(act, _)| ask(stage, act).unwrap()).collect()
}

/// A line without its colours.
fn visible(line: &str) -> String {
    let mut out = String::new();
    let mut rest = line;
    while let Some((before, after)) = rest.split_once('\u{1b}') {
        out.push_str(before);
        rest = after.split_once('m').map_or("", |(_, behind)| behind);
    }
    out + rest
}

/// What folds but is never laid out differently.
fn foldable(width: Option<usize>) -> String {
    let stage = demo();
    let layout = Layout { width, all_assumptions: true, ..Layout::default() };
    let mut out = Vec::new();
    let actors: Vec<_> = stage.actors.iter().collect();
    text::identities(&mut out, &stage.actors, layout).unwrap();
    for actor in actors {
        text::mounts(&mut out, &mounts(&stage, actor), layout).unwrap();
        text::imprints(&mut out, &imprints(&stage, actor, &[]), layout).unwrap();
    }
    text::acts(&mut out, &answers(&stage), layout).unwrap();
    String::from_utf8(out).unwrap()
}

/// Everything the demo can say, at this width.
fn everything(width: Option<usize>) -> String {
    let stage = demo();
    let layout = Layout { width, all_assumptions: true, ..Layout::default() };
    let mut out = Vec::new();
    for actor in stage.actors.iter() {
        let paths = default_paths(&stage, actor);
        let rows: Vec<_> = paths.iter().map(|path| access(&stage, actor, path)).collect();
        text::access(&mut out, &rows, layout).unwrap();
    }
    let answers = answers(&stage);
    for answer in &answers {
        text::why(&mut out, stage.actor(&answer.actor).unwrap(), answer, layout).unwrap();
    }
    foldable(width) + &String::from_utf8(out).unwrap()
}

#[test]
fn nothing_reaches_beyond_the_terminal() {
    for width in [72, 80, 100, 120, 158] {
        for line in everything(Some(width)).lines() {
            let line = visible(line);
            assert!(line.chars().count() <= width, "{width}: {} columns: {line}", line.chars().count());
        }
    }
}

#[test]
fn nothing_is_folded_where_there_is_no_terminal() {
    let text = visible(&everything(None));
    assert!(text.contains("press:charts, of which the kubelet passes on only `press`"), "{text}");
    assert!(!text.lines().any(|line| line.ends_with(' ')), "no blanks at the ends of lines");
}

/// Folding moves words; it must not lose or add one character.
#[test]
fn folding_loses_no_character() {
    let characters = |text: &str| {
        let mut count = BTreeMap::new();
        for c in visible(text).chars().filter(|c| !c.is_whitespace()) {
            *count.entry(c).or_insert(0_usize) += 1;
        }
        count
    };
    for width in [72, 80, 100, 158] {
        assert!(characters(&foldable(Some(width))) == characters(&foldable(None)), "at {width} columns");
    }
}

#[test]
fn a_path_of_any_bytes_is_kept() {
    let stage = demo();
    let path = b"/data/\xff\x1b[2J\n".to_vec();
    let act = Act { actor: "gauge".into(), verb: Verb::Reads, path: path.clone(), expectation: None };
    let answer = ask(&stage, &act).unwrap();
    let mut out = Vec::new();
    text::acts(&mut out, std::slice::from_ref(&answer), Layout::default()).unwrap();
    let text = visible(&String::from_utf8(out).unwrap());
    assert!(text.contains(r#"gauge reads "/data/\xff\x1b[2J\x0a""#), "{text}");
    assert!(!text.contains('\u{1b}'));

    let mut out = Vec::new();
    let mut list = List::begin(&mut out, "rows").unwrap();
    json::access(&mut list, &[access(&stage, &stage.actors[1], &path)]).unwrap();
    list.end().unwrap();
    let document: serde_json::Value = serde_json::from_slice(&out).unwrap();
    assert_eq!(document["rows"][0]["path"]["hex"], "2f646174612fff1b5b324a0a");

    let mut out = Vec::new();
    json::acts(&mut out, &[answer]).unwrap();
    let document: serde_json::Value = serde_json::from_slice(&out).unwrap();
    let sentence = document["acts"][0]["act"].as_str().unwrap();
    assert_eq!(parse_act(sentence).unwrap().path, path, "the act reads back with every byte");
}

#[test]
fn a_difference_shows_both_sides() {
    let stage = demo();
    let act = parse_act("gauge creates /data/new").unwrap();
    let answer = ask(&stage, &act).unwrap();
    let seen = Observed::Denied(Errno::EPERM);
    let held = Held { answer, result: Comparison::Different(seen) };
    let mut out = Vec::new();
    text::confirmed(&mut out, std::slice::from_ref(&held), "tmpfs", Layout::default()).unwrap();
    let text = visible(&String::from_utf8(out).unwrap());
    assert_eq!(
        text,
        "DIFFERENT    gauge creates /data/new\n             predicted   allowed, leaves 7101:7300 0644\n             the kernel  denied EPERM\n\n1 act differs: 0 the same, 1 different, 0 not checked \
         (built on tmpfs)\n"
    );
    let summary = RandomSummary {
        checked: 7,
        seed: 3,
        not_checked: Vec::new(),
        outcomes: vec![("EPERM".to_owned(), 7)],
        filesystems: vec![("ext4".to_owned(), 7)],
        scene: Some("difference.scene.yaml".to_owned()),
    };
    let mut out = Vec::new();
    json::random_acts(&mut out, &[held], &summary).unwrap();
    let document: serde_json::Value = serde_json::from_slice(&out).unwrap();
    assert_eq!(document["difference"]["kernel"]["errno"], "EPERM");
    assert_eq!(document["scene"], "difference.scene.yaml");
}

#[test]
fn every_document_says_its_format() {
    let stage = demo();
    let actor = &stage.actors[0];
    let written = |name: &str, push: &dyn Fn(&mut List<'_>) -> std::io::Result<()>| {
        let mut out = Vec::new();
        let mut list = List::begin(&mut out, name).unwrap();
        push(&mut list).unwrap();
        list.end().unwrap();
        out
    };
    for (name, document) in [
        ("actors", written("actors", &|list| json::identities(list, &stage.actors))),
        ("mounts", written("mounts", &|list| json::mounts(list, &mounts(&stage, actor)))),
        ("rows", written("rows", &|list| json::imprints(list, &imprints(&stage, actor, &[])))),
        ("rows", written("rows", &|_| Ok(()))),
    ] {
        let text = String::from_utf8(document).unwrap();
        assert!(text.starts_with("{\n  \"mivask\": 1,"), "{text}");
        // Written element by element it is laid out as it would be at once.
        let value: serde_json::Value = serde_json::from_str(&text).unwrap();
        assert!(value[name].is_array());
        assert_eq!(text.lines().count(), mivask_disk::json::pretty_text(&value).unwrap().lines().count());
    }
}
