//! How acts end at the place where a sweep begins, which is no entry of it.

use mivask_model::mode::{FileKind, Mode};
use mivask_rules::decide::{decide, decide_new_entry};
use mivask_rules::imprint::NewKind;
use mivask_stage::stage::{Actor, Stage};

use super::column::{Column, Ending};
use super::recorder::Recorder;

/// How the question of this column ends at `path`, and by which check, for the first that `actor` may be; `None` of one that may be nobody.
#[must_use]
pub fn ending_at(
    stage: &Stage,
    actor: &Actor,
    (path, kind): (&[u8], FileKind),
    column: Column,
) -> Option<Ending> {
    let view = stage.view(actor, actor.credentials.first()?, "");
    let mut recorder = Recorder::default();
    let ended = match column.verb(kind) {
        Some(verb) => decide(&view, &verb, path, &mut recorder).map(drop),
        None => decide_new_entry(&view, NewKind::File, Mode::new(0o666), path, &mut recorder).map(drop),
    };
    Some(recorder.ending(ended))
}
