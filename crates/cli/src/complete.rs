//! What may stand on the command line at the cursor: actors, paths inside and acts of the scene that is named on it.

use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

use clap_complete::engine::CompletionCandidate;
use mivask_core::act::Verb;
use mivask_core::glyph::is_obeyed;
use mivask_core::stage::Stage;
use mivask_disk::process::Reach;

use crate::load::Whole;
use crate::next_word::complete as words_at;
use crate::options::{Facts, Input};

/// The stage of the first word on the command line that is a scene or a description.
fn stage() -> Option<Stage> {
    let words: Vec<OsString> = std::env::args_os().skip_while(|word| word != "--").skip(2).collect();
    let files = words.iter().skip(1).map(PathBuf::from).filter(|path| path.is_file() || path.is_dir());
    let reach = Reach { paths: Vec::new(), whole: true }.into();
    let mut stages = files.filter_map(|input| {
        let input = Input { input, facts: Facts::default() };
        // Whatever is wrong with it is said when the command runs.
        Whole::read(&input, &reach, &mut std::io::sink()).ok().map(|whole| whole.stage)
    });
    stages.next()
}

fn beginning_with(words: impl Iterator<Item = String>, current: &OsStr) -> Vec<CompletionCandidate> {
    let typed = current.to_string_lossy().into_owned();
    offered(words.filter(|word| word.starts_with(&typed)))
}

/// What a shell can show: it writes what it offers as it is, so names that a terminal would obey are left to be typed.
fn offered(words: impl Iterator<Item = String>) -> Vec<CompletionCandidate> {
    words.filter(|word| !word.chars().any(is_obeyed)).map(CompletionCandidate::new).collect()
}

/// The names of actors.
pub(crate) fn actors(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(stage) = stage() else { return Vec::new() };
    beginning_with(stage.actor_names().names().iter().map(ToString::to_string), current)
}

/// Absolute paths inside, of every actor.
pub(crate) fn inside(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(stage) = stage() else { return Vec::new() };
    let typed = current.to_string_lossy();
    let mut all: Vec<String> = Vec::new();
    for name in stage.actor_names().names() {
        let line = format!("{name} reads {}", if typed.is_empty() { "/" } else { &typed });
        all.extend(words_at(&stage, "", &line, line.len()).1);
    }
    all.sort();
    all.dedup();
    beginning_with(all.into_iter(), current)
}

/// A whole act as one argument: what is typed of it, with the word that may come next.
pub(crate) fn act(current: &OsStr) -> Vec<CompletionCandidate> {
    let Some(stage) = stage() else { return Vec::new() };
    let typed = current.to_string_lossy();
    let (start, words) = words_at(&stage, "", &typed, typed.len());
    if start == 0 {
        return actors(current);
    }
    let (before, _) = typed.split_at(start);
    // A rehearsal knows words that are not acts.
    let verb = before.split_whitespace().count() == 1;
    let words = words.into_iter().filter(|word| !verb || Verb::by_word(word).is_some());
    offered(words.map(|word| format!("{before}{word}")))
}
