//! An input read once for everything but its workloads: those are held while they are few, and read again one by one
//! where they are many, so that memory does not grow with their number.

use std::collections::HashSet;
use std::mem::Discriminant;
use std::sync::Arc;

use mivask_core::actor_names::ActorNames;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{Scene, Volume, VolumeKind, Workload};
use mivask_core::sharing::Sharing;

use crate::described::Described;
use crate::diagnostic::Diagnostics;
use crate::files::{FileReader, InputError, Origin};
use crate::input::{parts_of, read_parts};

/// Workloads that are held; more are read again when they are asked for.
const MOST_HELD: usize = 64;

/// Everything an input tells, with its workloads at hand.
#[derive(Debug)]
pub struct Outline {
    /// What was given beside the workloads: their list is empty.
    pub scene: Scene,
    /// Each workload's name, kind and flavour, in order.
    pub headings: Vec<Heading>,
    /// The names of all actors.
    pub actor_names: Arc<ActorNames>,
    /// The filesystem groups of the pods on each claim.
    pub sharing: Arc<Sharing>,
    /// The volumes that are there without the workloads that mount them, each with its namespace: claims, and volumes that have a name.
    pub volumes: Vec<(String, Volume)>,
    kept: Kept,
}

/// What a workload is called.
#[derive(Clone, Debug)]
pub struct Heading {
    /// Its name.
    pub name: Arc<str>,
    /// Its kind in the description.
    pub kind: Arc<str>,
    /// What kind of description it comes from.
    pub flavour: Flavour,
}

#[derive(Debug)]
enum Kept {
    Held(Vec<Arc<Workload>>),
    /// The files they are in.
    Again(Vec<Origin>),
}

/// Names that are gathered while documents come and go.
#[derive(Default)]
struct Gathering {
    headings: Vec<Heading>,
    containers: Vec<(Arc<str>, Arc<str>)>,
    sharing: Sharing,
    volumes: Vec<(String, Volume)>,
    known: HashSet<VolumeKey>,
    held: Vec<Arc<Workload>>,
    hold: bool,
}

/// What tells a volume from all others: its namespace, what kind it is, its key, and what an engine lists it as.
type VolumeKey = (String, Discriminant<VolumeKind>, String, Option<String>);

impl Gathering {
    fn outline(self, scene: Scene, kept: Kept) -> Outline {
        let names = self.containers.iter().map(|(workload, container)| (workload, &**container));
        let actor_names = Arc::new(ActorNames::of(names));
        let sharing = Arc::new(self.sharing);
        Outline { scene, headings: self.headings, actor_names, sharing, volumes: self.volumes, kept }
    }

    fn take_volumes(&mut self, workload: &Workload) {
        for volume in &workload.volumes {
            let Some(key) = volume.key() else { continue };
            let listed =
                if let VolumeKind::Named { listed, .. } = &volume.kind { Some(listed.clone()) } else { None };
            let kind = std::mem::discriminant(&volume.kind);
            if self.known.insert((workload.namespace.clone(), kind, key.to_owned(), listed)) {
                self.volumes.push((workload.namespace.clone(), volume.clone()));
            }
        }
    }

    fn take(&mut self, scene: &mut Scene) {
        for workload in scene.workloads.drain(..) {
            self.sharing.take(&workload);
            self.take_volumes(&workload);
            let name: Arc<str> = Arc::from(workload.name.as_str());
            let names = workload.containers.iter().map(|one| (name.clone(), Arc::from(one.name.as_str())));
            self.containers.extend(names);
            let kind = match self.headings.last() {
                Some(last) if *last.kind == *workload.kind => last.kind.clone(),
                _ => Arc::from(workload.kind.as_str()),
            };
            self.headings.push(Heading { name, kind, flavour: workload.flavour });
            if self.hold || self.headings.len() <= MOST_HELD {
                self.held.push(workload);
            } else {
                self.held = Vec::new();
            }
        }
    }
}

impl Outline {
    /// Reads `origin`, a folder of files included.
    ///
    /// # Errors
    /// The input cannot be read at all.
    pub fn read(
        origin: &Origin,
        files: &dyn FileReader,
        diagnostics: &mut Diagnostics,
    ) -> Result<Self, InputError> {
        let parts = parts_of(origin, files)?;
        let hold = !parts.iter().all(|part| files.reads_twice(part));
        let mut gathering = Gathering { hold, ..Gathering::default() };
        let mut described = Described::default();
        read_parts(&parts, files, &mut described, diagnostics, &mut |scene| gathering.take(scene))?;
        let mut scene = described.scene;
        if !scene.workloads.is_empty() {
            // A scene file comes as a whole.
            gathering.hold = true;
            gathering.take(&mut scene);
        }
        let many = !gathering.hold && gathering.headings.len() > MOST_HELD;
        let kept = if many { Kept::Again(parts) } else { Kept::Held(std::mem::take(&mut gathering.held)) };
        Ok(gathering.outline(scene, kept))
    }

    /// The outline of a scene that was read as a whole.
    #[must_use]
    pub fn of(mut scene: Scene) -> Self {
        let mut gathering = Gathering { hold: true, ..Gathering::default() };
        gathering.take(&mut scene);
        let kept = Kept::Held(std::mem::take(&mut gathering.held));
        gathering.outline(scene, kept)
    }

    /// What was given beside the workloads, and the workloads where they are held.
    pub fn parts(&mut self) -> (&mut Scene, Option<&[Arc<Workload>]>) {
        let held = match &self.kept {
            Kept::Held(held) => Some(held.as_slice()),
            Kept::Again(_) => None,
        };
        (&mut self.scene, held)
    }

    /// Calls `use_it` with each workload in order.
    ///
    /// # Errors
    /// The input cannot be read again, or `use_it` ends it.
    pub fn each<E: From<InputError>>(
        &self,
        files: &dyn FileReader,
        use_it: &mut dyn FnMut(&Arc<Workload>) -> Result<(), E>,
    ) -> Result<(), E> {
        let parts = match &self.kept {
            Kept::Held(held) => return held.iter().try_for_each(use_it),
            Kept::Again(parts) => parts,
        };
        // What is given beside them, and what is wrong with them, is known already.
        let mut described = Described::default();
        let mut diagnostics = Diagnostics::default();
        let mut ended = Ok(());
        read_parts(parts, files, &mut described, &mut diagnostics, &mut |scene| {
            let workloads = std::mem::take(&mut scene.workloads);
            if ended.is_ok() {
                ended = workloads.iter().try_for_each(&mut *use_it);
            }
            scene.cluster = mivask_core::cluster::Cluster::default();
        })?;
        ended
    }
}
