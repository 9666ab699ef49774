//! Remedies as patches of the user's own files.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use crate::inputs::Files;
use mivask_core::change::{Change, Changes};
use mivask_core::remedy::Remedy;
use mivask_core::scene::{Scene, Workload};
use mivask_read::input::FileReader;
use mivask_read::patch::{PatchError, file_of, patched};
use mivask_show::remedy::Written;
use similar::TextDiff;

/// Files that were read already.
#[derive(Default)]
pub(in crate::commands) struct Texts(BTreeMap<String, Option<String>>);

impl Texts {
    /// The changes of `remedy` that a description takes, written into it.
    pub(in crate::commands) fn written(&mut self, scene: &Scene, remedy: &Remedy) -> Written {
        self.each(scene, remedy).into_iter().next().unwrap_or_default()
    }

    /// The changes of `remedy` that descriptions take, written into each of the files.
    pub(in crate::commands) fn each(&mut self, scene: &Scene, remedy: &Remedy) -> Vec<Written> {
        let changes = remedy.steps.iter().map(|step| &step.change);
        let mut by_file: Vec<(String, Vec<&Change>)> = Vec::new();
        for change in changes.filter(|change| !matches!(change, Change::Files(_) | Change::Image(_))) {
            let Some(file) = workload(scene, change).and_then(|one| file_of(one)) else { continue };
            match by_file.iter_mut().find(|(known, _)| known == file) {
                Some((_, all)) => all.push(change),
                None => by_file.push((file.to_owned(), vec![change])),
            }
        }
        by_file.into_iter().map(|(file, changes)| self.in_file(scene, file, &changes)).collect()
    }

    /// `changes` written into one file, which all their workloads are from.
    fn in_file(&mut self, scene: &Scene, file: String, changes: &[&Change]) -> Written {
        let mut written = Written::default();
        let mut workloads: Vec<Arc<Workload>> = Vec::new();
        let Some(old) = self.text(&file) else {
            written.problems.push(format!("{file} cannot be read again, so there is no patch"));
            return written;
        };
        let mut new = old.clone();
        for change in changes {
            let Some(given) = workload(scene, change) else { continue };
            let at = workloads.iter().position(|known| known.name == given.name).unwrap_or_else(|| {
                workloads.push(given.clone());
                workloads.len() - 1
            });
            match patched(&new, &workloads[at], change) {
                Ok(text) => {
                    new = text;
                    // A later change sees what this one added.
                    let all = Changes::new(vec![(*change).clone()]);
                    let _ = all.apply_to_workload(&mut workloads[at]);
                }
                Err(PatchError::Elsewhere) => {}
                Err(error) => written.problems.push(error.to_string()),
            }
        }
        if new != old {
            let diff = TextDiff::from_lines(&old, &new);
            written.diff = diff.unified_diff().context_radius(2).header(&file, &file).to_string();
            written.text = Some(new);
        }
        written.file = Some(file);
        written
    }

    fn text(&mut self, file: &str) -> Option<String> {
        let read = || String::from_utf8(Files::default().read(Path::new(file)).ok()?).ok();
        self.0.entry(file.to_owned()).or_insert_with(read).clone()
    }
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
