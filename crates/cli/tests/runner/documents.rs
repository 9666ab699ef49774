//! What the documents show is what the program prints, and what they name is there.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::path::Path;

use crate::scratch::Scratch;

const README: &str = include_str!("../../../../README.md");
const ARCHITECTURE: &str = include_str!("../../../../ARCHITECTURE.md");

/// The text between ```` ```LANGUAGE ```` and the end of the fence.
fn fenced<'a>(document: &'a str, language: &str) -> &'a str {
    let (_, after) = document.split_once(&format!("```{language}\n")).unwrap();
    after.split_once("```").unwrap().0
}

#[test]
fn the_first_look_of_the_readme_is_real() {
    let scratch = Scratch::with("pod.yaml", fenced(README, "yaml"));
    let transcript = fenced(README, "text");
    let (command, shown) = transcript.split_once('\n').unwrap();
    assert!(command.starts_with("$ mivask ask pod.yaml '"), "{command}");
    let acts: Vec<&str> = command.split('\'').skip(1).step_by(2).collect();
    let printed = scratch.run(["ask", "pod.yaml", acts[0], acts[1], acts[2]]);
    assert_eq!(printed, format!("{shown}--- status 0"));
}

#[test]
fn every_path_the_map_names_exists() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let places = [
        "",
        "crates/label/src",
        "crates/model/src",
        "crates/rules/src",
        "crates/stage/src",
        "crates/core/src",
        "crates/disk/src",
        "crates/read/src",
        "crates/cli/src",
        "crates/show/src",
        "crates/show",
        "crates/kernel/src",
        "crates/trial/src",
    ];
    let rules = std::fs::read_to_string(root.join("docs/rules.md")).unwrap();
    let quoted = ARCHITECTURE.split('`').skip(1).step_by(2).chain(rules.split('`').skip(1).step_by(2));
    let paths: Vec<&str> = quoted
        .filter(|word| word.ends_with(".rs") || word.ends_with('/') || word.starts_with("crates/"))
        .collect();
    assert!(paths.len() > 80, "{paths:?}");
    for path in paths {
        assert!(places.iter().any(|place| root.join(place).join(path).exists()), "{path}");
    }
}

#[test]
fn every_link_leads_somewhere() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut documents =
        vec![root.join("README.md"), root.join("CONTRIBUTING.md"), root.join("crates/core/README.md")];
    for folder in ["docs", "docs/facts", "docs/formats"] {
        let entries = std::fs::read_dir(root.join(folder)).unwrap();
        documents.extend(
            entries
                .map(|entry| entry.unwrap().path())
                .filter(|path| path.extension().is_some_and(|end| end == "md")),
        );
    }
    assert!(documents.len() > 15, "{documents:?}");
    for document in documents {
        let text = std::fs::read_to_string(&document).unwrap();
        for target in text.split("](").skip(1).map(|rest| rest.split([')', '#']).next().unwrap()) {
            let there = target.is_empty() || document.parent().unwrap().join(target).exists();
            assert!(there, "{} leads to {target}", document.display());
        }
    }
}
