//! What new files and directories will look like, per actor and directory.

use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::MountOrigin;
use mivask_model::outcome::Imprint;
use mivask_rules::decide::decide_new_entry;
use mivask_rules::explore::Explorer;
use mivask_rules::imprint::NewKind;
use mivask_rules::settle::{Dependence, Outcome, settle};
use mivask_rules::usually::Usually;
use mivask_rules::view::View;
use mivask_stage::stage::{Actor, Stage};

use super::ask::{explored, usual_steps};
use super::start::{if_it_starts, usually_if_it_starts};
use crate::question::facts_at;

/// What one actor leaves in one directory.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct ImprintRow {
    /// The actor's name.
    pub actor: String,
    /// The directory inside.
    pub directory: Vec<u8>,
    /// File or directory.
    pub kind: NewKind,
    /// The mode that is asked for.
    pub requested: Mode,
    /// Whether it can be created at all.
    pub outcome: Outcome,
    /// What it will look like.
    pub imprint: Option<Imprint>,
    /// The possibilities, where a fact is missing.
    pub depends_on: Vec<Dependence>,
    /// How it ends where every missing fact that matters is as usual.
    pub usually: Option<Usually>,
}

/// Two rows for each directory: a file asked for with 0666 and a directory asked for with 0777.
///
/// Without `directories` those are the mounts the description asks for.
#[must_use]
pub fn imprints(stage: &Stage, actor: &Actor, directories: &[Vec<u8>]) -> Vec<ImprintRow> {
    let mounted: Vec<Vec<u8>>;
    let directories = if directories.is_empty() {
        let declared = actor.mounts.iter().filter(|(_, mount)| mount.origin == MountOrigin::Declared);
        let places = declared.map(|(_, mount)| mount.facts.at.to_vec());
        mounted = places
            .filter(|at| facts_at(stage, actor, at).is_none_or(|f| f.kind == FileKind::Directory))
            .collect();
        &mounted
    } else {
        directories
    };
    let kinds = [(NewKind::File, Mode::new(0o666)), (NewKind::Directory, Mode::new(0o777))];
    let mut rows = Vec::new();
    for directory in directories {
        for (kind, requested) in kinds {
            rows.push(row(stage, actor, directory, kind, requested));
        }
    }
    rows
}

fn row(stage: &Stage, actor: &Actor, directory: &[u8], kind: NewKind, requested: Mode) -> ImprintRow {
    let ((outcome, effect, depends_on), usually) = match actor.refusal() {
        Some(refusal) => {
            let never = Outcome::NeverRuns(refusal.clone());
            ((never, mivask_model::outcome::Effect::default(), Vec::new()), None)
        }
        None => {
            let decide =
                |view: &View<'_>, w: &mut Explorer| decide_new_entry(view, kind, requested, directory, w);
            let explored = explored(stage, actor, decide);
            let settled = if_it_starts(actor, settle(&explored));
            let mut usually = usually_if_it_starts(actor, &explored, &settled.0);
            // The checks are nobody's here.
            let _ = usual_steps(stage, actor, usually.as_mut(), decide);
            (settled, usually)
        }
    };
    // Where it depends, what it looks like if it is allowed is still worth saying, if all agree.
    let imprint = effect.imprint.or_else(|| {
        let allowed = depends_on.iter().filter_map(|one| one.end.effect()?.imprint.clone());
        allowed.reduce(|a, b| a.agreed(&b))
    });
    ImprintRow {
        actor: actor.name.to_string(),
        directory: directory.to_vec(),
        kind,
        requested,
        outcome,
        imprint,
        depends_on,
        usually,
    }
}
