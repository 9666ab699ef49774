//! Expectations in each format, whatever they hold: what a reader of the format would choke on is made harmless.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use mivask_core::expect::{AcceptDepends, Against, Expected, Standing, Upheld, parse_expectation_line};
use mivask_core::fact::Provenance;
use mivask_show::text::{Layout, Shown};
use mivask_show::upheld::{Checked, Run};
use mivask_show::{ci, json, text};

fn place(file: &str, line: usize) -> Provenance {
    Provenance::Document { file: file.into(), line, column: 3, field: "tree".into() }
}

fn against(asked: &str, fact: &str, from: Provenance, open: bool) -> Against {
    Against {
        actor: "gauge".to_owned(),
        path: b"/x".to_vec(),
        asked: asked.to_owned(),
        found: "allowed".to_owned(),
        fact: fact.to_owned(),
        from,
        open,
        usual: Vec::new(),
        settle: if open { vec!["give its tree".to_owned()] } else { Vec::new() },
    }
}

fn upheld(text: &str, standing: Standing, against: Vec<Against>, more: usize) -> Upheld {
    let claim = parse_expectation_line("gauge never reads /x").unwrap();
    let expected =
        Expected { claim, text: text.to_owned(), from: place("rules, old.acts", 7), unnamed: false };
    let checked = (against.len() + more).max(usize::from(standing == Standing::Holds));
    Upheld { expected, standing, checked, against, more, usually: false, assumptions: Vec::new() }
}

/// One of each standing, with texts that mean something in one format or another.
fn run(accept: AcceptDepends) -> Run {
    let nasty = "a\u{1b}[31m\u{0}\u{fffe}<&>\"'%\r\n::error::]]> # \\ \u{202e}";
    let held = vec![
        upheld("gauge reads /x", Standing::Holds, Vec::new(), 0),
        upheld("gauge never reads /y", Standing::MeetsNothing, Vec::new(), 0),
        upheld(
            "gauge never reads /z # no",
            Standing::Depends,
            vec![against("gauge reads /z", "nobody told", place("s.yaml", 1), true)],
            0,
        ),
        upheld(
            nasty,
            Standing::Broken,
            vec![
                against(nasty, nasty, place("dir/a b%.yaml", 9), false),
                against("second", "fact", Provenance::rule("a rule"), false),
            ],
            4,
        ),
    ];
    let unusable =
        Checked { input: "bad.yaml".to_owned(), held: Vec::new(), unusable: Some(nasty.to_owned()) };
    Run { inputs: vec![Checked { input: "s.yaml".to_owned(), held, unusable: None }, unusable], accept }
}

fn written(write: impl FnOnce(&mut Vec<u8>, &Run)) -> String {
    let mut out = Vec::new();
    write(&mut out, &run(AcceptDepends::No));
    String::from_utf8(out).unwrap()
}

/// No format lets a control character or one that reorders text through, except line ends and JSON's own escapes.
#[test]
fn nothing_commands_a_terminal() {
    for (name, text) in [
        (
            "text",
            written(|out, run| {
                text::upheld(out, run, Shown::All, Layout { all_assumptions: true, ..Layout::default() })
                    .unwrap()
            }),
        ),
        ("junit", written(|out, run| ci::junit(out, run).unwrap())),
        ("tap", written(|out, run| ci::tap(out, run).unwrap())),
        ("annotations", written(|out, run| ci::annotations(out, run).unwrap())),
        ("sarif", written(|out, run| ci::sarif(out, run).unwrap())),
        ("json", written(|out, run| json::upheld(out, run).unwrap())),
    ] {
        // Our own colours are the writer's to strip.
        let plain = text.replace("\u{1b}[", "");
        let bad = |c: &char| (c.is_control() && *c != '\n') || *c == '\u{202e}';
        let found: Vec<char> = if name == "text" { Vec::new() } else { plain.chars().filter(bad).collect() };
        // JSON and SARIF are read by programs: what they hold is kept to the letter, escaped as JSON has it.
        let kept = matches!(name, "json" | "sarif");
        assert!(
            found.is_empty() || (kept && found.iter().all(|c| *c == '\u{202e}')),
            "{name}: {found:?}\n{text}"
        );
    }
}

#[test]
fn annotations_are_one_line_each() {
    let text = written(|out, run| ci::annotations(out, run).unwrap());
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.len(), 5, "{text}");
    assert!(lines.iter().all(|line| line.starts_with("::")), "{text}");
    let levels: Vec<&str> = lines.iter().map(|line| line[2..].split(' ').next().unwrap()).collect();
    assert_eq!(levels, ["warning", "error", "error", "notice", "error"]);
    assert!(lines[1].contains("file=rules%2C old.acts,line=7,col=3,"), "{}", lines[1]);
    assert!(lines[3].contains("file=dir/a b%25.yaml,line=9"), "{}", lines[3]);
}

#[test]
fn tap_has_a_point_for_everything_and_blocks_that_are_yaml() {
    let text = written(|out, run| ci::tap(out, run).unwrap());
    assert!(text.starts_with("TAP version 14\n1..5\n"), "{text}");
    let points: Vec<&str> =
        text.lines().filter(|line| line.starts_with("ok ") || line.starts_with("not ok ")).collect();
    assert_eq!(points.len(), 5);
    assert!(points[1].ends_with(" # SKIP meets no actor or path"), "{}", points[1]);
    // A directive is never made of what someone wrote.
    assert!(points[2].contains("/z \\# no"), "{}", points[2]);
    assert_eq!(points.iter().filter(|line| line.starts_with("not ok")).count(), 3);
    for block in text.split("  ---\n").skip(1) {
        let block = block.split("  ...\n").next().unwrap();
        for line in block.lines().filter(|line| line.contains('"')) {
            let value = &line[line.find('"').unwrap()..];
            assert!(serde_json::from_str::<String>(value).is_ok(), "{value}");
        }
    }
}

#[test]
fn junit_counts_and_keeps_to_xml() {
    let text = written(|out, run| ci::junit(out, run).unwrap());
    assert!(text.contains("tests=\"5\" skipped=\"1\" failures=\"2\" errors=\"1\""), "{text}");
    assert!(!text.contains("]]>") && !text.contains("<&>"), "{text}");
    assert!(text.contains("file=\"rules, old.acts\" line=\"7\""), "{text}");
    assert!(text.contains("and 4 more"));
}

#[test]
fn sarif_names_files_as_references() {
    let text = written(|out, run| ci::sarif(out, run).unwrap());
    let sarif: serde_json::Value = serde_json::from_str(&text).unwrap();
    let results = sarif["runs"][0]["results"].as_array().unwrap();
    let levels: Vec<&str> = results.iter().map(|result| result["level"].as_str().unwrap()).collect();
    assert_eq!(levels, ["note", "error", "error", "error"]);
    let related = &results[2]["relatedLocations"];
    assert_eq!(related.as_array().unwrap().len(), 1, "a rule stands in no file");
    let uri = &related[0]["physicalLocation"]["artifactLocation"]["uri"];
    assert_eq!(uri, "dir/a%20b%25.yaml");
}

/// What is accepted is not an error, but it is still told.
#[test]
fn what_depends_may_be_accepted() {
    let accepted = run(AcceptDepends::Yes);
    assert!(!accepted.is_held() && !run(AcceptDepends::No).is_held());
    let mut text = Vec::new();
    ci::annotations(&mut text, &accepted).unwrap();
    let text = String::from_utf8(text).unwrap();
    assert_eq!(text.matches("::warning").count(), 2, "{text}");
    let mut text = Vec::new();
    ci::junit(&mut text, &accepted).unwrap();
    assert!(String::from_utf8(text).unwrap().contains("failures=\"1\""));
}

#[test]
fn people_are_told_the_worst_first_few_and_the_rest_is_counted() {
    let few = written(|out, run| {
        text::upheld(
            out,
            run,
            Shown::Wrong,
            Layout { width: Some(70), all_assumptions: true, ..Layout::default() },
        )
        .unwrap()
    });
    assert!(
        !few.contains("gauge reads /x\n") && !few.contains("/y"),
        "what holds and what says nothing: {few}"
    );
    assert!(few.contains("and 4 more of 6 that were looked at"), "{few}");
    assert!(few.contains("4 expectations in 2 inputs: 1 holds, 1 broken, 1 depends, 1 meets nothing; 1 input cannot be used"), "{few}");
    let longest = few.lines().map(|line| line.replace("\u{1b}[", "").chars().count()).max();
    assert!(longest < Some(170), "{few}");
}
