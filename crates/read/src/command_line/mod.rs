//! Command lines of an engine, alone or in a script: `docker run ...`, `podman create ...`.
//!
//! Each becomes a Compose service that says the same, where it stands, and is read as one. What only a shell could tell is named
//! as a missing fact.

mod expansion;
mod made;
mod maps;
mod mount;
mod options;
mod run;
mod untold;
mod volume;
mod words;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use mivask_core::identity::PlainIdentity;
use mivask_core::runtime::Runtime;
use mivask_core::scene::{Container, Scene, Who};

use crate::compose;
use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use crate::yaml::Node;
use made::Made;
use run::{Reading, Run};
use words::{Command, Variables, Word, commands};

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
    let mut volumes = Made::default();
    let mut runs: Vec<Run> = Vec::new();
    let mut taken = BTreeMap::new();
    let mut engines: Vec<Runtime> = Vec::new();
    let mut reading = Reading { source, diagnostics, folder: &whole, volumes: &mut volumes };
    for command in &all {
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
                engines.push(engine);
                runs.push(run);
            }
        }
    }
    if runs.is_empty() {
        return;
    }
    // A script that starts containers of both engines is as good as one of none.
    if let (None, Some(first)) = (scene.runtime, engines.first())
        && engines.iter().all(|one| one == first)
    {
        scene.runtime = Some(*first);
    }
    let names: BTreeSet<String> = runs.iter().map(|run| run.name.clone()).collect();
    let mut services = Made::default();
    for run in &mut runs {
        run.lend(&names);
        services.push(&run.name, std::mem::take(&mut run.service).node(run.span.clone()));
    }
    let span = runs[0].span.start..runs[runs.len() - 1].span.end;
    let mut root = Made::default();
    root.set("services", services.node(span.clone()));
    root.set("volumes", volumes.node(span.clone()));
    let root: Node = root.node(span);
    let Some(mut workload) = compose::workload((&root, source, folder), files, "commands", diagnostics)
    else {
        return;
    };
    workload.kind = KIND.to_owned();
    let mut runs: BTreeMap<String, Run> = runs.into_iter().map(|run| (run.name.clone(), run)).collect();
    for container in &mut workload.containers {
        if let Some(run) = runs.get_mut(&container.name) {
            finish(container, run);
        }
    }
    scene.workloads.push(Arc::new(workload));
}

/// What no Compose service can say.
fn finish(container: &mut Container, run: &mut Run) {
    container.unmodelled.append(&mut run.unmodelled);
    if let Who::Plain(plain) = &mut container.who {
        let plain: &mut PlainIdentity = plain;
        plain.umask = run.umask.take();
        plain.untold = run.untold.take();
        plain.user_namespace = run.user_namespace.take().or(plain.user_namespace.take());
    }
}
