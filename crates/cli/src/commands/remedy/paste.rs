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
        let mut written = Written::default();
        let described: Vec<&Change> = remedy
            .steps
            .iter()
            .map(|step| &step.change)
            .filter(|change| !matches!(change, Change::Files(_) | Change::Image(_)))
            .collect();
        let Some(actor) = described.first() else { return written };
        let Some(mut workload) = workload(scene, actor).cloned() else { return written };
        let Some(file) = file_of(&workload).map(ToOwned::to_owned) else { return written };
        let Some(old) = self.text(&file) else {
            written.problems.push(format!("{file} cannot be read again, so there is no patch"));
            return written;
        };
        let mut new = old.clone();
        for change in described {
            match patched(&new, &workload, change) {
                Ok(text) => {
                    new = text;
                    // A later change sees what this one added.
                    let _ = Changes::new(vec![change.clone()]).apply_to_workload(&mut workload);
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
