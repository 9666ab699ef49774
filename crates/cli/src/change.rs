//! `--change`: sentences on the command line, made in what was read.

use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;

use globset::GlobBuilder;
use mivask_core::actor_names::ActorNames;
use mivask_core::change::{Change, Changes, parse_change};
use mivask_core::glob::{Globs, Matcher, PatternError};
use mivask_core::names::{AccountNames, with_any_number};
use mivask_core::scene::{Scene, Workload};
use mivask_read::diagnostic::{Diagnostics, Severity};
use mivask_read::outline::Outline;
use mivask_read::text::SourceText;
use mivask_show::safe;

use crate::diagnostics;
use crate::end::Failure;
use crate::inputs::Files;

/// The pattern language of `--matching`.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Patterns;

impl Globs for Patterns {
    fn matcher(&self, pattern: &[u8]) -> Result<Matcher, PatternError> {
        let text = std::str::from_utf8(pattern).map_err(|_| PatternError::new("a pattern is UTF-8"))?;
        let glob = GlobBuilder::new(text).literal_separator(true).build();
        let matcher = glob.map_err(|error| PatternError::new(error.kind().to_string()))?.compile_matcher();
        Ok(Box::new(move |path| matcher.is_match(std::ffi::OsStr::from_bytes(path))))
    }
}

/// Every change of the command line, or every mistake in them; names of accounts are those that `scene` gives.
pub(crate) fn read(sentences: &[String], scene: &Scene, err: &mut dyn Write) -> Result<Changes, Failure> {
    let names = AccountNames::of(scene);
    let numbered: Vec<String> = sentences.iter().map(|text| names.numbered(text)).collect();
    parsed(&numbered, err)
}

/// Tells every mistake that does not hang on the names of accounts.
pub(crate) fn check(sentences: &[String], err: &mut dyn Write) -> Result<(), Failure> {
    let any: Vec<String> = sentences
        .iter()
        .map(|text| if parse_change(text).is_ok() { text.clone() } else { with_any_number(text) })
        .collect();
    parsed(&any, err).map(drop)
}

fn parsed(sentences: &[String], err: &mut dyn Write) -> Result<Changes, Failure> {
    let mut diagnostics = Diagnostics::default();
    let mut all: Vec<Change> = Vec::new();
    for (index, text) in sentences.iter().enumerate() {
        match parse_change(text) {
            Ok(change) => all.push(change),
            Err(error) => {
                let source = SourceText::new(&format!("change {}", index + 1), text);
                diagnostics.add(
                    Severity::Error,
                    &source,
                    &error.span,
                    error.to_string(),
                    Some(mivask_read::help::help(&error.kind)),
                );
            }
        }
    }
    diagnostics::settle(&diagnostics, err)?;
    Ok(Changes::with_globs(all, Arc::new(Patterns)))
}

/// Whoever is named must be there.
fn known(changes: &Changes, actor_names: &ActorNames) -> Result<(), Failure> {
    Ok(changes.actors().try_for_each(|(_, name)| actor_names.find(name).map(drop))?)
}

/// Makes all that concerns a scene, and tells what is worth knowing.
pub(crate) fn scene(changes: &Changes, scene: &mut Scene, err: &mut dyn Write) -> Result<(), Failure> {
    if changes.is_empty() {
        return Ok(());
    }
    known(changes, &scene.actor_names())?;
    tell(&changes.apply_to_scene(scene)?, err)
}

/// Makes all that concerns accounts and the host; workloads are changed one by one, when they are staged.
pub(crate) fn outline(changes: &Changes, outline: &mut Outline, err: &mut dyn Write) -> Result<(), Failure> {
    if changes.is_empty() {
        return Ok(());
    }
    known(changes, &outline.actor_names.clone())?;
    let mut notes = Vec::new();
    // Accounts are those of the image of an actor, whose workload may have to be read again.
    let mut concerned: Vec<Arc<Workload>> = Vec::new();
    outline.each(&Files::default(), &mut |workload| -> Result<(), Failure> {
        let named = |name: &str| {
            let mut containers = workload.containers.iter();
            containers.any(|one| name == one.name || name == format!("{}/{}", workload.name, one.name))
        };
        if changes.actors().any(|(_, name)| named(name)) {
            let mut workload = workload.clone();
            notes.extend(changes.apply_to_workload(&mut workload)?);
            concerned.push(workload);
        }
        Ok(())
    })?;
    let (scene, _) = outline.parts();
    notes.extend(changes.apply_to_surroundings(scene, &concerned)?);
    tell(&notes, err)
}

/// Each workload, after what is changed about it.
pub(crate) fn each_workload(
    changes: &Changes,
    outline: &Outline,
    use_it: &mut dyn FnMut(&Arc<Workload>) -> Result<(), Failure>,
) -> Result<(), Failure> {
    outline.each(&Files::default(), &mut |given| {
        let mut workload = given.clone();
        changes.apply_to_workload(&mut workload)?;
        use_it(&workload)
    })
}

fn tell(notes: &[String], err: &mut dyn Write) -> Result<(), Failure> {
    for note in notes {
        writeln!(err, "note: {}", safe(note))?;
    }
    Ok(())
}
