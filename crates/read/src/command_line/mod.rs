//! Command lines of an engine, alone or in a script: `docker run ...`, `podman create ...`.
//!
//! Each becomes a Compose service that says the same, where it stands, and is read as one. What only a shell could tell is named
//! as a missing fact.

mod expansion;
mod inspected;
mod made;
mod maps;
mod mount;
mod options;
mod parts;
mod pod;
mod pods;
mod run;
mod runs;
pub(crate) mod unit;
mod untold;
mod volume;
mod words;

use std::collections::BTreeMap;
use std::path::Path;

use mivask_core::runtime::Runtime;
use mivask_core::scene::Scene;

use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use crate::yaml::Node;
use run::Reading;
use runs::{Of, Runs};
use words::{Command, Variables, Word, commands};

pub(crate) use inspected::{KIND as INSPECTED, is_one as is_inspected};
pub(crate) use parts::{Part, Parts, Value, parts};

/// What workloads of command lines are.
pub(crate) const KIND: &str = "command line";

/// Whether a text is no YAML but has a command line of an engine that makes a container.
pub(crate) fn is_one(text: &str) -> bool {
    let named = ["docker", "podman"].iter().any(|engine| text.contains(engine));
    named && !is_mapping(text) && commands(text, Variables::new()).iter().any(|one| making(one).is_some())
}

/// Whether a line in the first column is the key of a mapping or the beginning of JSON.
fn is_mapping(text: &str) -> bool {
    text.lines().any(|line| {
        let key =
            line.split_once(':').filter(|(_, rest)| rest.is_empty() || rest.starts_with([' ', '\t', '\r']));
        let plain =
            |key: &str| !key.is_empty() && !key.contains(char::is_whitespace) && !key.starts_with('#');
        line.starts_with(['{', '[']) && !line.starts_with("[ ") && !line.starts_with("[[ ")
            || key.is_some_and(|(key, _)| plain(key.trim_matches(['"', '\''])))
    })
}

/// The engine of a command that makes a container, and what follows `run` or `create`.
fn making(command: &Command) -> Option<(Runtime, &[Word])> {
    let (engine, rest) = engine(command)?;
    match rest {
        [first, rest @ ..] if first.text == "container" => making_words(rest),
        words => making_words(words),
    }
    .map(|words| (engine, words))
}

fn making_words(words: &[Word]) -> Option<&[Word]> {
    let (first, rest) = words.split_first()?;
    ["run", "create"].contains(&first.text.as_str()).then_some(rest)
}

/// The name and options of a command that makes a volume.
fn volume(command: &Command) -> Option<&[Word]> {
    match engine(command)?.1 {
        [first, second, rest @ ..] if first.text == "volume" && second.text == "create" => Some(rest),
        _ => None,
    }
}

/// What starts other programs as they are.
const STARTERS: [&str; 5] = ["sudo", "exec", "command", "nohup", "env"];

/// The engine that a command starts, and what follows its own options.
fn engine(command: &Command) -> Option<(Runtime, &[Word])> {
    let mut words = command.words.as_slice();
    while let [first, rest @ ..] = words
        && (STARTERS.contains(&first.text.as_str()) || first.text.starts_with("-") || first.text == "$")
    {
        words = rest;
    }
    let (first, mut rest) = words.split_first()?;
    let engine = match first.text.rsplit('/').next()? {
        "docker" => Runtime::Docker,
        "podman" => Runtime::Podman,
        _ => return None,
    };
    while let [option, behind @ ..] = rest
        && option.text.starts_with('-')
    {
        let name = option.text.trim_start_matches('-');
        let skipped = usize::from(!name.contains('=') && options::is_global_value(name));
        rest = behind.get(skipped..).unwrap_or_default();
    }
    Some((engine, rest))
}

/// Adds the containers that the commands of a script make.
pub(crate) fn add(
    source: &SourceText,
    folder: &Path,
    files: &dyn FileReader,
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    let whole = files.absolute(folder).display().to_string();
    let home = files.variable("HOME");
    let variables = Variables::from([("PWD".to_owned(), Some(whole.clone())), ("HOME".to_owned(), home)]);
    let all = commands(&source.text, variables);
    let mut runs = Runs::default();
    let mut taken = BTreeMap::new();
    let mut made = pods::Pods::new();
    for command in &all {
        if let Some((name, given)) = pods::pod(command).and_then(pods::made) {
            made.insert(name, given);
            continue;
        }
        let mut reading =
            Reading { source, diagnostics, folder: &whole, volumes: &mut runs.volumes, pods: &made };
        if let Some(words) = volume(command) {
            reading.volume(words);
        } else if let Some((engine, words)) = making(command) {
            let defaults: Vec<(&Word, &String)> =
                words.iter().flat_map(|word| word.defaults.iter().map(move |shown| (word, shown))).collect();
            for (word, shown) in defaults {
                let message = format!("nothing sets `{}` here: its default is taken", shown.escape_debug());
                reading.say(Severity::Note, word, &message, None);
            }
            if let Some(run) = reading.run(engine, words, &mut taken) {
                // `--pod new:NAME` makes one for those that follow.
                if let Some(pod) = &run.pod {
                    made.entry(pod.clone()).or_default();
                }
                runs.push(engine, run);
            }
        }
    }
    runs.add(&Of { source, folder, files, name: "commands", kind: KIND }, scene, diagnostics);
}

/// Adds the containers of a document that an engine printed.
pub(crate) fn add_inspected(
    document: &Node,
    source: &SourceText,
    (folder, files): (&Path, &dyn FileReader),
    scene: &mut Scene,
    diagnostics: &mut Diagnostics,
) {
    let runs = inspected::read(document, source, folder, diagnostics);
    runs.add(&Of { source, folder, files, name: "containers", kind: inspected::KIND }, scene, diagnostics);
}
