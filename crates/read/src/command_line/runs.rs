//! Containers of one description together, as the services of a project.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use mivask_core::identity::{Knowledge, PlainIdentity};
use mivask_core::runtime::Runtime;
use mivask_core::scene::{Container, Scene, Who};

use super::made::Made;
use super::run::Run;
use crate::compose;
use crate::diagnostic::Diagnostics;
use crate::files::FileReader;
use crate::text::SourceText;
use crate::yaml::Node;

/// What was read of them.
#[derive(Default)]
pub(super) struct Runs {
    runs: Vec<Run>,
    /// The project's volumes.
    pub volumes: Made,
    engines: Vec<Runtime>,
    /// Images that are known to name no user.
    pub without_user: BTreeSet<String>,
}

/// Which description they are of.
pub(super) struct Of<'a> {
    pub source: &'a SourceText,
    pub folder: &'a Path,
    pub files: &'a dyn FileReader,
    /// What it is called, and of which kind it is.
    pub name: &'a str,
    pub kind: &'a str,
}

impl Runs {
    pub(super) fn push(&mut self, engine: Runtime, run: Run) {
        self.engines.push(engine);
        self.runs.push(run);
    }

    /// Adds the workload that they are.
    pub(super) fn add(mut self, of: &Of<'_>, scene: &mut Scene, diagnostics: &mut Diagnostics) {
        let (Some(begin), Some(end)) = (self.runs.first(), self.runs.last()) else { return };
        let span = begin.span.start..end.span.end.max(begin.span.start);
        // A script that starts containers of both engines is as good as one of none.
        if let (None, Some(first)) = (scene.runtime, self.engines.first())
            && self.engines.iter().all(|one| one == first)
        {
            scene.runtime = Some(*first);
        }
        for image in self.without_user {
            let user = &mut scene.images.entry(image).or_default().identity.user;
            if matches!(user, Knowledge::Unknown) {
                *user = Knowledge::Known(None);
            }
        }
        let names: BTreeSet<String> = self.runs.iter().map(|run| run.name.clone()).collect();
        let mut services = Made::default();
        for run in &mut self.runs {
            run.lend(&names);
            services.push(&run.name, std::mem::take(&mut run.service).node(run.span.clone()));
        }
        let mut root = Made::default();
        root.set("services", services.node(span.clone()));
        root.set("volumes", self.volumes.node(span.clone()));
        let root: Node = root.node(span);
        let workload = compose::workload((&root, of.source, of.folder), of.files, of.name, diagnostics);
        let Some((mut workload, builds)) = workload else { return };
        scene.builds.extend(builds);
        workload.kind = of.kind.to_owned();
        let mut runs: BTreeMap<String, Run> =
            self.runs.into_iter().map(|run| (run.name.clone(), run)).collect();
        for container in &mut workload.containers {
            if let Some(run) = runs.get_mut(&container.name) {
                finish(container, run);
            }
        }
        scene.workloads.push(Arc::new(workload));
    }
}

/// What no Compose service can say.
fn finish(container: &mut Container, run: &mut Run) {
    container.unmodelled.append(&mut run.unmodelled);
    container.of_user = run.of_user.take();
    container.pod = run.pod.take().map(Into::into);
    container.assumes = run.assumes.drain(..).map(Into::into).collect();
    container.no_scratch = run.no_scratch;
    if let Who::Plain(plain) = &mut container.who {
        let plain: &mut PlainIdentity = plain;
        plain.umask = run.umask.take();
        plain.untold = run.untold.take();
        plain.user_namespace = run.user_namespace.take().or(plain.user_namespace.take());
    }
}
