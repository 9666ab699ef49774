//! What differs between two scenes, ready to be shown.

use std::collections::HashMap;

use mivask_core::question::{CellOutcome, Contrast, FileChange, MountRow, OutcomeChange};
use mivask_core::stage::Actor;

use crate::sides::{self, Facet, Side, differences};

/// Everything that differs, grouped by cause.
#[derive(Debug, Default)]
pub struct Compared {
    /// Who is someone else: the value before, and the one after.
    pub identities: Vec<(Facet, Option<String>)>,
    /// What is mounted otherwise.
    pub mounts: Vec<(Facet, Option<String>)>,
    /// Files with another owner or mode, each once.
    pub files: Vec<FileChange>,
    /// Where the changes of each path are among them.
    places: HashMap<Vec<u8>, Vec<usize>>,
    /// What became allowed.
    pub opened: Vec<OutcomeChange>,
    /// What is no longer allowed.
    pub closed: Vec<OutcomeChange>,
    /// What ends otherwise.
    pub other: Vec<OutcomeChange>,
    /// Whether only what is directly in the mounts was compared.
    pub partial: bool,
    /// The paths inside that were asked for; none where everything mounted is compared, and images where they differ.
    pub below: Vec<Vec<u8>>,
}

/// An actor with its mounts, where a scene has it.
pub type Half<'a> = Option<(&'a Actor, &'a [MountRow])>;

impl Compared {
    /// Adds what differs between an actor of the first scene, or without the change, and the same one of the second.
    pub fn actor(&mut self, before: Half<'_>, after: Half<'_>) {
        let halves = [before, after];
        let identity = |(actor, _): (&Actor, _)| sides::identities(std::slice::from_ref(actor));
        self.identities.extend(pairs(halves.map(|half| half.map(identity).unwrap_or_default())));
        let mounts = |(_, mounts)| sides::mounts(mounts);
        self.mounts.extend(pairs(halves.map(|half| half.map(mounts).unwrap_or_default())));
    }

    /// Adds what differs for one actor. A file that several actors see is given once.
    pub fn contrast(&mut self, contrast: Contrast) {
        for file in contrast.files {
            let places = self.places.entry(file.path.clone()).or_default();
            let same = |at: &&usize| {
                let known: &FileChange = &self.files[**at];
                (known.before, known.after) == (file.before, file.after)
            };
            match places.iter().find(same) {
                Some(at) => {
                    let known = &mut self.files[*at];
                    known.actor.push_str(", ");
                    known.actor.push_str(&file.actor);
                }
                None => {
                    places.push(self.files.len());
                    self.files.push(file);
                }
            }
        }
        self.partial |= contrast.partial;
        self.opened.extend(contrast.opened);
        self.closed.extend(contrast.closed);
        self.other.extend(contrast.other);
    }

    /// Whether nothing differs.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        let outcomes = [&self.opened, &self.closed, &self.other];
        self.identities.is_empty()
            && self.mounts.is_empty()
            && self.files.is_empty()
            && outcomes.into_iter().all(Vec::is_empty)
    }
}

fn pairs([before, after]: [Vec<Facet>; 2]) -> Vec<(Facet, Option<String>)> {
    if before == after {
        return Vec::new();
    }
    let side = |runtime, facets| Side { runtime, facets };
    let sides = [side("before", before), side("after", after)];
    let rows = differences(&sides).into_iter();
    rows.map(|row| {
        let value = row.values[0].unwrap_or_default().to_owned();
        let facet = Facet { subject: row.subject.to_owned(), field: row.field, value };
        (facet, row.values[1].map(ToOwned::to_owned))
    })
    .collect()
}

/// A verdict in one word.
#[must_use]
pub fn word(verdict: CellOutcome) -> &'static str {
    match verdict {
        CellOutcome::Void => "-",
        CellOutcome::Allowed => "yes",
        CellOutcome::Denied(Some(errno)) => errno.name(),
        CellOutcome::Denied(None) => "denied",
        CellOutcome::Depends => "depends",
        CellOutcome::Never => "never",
    }
}
