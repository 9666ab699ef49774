//! Commands in the documents, run as they are printed: what is below each is what it says.
//!
//! `<!-- folder: demo -->` begins a folder with the demo's files, `<!-- folder: empty -->` an empty one; `<!-- file: NAME -->`
//! names the file that the next fenced text is. In a fence of the language `console` each line behind `$ ` is a command, and
//! what follows is its standard output and, if it is not 0, its exit status. With MIVASK_UPDATE_DOCUMENTS set, what they say
//! is written into the document instead.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::path::{Path, PathBuf};
use std::process::Command;

use tempfile::TempDir;

/// Runs everything in a document; gives it with what came of that, and the number of commands.
fn played(document: &str) -> (String, usize) {
    let mut out = String::new();
    let mut folder = tempfile::tempdir().unwrap();
    let mut name: Option<&str> = None;
    let mut count = 0;
    let mut lines = document.lines();
    while let Some(line) = lines.next() {
        out.push_str(line);
        out.push('\n');
        match line
            .strip_prefix("<!-- ")
            .and_then(|rest| rest.strip_suffix(" -->"))
            .map(|rest| rest.split_once(": "))
        {
            Some(Some(("folder", kind))) => folder = begin(kind),
            Some(Some(("file", file))) => name = Some(file),
            _ => {}
        }
        let Some(language) = line.strip_prefix("```").filter(|language| !language.is_empty()) else {
            continue;
        };
        let text: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
        if language == "console" {
            for command in text.iter().filter_map(|line| line.strip_prefix("$ ")) {
                out.push_str(&format!("$ {command}\n{}", run(command, folder.path())));
                count += 1;
            }
        } else {
            let whole = text.iter().map(|line| format!("{line}\n")).collect::<String>();
            if let Some(file) = name.take() {
                let path = folder.path().join(file);
                std::fs::create_dir_all(path.parent().unwrap()).unwrap();
                std::fs::write(path, &whole).unwrap();
            }
            out.push_str(&whole);
        }
        out.push_str("```\n");
    }
    (out, count)
}

fn begin(kind: &str) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    if kind == "demo" {
        let program = env!("CARGO_BIN_EXE_mivask");
        let written =
            Command::new(program).args(["demo", "tides"]).current_dir(folder.path()).output().unwrap();
        assert!(written.status.success());
        for entry in std::fs::read_dir(folder.path().join("tides")).unwrap() {
            let entry = entry.unwrap();
            std::fs::rename(entry.path(), folder.path().join(entry.file_name())).unwrap();
        }
    } else {
        assert_eq!(kind, "empty");
    }
    folder
}

fn run(command: &str, folder: &Path) -> String {
    let program = Path::new(env!("CARGO_BIN_EXE_mivask")).parent().unwrap().to_path_buf();
    let path = std::env::var_os("PATH").unwrap_or_default();
    let path = std::env::join_paths(std::iter::once(program).chain(std::env::split_paths(&path))).unwrap();
    let output = Command::new("sh")
        .args(["-c", &format!("umask 022; {command}")])
        .current_dir(folder)
        .env("PATH", path)
        .env("COLUMNS", "110")
        .output()
        .unwrap();
    let mut text = String::from_utf8(output.stdout).unwrap();
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    match output.status.code() {
        Some(0) => text,
        code => format!("{text}exit status {}\n", code.unwrap()),
    }
}

/// The document is what its commands say.
fn holds(name: &str, commands: usize) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
    let text = std::fs::read_to_string(&path).unwrap();
    let (played, count) = played(&text);
    if std::env::var_os("MIVASK_UPDATE_DOCUMENTS").is_some() {
        std::fs::write(path, played).unwrap();
        return;
    }
    assert!(count >= commands, "{name} has only {count} commands");
    let differs = text.lines().zip(played.lines()).enumerate().find(|(_, (old, new))| old != new);
    assert!(text == played, "{name} is stale at {differs:?}: run the tests with MIVASK_UPDATE_DOCUMENTS=1");
}

#[test]
fn the_guide_is_real() {
    holds("guide.md", 18);
}

#[test]
fn the_recipes_are_real() {
    holds("recipes.md", 18);
}

/// Cells of a row of a table; a bar within a cell has a backslash before it.
fn cells(row: &str) -> Vec<String> {
    let hidden = row.trim().trim_matches('|').replace("\\|", "\u{1}");
    hidden.split('|').map(|cell| cell.trim().replace('\u{1}', "|")).collect()
}

/// Every need has a command that answers it.
#[test]
fn the_needs_are_answered() {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/needs.md");
    let text = std::fs::read_to_string(path).unwrap();
    let folder = begin("demo");
    let mut lines = text.lines();
    let mut file: Option<String> = None;
    let mut count = 0;
    while let Some(line) = lines.next() {
        if let Some(name) = line.strip_prefix("<!-- file: ").and_then(|rest| rest.strip_suffix(" -->")) {
            file = Some(name.to_owned());
        } else if let Some(name) = file.take().filter(|_| line.starts_with("```")) {
            let content: String =
                lines.by_ref().take_while(|line| *line != "```").map(|line| format!("{line}\n")).collect();
            let path = folder.path().join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, content).unwrap();
        } else if line.starts_with("| ") && line.contains("| `") {
            let row = cells(line);
            let [need, command, says] = row.as_slice() else { panic!("{line}") };
            // What goes wrong is said on standard error, and is an answer too.
            let answer = run(&format!("{{ {}; }} 2>&1", command.trim_matches('`')), folder.path());
            // Without privilege nothing can be tried on the kernel.
            let untried = command.contains(" confirm ") && answer.contains("not checked");
            assert!(answer.contains(says.as_str()) || untried, "{need}: {command}\n{answer}");
            count += 1;
        }
    }
    assert!(count >= 100, "only {count} needs");
    println!("{count} needs are answered by their commands");
}
