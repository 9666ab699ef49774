//! The rules of the house: no module looks back, files stay short, whatever a comment cites is there.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// Lines of a file at most; tests count, and so do files of tests.
const LONGEST_FILE: usize = 400;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Every file below `folder` whose name ends with `end`.
fn files(folder: &Path, end: &str) -> Vec<PathBuf> {
    let (mut found, mut pending) = (Vec::new(), vec![folder.to_path_buf()]);
    while let Some(folder) = pending.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() && !path.ends_with("target") {
                pending.push(path);
            } else if path.to_str().is_some_and(|path| path.ends_with(end)) {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// The source folder of each crate, by the crate's name.
fn crates() -> Vec<(String, PathBuf)> {
    let entries = std::fs::read_dir(root().join("crates")).unwrap().map(|entry| entry.unwrap());
    let mut all: Vec<_> =
        entries.map(|one| (one.file_name().into_string().unwrap(), one.path().join("src"))).collect();
    all.sort();
    assert!(all.len() > 8, "{all:?}");
    all
}

/// A file without comments and without its tests.
fn code(path: &Path) -> String {
    let text = std::fs::read_to_string(path).unwrap();
    let text = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
    let lines = text.lines().map(|line| line.split("//").next().unwrap_or_default());
    lines.collect::<Vec<_>>().join("\n")
}

/// The modules behind each `crate::` of `code`, also where several are in braces.
fn named(code: &str) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let name = |text: &str| -> String {
        text.trim_start().chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect()
    };
    for rest in code.split("crate::").skip(1) {
        let Some(group) = rest.strip_prefix('{') else {
            found.insert(name(rest));
            continue;
        };
        let mut depth = 0_usize;
        let mut begins = true;
        for (at, c) in group.char_indices() {
            if begins && depth == 0 && !c.is_whitespace() {
                found.insert(name(&group[at..]));
            }
            begins = c == ',' || begins && c.is_whitespace();
            match c {
                '{' => depth += 1,
                '}' if depth == 0 => break,
                '}' => depth -= 1,
                _ => {}
            }
        }
    }
    found
}

/// Which top-level module of a crate uses which others.
fn uses(src: &Path) -> BTreeMap<String, BTreeSet<String>> {
    let mut graph: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for path in files(src, ".rs") {
        let relative = path.strip_prefix(src).unwrap();
        let first = relative.components().next().unwrap().as_os_str().to_str().unwrap();
        let module = first.trim_end_matches(".rs").to_owned();
        if module != "lib" && module != "main" {
            graph.entry(module).or_default().extend(named(&code(&path)));
        }
    }
    let modules: BTreeSet<String> = graph.keys().cloned().collect();
    for (module, used) in &mut graph {
        used.retain(|other| other != module && modules.contains(other));
    }
    graph
}

/// The modules that are left when those that use nothing are taken away again and again.
fn circles(mut graph: BTreeMap<String, BTreeSet<String>>) -> BTreeSet<String> {
    loop {
        let free: BTreeSet<String> =
            graph.iter().filter(|(_, used)| used.is_empty()).map(|(module, _)| module.clone()).collect();
        if free.is_empty() {
            break;
        }
        graph.retain(|module, _| !free.contains(module));
        graph.values_mut().for_each(|used| used.retain(|other| !free.contains(other)));
    }
    // What only leads into a circle is not part of it.
    let inner: BTreeSet<String> = graph.values().flatten().cloned().collect();
    graph.into_keys().filter(|module| inner.contains(module)).collect()
}

#[test]
fn no_module_is_part_of_a_circle() {
    for (name, src) in crates() {
        let left = circles(uses(&src));
        assert!(left.is_empty(), "modules of {name} use each other in a circle: {left:?}");
    }
}

#[test]
fn a_circle_would_be_found() {
    let graph = |edges: &[(&str, &[&str])]| {
        let owned = |all: &[&str]| all.iter().map(|one| (*one).to_owned()).collect::<BTreeSet<_>>();
        edges.iter().map(|(module, used)| ((*module).to_owned(), owned(used))).collect()
    };
    assert!(circles(graph(&[("a", &["b"]), ("b", &["c"]), ("c", &[])])).is_empty());
    let found = circles(graph(&[("a", &["b"]), ("b", &["c"]), ("c", &["b"]), ("d", &[])]));
    assert_eq!(found.into_iter().collect::<Vec<_>>(), ["b", "c"]);
    let code = "use crate::{a::{x, y}, b};\nlet z = crate::c::f();";
    assert_eq!(named(code).into_iter().collect::<Vec<_>>(), ["a", "b", "c"]);
}

#[test]
fn files_stay_short() {
    for folder in ["crates", "fuzz", "tools"] {
        for path in files(&root().join(folder), ".rs") {
            let lines = std::fs::read_to_string(&path).unwrap().lines().count();
            assert!(lines <= LONGEST_FILE, "{} has {lines} lines: split it by subject", path.display());
        }
    }
}

#[test]
fn whatever_a_comment_cites_is_there() {
    let root = root();
    let mut cited = 0;
    for folder in ["crates", "tools", "fuzz"] {
        for path in files(&root.join(folder), ".rs") {
            let text = std::fs::read_to_string(&path).unwrap();
            for (index, line) in text.lines().enumerate() {
                let Some((_, comment)) = line.split_once("//") else { continue };
                for word in comment.split(|c: char| !(c.is_alphanumeric() || "/._-".contains(c))) {
                    let word = word.trim_end_matches('.');
                    if !word.contains('/') || !word.ends_with(".md") {
                        continue;
                    }
                    cited += 1;
                    let beside = path.parent().unwrap().join(word);
                    let there = root.join(word).exists() || beside.exists();
                    assert!(there, "{}:{} cites {word}, which is not there", path.display(), index + 1);
                }
            }
        }
    }
    assert!(cited > 50, "only {cited} citations were found");
}
