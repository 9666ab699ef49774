//! Answers as the page shows them: words, each safe to look at; the template escapes what HTML would obey.

use std::collections::BTreeMap;

use mivask_core::act::quoted;
use mivask_core::exposure::Finding;
use mivask_core::fact::Provenance;
use mivask_core::mode::{Mode, symbolic};
use mivask_core::mount::RootFacts;
use mivask_core::picked::in_words;
use mivask_core::question::{AccessRow, MountRow, PathFacts};
use mivask_core::remedy::Remedy;
use mivask_core::settle::Outcome;
use mivask_core::stage::Actor;

use super::Denied;
use crate::figure;
use crate::remedy::Written;
use crate::safe::safe;
use crate::shell;
use crate::style::USUAL_MARK;
use crate::text::access::not_shown;
use crate::text::remedy_summary;
use crate::upheld::{Run, at, sentences};
use crate::words::id;

/// One actor with its facts.
pub(super) struct ActorView {
    pub name: String,
    pub heading: String,
    pub refusal: Option<String>,
    pub facts: Vec<FactView>,
    pub notes: Vec<String>,
}

pub(super) struct FactView {
    pub field: &'static str,
    pub value: String,
    pub from: String,
    pub open: bool,
}

impl ActorView {
    pub(super) fn new(actor: &Actor) -> Self {
        let refusal = actor.refusal().map(|refusal| {
            safe(&format!("never runs: {} ({}, {})", refusal.reason, refusal.class, refusal.from))
        });
        let fact = |fact: &mivask_core::identity::IdentityFact| FactView {
            field: fact.field.word(),
            value: safe(&fact.value),
            from: safe(&fact.from.to_string()),
            open: matches!(fact.from, Provenance::Unknown(_)),
        };
        let mut notes: Vec<String> = Vec::new();
        if let Some(unknown) = &actor.identity.question {
            let whens: Vec<String> = actor.identity.possible.iter().map(|(when, _)| safe(when)).collect();
            notes.push(format!("either {}; to settle it: {}", whens.join(", or "), safe(&unknown.settle)));
        }
        notes.extend(actor.identity.assumptions.iter().map(|text| format!("assumed: {}", safe(text))));
        Self {
            name: safe(&actor.name),
            heading: crate::text::place(actor),
            refusal,
            facts: actor.facts().iter().map(fact).collect(),
            notes,
        }
    }
}

/// The mounts of one actor.
pub(super) struct MountsView {
    pub actor: String,
    pub rows: Vec<MountView>,
}

pub(super) struct MountView {
    pub at: String,
    pub what: String,
    pub flags: String,
    pub root: String,
    pub before: String,
    pub notes: Vec<String>,
    pub from: String,
    /// Whether no one asked for it.
    pub usual: bool,
}

impl MountsView {
    /// Those of one actor; `None` where it has none.
    pub(super) fn new(rows: &[MountRow]) -> Option<Self> {
        let actor = safe(&rows.first()?.actor);
        Some(Self { actor, rows: rows.iter().map(MountView::new).collect() })
    }
}

impl MountView {
    fn new(row: &MountRow) -> Self {
        let facts = |root: RootFacts| format!("{}:{} {}", in_words(root.uid), in_words(root.gid), root.mode);
        let kind = row.filesystem.as_ref().filter(|kind| ***kind != *row.kind.word() && **kind != row.source);
        let mut notes: Vec<String> = row.notes.iter().map(|note| safe(note)).collect();
        notes.extend(label(row));
        if let Some(unknown) = &row.question {
            notes.push(format!(
                "not known: {}; to settle it: {}",
                safe(&unknown.fact),
                safe(&unknown.settle)
            ));
        }
        if row.touches > 0 {
            notes.push(format!("the preparation touches {} inodes", row.touches));
        }
        Self {
            at: quoted(&row.at),
            what: safe(
                &kind.map_or_else(|| row.source.to_string(), |kind| format!("{} ({kind})", row.source)),
            ),
            flags: if row.id_mapped { format!("{},idmapped", row.flags) } else { row.flags.to_string() },
            root: row.root.map_or_else(|| "not known".to_owned(), facts),
            before: row.prepared_from.map(facts).unwrap_or_default(),
            notes,
            from: safe(&row.from.to_string()),
            usual: row.is_default(),
        }
    }
}

/// The label of what shows there, where labels decide.
fn label(row: &MountRow) -> Option<String> {
    let label = match row.label.as_ref()? {
        Some(label) => format!("label {}", safe(label)),
        None => "label not known".to_owned(),
    };
    Some(row.relabelled.map_or(label.clone(), |how| format!("{label}, by {}", how.by())))
}

/// The matrix of one actor.
pub(super) struct MatrixView {
    pub actor: String,
    /// What below its paths has no row.
    pub not_shown: Vec<String>,
    pub rows: Vec<RowView>,
}

pub(super) struct RowView {
    pub path: String,
    pub owner: String,
    pub mode: String,
    pub cells: Vec<CellView>,
    /// The words of its outcomes, for the filter.
    pub outcomes: String,
}

pub(super) struct CellView {
    pub title: &'static str,
    pub text: String,
    pub class: &'static str,
    /// The number of the walk behind it.
    pub walk: Option<usize>,
}

/// The number of the walk of an actor, a path and a column.
type Walks<'a> = BTreeMap<(&'a str, &'a [u8], &'static str), usize>;

impl MatrixView {
    pub(super) fn all(rows: &[AccessRow], denied: &[Denied]) -> Vec<Self> {
        let mut walks = Walks::new();
        for (number, one) in denied.iter().enumerate() {
            for (actor, path, column) in &one.cells {
                walks.insert((actor, path, column), number + 1);
            }
        }
        let groups = rows.chunk_by(|a, b| a.actor == b.actor);
        groups
            .map(|group| Self {
                actor: safe(&group[0].actor),
                not_shown: group.iter().filter(|row| row.deeper > 0).map(not_shown).collect(),
                rows: group.iter().map(|row| RowView::new(row, &walks)).collect(),
            })
            .collect()
    }
}

impl RowView {
    fn new(row: &AccessRow, walks: &Walks<'_>) -> Self {
        let facts = row.facts.as_ref();
        let cells = row.cells.iter().map(|(column, answer)| {
            let walk = walks.get(&(row.actor.as_str(), row.path.as_slice(), column.word())).copied();
            CellView::new(column.word(), answer.as_ref(), walk).usually(row.usually.of(column).as_ref())
        });
        let data = facts.and_then(|facts| facts.mode).is_some_and(|mode| !mode.has_any(Mode::ANY_EXECUTE));
        let mut cells: Vec<CellView> = cells.collect();
        // That a file of data does not run is true, and that nobody deletes a mount point, but nothing to look at.
        let dull = |cell: &CellView| match cell.title {
            "run" => data && cell.class == "denied",
            "delete" => row.mount_point,
            _ => false,
        };
        cells.iter_mut().filter(|cell| dull(cell)).for_each(|cell| cell.class = "none");
        let mut outcomes: Vec<&str> = cells.iter().map(|cell| cell.class).collect();
        outcomes.sort_unstable();
        outcomes.dedup();
        Self {
            path: quoted(&row.path),
            owner: facts.map_or_else(String::new, |facts| {
                format!("{}:{}", id(facts.uid.map(|uid| uid.raw())), id(facts.gid.map(|gid| gid.raw())))
            }),
            mode: match facts {
                None if row.missing => "missing".to_owned(),
                None => "not known".to_owned(),
                Some(PathFacts { kind, mode: Some(mode), .. }) => {
                    format!("{} {mode}", symbolic(*kind, *mode))
                }
                Some(PathFacts { kind, mode: None, .. }) => format!("{}, not known", kind.word()),
            },
            outcomes: outcomes.join(" "),
            cells,
        }
    }
}

impl CellView {
    fn new(title: &'static str, answer: Option<&Outcome>, walk: Option<usize>) -> Self {
        let (text, class) = match answer {
            None => ("–".to_owned(), "none"),
            Some(Outcome::Allowed) => ("yes".to_owned(), "allowed"),
            Some(Outcome::Denied(errno)) => {
                (errno.map_or_else(|| "denied".to_owned(), |errno| errno.name().to_owned()), "denied")
            }
            Some(Outcome::Depends) => ("depends".to_owned(), "depends"),
            Some(Outcome::NeverRuns(_)) => ("never".to_owned(), "denied"),
        };
        Self { title, text, class, walk }
    }

    /// The same where another answer is usual.
    fn usually(self, usual: Option<&Outcome>) -> Self {
        let Some(usual) = usual else { return self };
        Self { text: format!("{USUAL_MARK}{}", Self::new(self.title, Some(usual), None).text), ..self }
    }
}

/// A denied act with its figure and what would let it succeed.
pub(super) struct DeniedView {
    pub number: usize,
    pub sentence: String,
    pub ends: String,
    pub others: Vec<String>,
    pub figure: String,
    pub remedies: Vec<RemedyView>,
    pub hint: Option<String>,
}

pub(super) struct RemedyView {
    pub changes: Vec<String>,
    pub summary: String,
    pub notes: Vec<String>,
    pub commands: String,
    pub diff: Vec<DiffLine>,
}

pub(super) struct DiffLine {
    pub class: &'static str,
    pub text: String,
}

impl DeniedView {
    pub(super) fn new(number: usize, denied: &Denied, stage: &mivask_core::stage::Stage) -> Self {
        let walk = figure::Walk::new(stage, &denied.answer);
        let (found, hint) = denied.remedies.as_ref().map_or((Vec::new(), None), |(found, written)| {
            let views =
                found.remedies.iter().zip(written).map(|(remedy, written)| RemedyView::new(remedy, written));
            let views: Vec<RemedyView> = views.collect();
            let hint = if views.is_empty() { found.hint.as_ref() } else { None };
            (views, hint.map(|hint| safe(hint)))
        });
        Self {
            number,
            sentence: safe(&walk.sentence),
            ends: walk.ends.clone(),
            others: denied.others.iter().map(|other| safe(other)).collect(),
            figure: figure::walk(&walk).inline(),
            remedies: found,
            hint,
        }
    }
}

impl RemedyView {
    fn new(remedy: &Remedy, written: &Written) -> Self {
        let changes = remedy.steps.iter();
        let mut notes: Vec<String> = remedy.notes.iter().map(|note| safe(note)).collect();
        notes.extend(remedy.undone.iter().map(|undone| format!("does not last: {}", safe(undone))));
        notes.extend(written.files.iter().flat_map(|file| file.problems.iter().map(|problem| safe(problem))));
        let line = |line: &str| DiffLine {
            class: match line.as_bytes() {
                [b'+', b'+', b'+', ..] | [b'-', b'-', b'-', ..] => "head",
                [b'+', ..] => "added",
                [b'-', ..] => "gone",
                _ => "same",
            },
            text: safe(line),
        };
        Self {
            changes: changes
                .map(|step| format!("{}: {}", step.side.word(), safe(&step.change.to_string())))
                .collect(),
            summary: remedy_summary(remedy),
            notes,
            commands: shell::commands(remedy, &written.images).join("\n"),
            diff: written.files.iter().flat_map(|file| file.diff.lines().map(line)).collect(),
        }
    }
}

/// One finding.
pub(super) struct FindingView {
    pub severity: &'static str,
    pub kind: &'static str,
    pub paths: Vec<String>,
    pub consequence: String,
    pub fact: String,
    pub actors: String,
    pub accepted: Option<String>,
}

impl FindingView {
    pub(super) fn new(finding: &Finding) -> Self {
        Self {
            severity: finding.severity.word(),
            kind: finding.kind.word(),
            paths: if finding.paths.is_empty() {
                vec![safe(&finding.on)]
            } else {
                finding.paths.iter().map(|path| quoted(path)).collect()
            },
            consequence: format!(
                "{}{}",
                if finding.usual { "usually: " } else { "" },
                safe(&finding.consequence)
            ),
            fact: safe(&format!("{} on {} ({})", finding.fact, finding.on, finding.from)),
            actors: safe(&finding.actors.join(", ")),
            accepted: finding.accepted.as_ref().map(|one| safe(&format!("{} ({})", one.reason, one.from))),
        }
    }
}

/// One expectation.
pub(super) struct ExpectationView {
    pub standing: &'static str,
    pub class: &'static str,
    pub text: String,
    pub at: String,
    pub against: Vec<String>,
}

impl ExpectationView {
    pub(super) fn all(run: &Run) -> Vec<Self> {
        use mivask_core::expect::Standing;
        let held = run.inputs.iter().flat_map(|input| &input.held);
        held.map(|one| Self {
            standing: one.standing.word(),
            class: match one.standing {
                Standing::Holds => "allowed",
                Standing::MeetsNothing | Standing::Depends => "depends",
                Standing::Broken => "denied",
            },
            text: safe(&one.expected.text),
            at: safe(&at(&one.expected.from)),
            against: sentences(one),
        })
        .collect()
    }
}
