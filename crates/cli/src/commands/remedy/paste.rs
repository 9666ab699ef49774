//! Remedies as patches of the user's own files.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use mivask_core::act::Act;
use mivask_core::change::{Change, Changes};
use mivask_core::remedy::{Remedy, Situation};
use mivask_core::scene::{Scene, Workload};
use mivask_read::input::FileReader;
use mivask_read::patch::{PatchError, file_of, patched};
use mivask_show::remedy::{PatchedFile, Written};
use similar::TextDiff;

use super::build;
use super::moved::Moved;
use crate::inputs::Files;

/// Patches of the files of one situation, each of which is read once.
pub(in crate::commands) struct Texts<'a> {
    situation: &'a Situation<'a>,
    read: BTreeMap<String, Option<String>>,
}

impl<'a> Texts<'a> {
    pub(in crate::commands) const fn new(situation: &'a Situation<'a>) -> Self {
        Self { situation, read: BTreeMap::new() }
    }

    /// The changes of `remedy` written into the files that take them; a build is tried with `acts`, which succeed after it.
    pub(in crate::commands) fn written(&mut self, remedy: &Remedy, acts: &[Act]) -> Written {
        let scene = self.situation.scene();
        let changes = remedy.steps.iter().map(|step| &step.change);
        let mut by_file: Vec<(String, Vec<&Change>)> = Vec::new();
        for change in changes.filter(|change| !matches!(change, Change::Files(_) | Change::Image(_))) {
            let Some(file) = workload(scene, change).and_then(|one| file_of(one)) else { continue };
            match by_file.iter_mut().find(|(known, _)| known == file) {
                Some((_, all)) => all.push(change),
                None => by_file.push((file.to_owned(), vec![change])),
            }
        }
        let mut written = Written::default();
        for (file, changes) in by_file {
            let one = self.in_file(scene, file, &changes);
            written.files.push(one);
        }
        for image in build::images(remedy) {
            let Some(file) = build::file(scene, &image) else { continue };
            let path = file.path.clone();
            let made = self.text(&path).map(|text| {
                let new = build::edited(self.situation, (remedy, acts), (&image, &text), &file);
                (text, new)
            });
            match made {
                Some((old, Some(new))) => {
                    written.images.push(image);
                    // A build file is no object that is merged.
                    let mut one = PatchedFile { old: None, ..changed(path, &old, new.text) };
                    if new.whole_copy {
                        one.problems.push("nothing runs in that image, so the option of the copy gives away all that it copies".to_owned());
                    }
                    written.files.push(one);
                }
                Some((_, None)) => written.files.push(PatchedFile {
                    problems: vec![format!(
                        "no one line of {path} does it: put the command behind whatever makes the file, or copy it from a stage that did it"
                    )],
                    file: Some(path),
                    ..PatchedFile::default()
                }),
                None => {}
            }
        }
        written
    }

    /// `changes` written into one file, which all their workloads are from.
    fn in_file(&mut self, scene: &Scene, file: String, changes: &[&Change]) -> PatchedFile {
        let mut problems = Vec::new();
        let mut workloads: Vec<Arc<Workload>> = Vec::new();
        for given in changes.iter().filter_map(|change| workload(scene, change)) {
            if !workloads.iter().any(|known| known.name == given.name) {
                workloads.push(given.clone());
            }
        }
        let Some(old) = self.text(&file) else {
            problems.push(format!("{file} cannot be read again, so there is no patch"));
            return PatchedFile { problems, ..PatchedFile::default() };
        };
        let mut new = old.clone();
        for change in changes {
            let Some(given) = workload(scene, change) else { continue };
            let Some(at) = workloads.iter().position(|known| known.name == given.name) else { continue };
            match patched(&new, &workloads[at], change) {
                Ok(text) => {
                    let moved = Moved::between(&new, &text);
                    workloads.iter_mut().for_each(|workload| moved.follow(workload));
                    new = text;
                    // A later change sees what this one added.
                    let all = Changes::new(vec![(*change).clone()]);
                    let _ = all.apply_to_workload(&mut workloads[at]);
                }
                Err(PatchError::Elsewhere) => {}
                Err(error) => problems.push(error.to_string()),
            }
        }
        if new == old {
            return PatchedFile { file: Some(file), problems, ..PatchedFile::default() };
        }
        PatchedFile { problems, ..changed(file, &old, new) }
    }

    fn text(&mut self, file: &str) -> Option<String> {
        let read = || String::from_utf8(Files::default().read(Path::new(file)).ok()?).ok();
        self.read.entry(file.to_owned()).or_insert_with(read).clone()
    }
}

fn changed(file: String, old: &str, new: String) -> PatchedFile {
    let diff = TextDiff::from_lines(old, &new);
    let diff = diff.unified_diff().context_radius(2).header(&file, &file).to_string();
    PatchedFile { file: Some(file), diff, old: Some(old.to_owned()), text: Some(new), problems: Vec::new() }
}

/// The workload that a change is about.
fn workload<'a>(scene: &'a Scene, change: &Change) -> Option<&'a Arc<Workload>> {
    let changes = Changes::new(vec![change.clone()]);
    let name = changes.actors().next().map(|(_, name)| name.to_owned());
    let named = |workload: &&Arc<Workload>| {
        workload.containers.iter().any(|one| match &name {
            Some(name) => *name == one.name || *name == format!("{}/{}", workload.name, one.name),
            None => true,
        })
    };
    scene.workloads.iter().find(named)
}
