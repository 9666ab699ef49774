//! `remedy` for machines.

use std::io::{self, Write};

use mivask_core::question::OutcomeChange;
use mivask_core::remedy::{Remedies, Remedy, Standing, Together, TreeRemedies};
use schemars::JsonSchema;
use serde::Serialize;

use super::answers::ActJson;
use super::usually::UsualJson;
use super::{FORMAT, JsonPath};
use crate::remedy::{PatchedFile, Written};
use crate::shell;

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Remedies")]
pub(super) struct RemediesJson<'a> {
    mivask: u8,
    act: ActJson<'a>,
    /// The limit that is asked for, in place of an act.
    #[serde(skip_serializing_if = "Option::is_none")]
    limit: Option<StandingJson<'a>>,
    remedies: Vec<RemedyJson<'a>>,
    hint: Option<&'a str>,
    /// Whether combinations were left out, since there are too many.
    bounded: bool,
    /// The cause, where it is none that a change of the scene mends, or where none is needed.
    besides: Option<&'a str>,
    /// What `remedies` take to be as usual, where they help only then (docs/usual.md).
    as_usual: Vec<UsualJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Standing")]
struct StandingJson<'a> {
    /// `[ACTOR] PATH at-most MODE [owned-by OWNER]`
    limit: String,
    actor: &'a str,
    /// Whether it holds now; null where owner or mode is not known.
    holds: Option<bool>,
    wider: Option<&'a str>,
    fact: Option<&'a str>,
    /// What is not known that would tell.
    unknown: Option<&'a str>,
    /// Whether the filesystem-group step widens it whenever the volume is mounted.
    widened_again: bool,
}

impl<'a> StandingJson<'a> {
    fn new(standing: &'a Standing) -> Self {
        Self {
            limit: standing.limit.to_string(),
            actor: &standing.actor,
            holds: standing.fact.is_some().then(|| standing.holds()),
            wider: standing.wider.as_deref(),
            fact: standing.fact.as_deref(),
            unknown: standing.open.as_deref(),
            widened_again: standing.again,
        }
    }
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Remedy")]
struct RemedyJson<'a> {
    changes: Vec<ChangeJson>,
    opens: usize,
    opened: Vec<OpenedJson<'a>>,
    opens_partial: bool,
    /// How many pairs of actor and path are no longer allowed.
    closes: usize,
    closed: Vec<OpenedJson<'a>>,
    inodes: usize,
    undone: Option<&'a str>,
    /// Expectations of the scene that hold now and do not afterwards.
    breaks: &'a [String],
    /// What speaks against it, the worst first: names of docs/remedies.md, by which remedies are put into order.
    against: Vec<&'static str>,
    notes: &'a [String],
    commands: Vec<String>,
    /// The first of `files`, for those who look at one.
    file: Option<&'a str>,
    diff: &'a str,
    not_written: &'a [String],
    /// The patch of each description and build file.
    files: Vec<FileJson<'a>>,
    then: ActJson<'a>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Change")]
struct ChangeJson {
    side: &'static str,
    change: String,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Opened")]
struct OpenedJson<'a> {
    actor: &'a str,
    what: &'static str,
    paths: Vec<JsonPath>,
}

fn opened(row: &OutcomeChange) -> OpenedJson<'_> {
    OpenedJson {
        actor: &row.actor,
        what: row.column.word(),
        paths: row.paths.iter().map(|path| JsonPath::new(path)).collect(),
    }
}

impl<'a> RemedyJson<'a> {
    fn new((remedy, written): (&'a Remedy, &'a Written)) -> Self {
        let first = written.files.first();
        Self {
            changes: remedy
                .steps
                .iter()
                .map(|step| ChangeJson { side: step.side.word(), change: step.change.to_string() })
                .collect(),
            opens: remedy.opens(),
            opened: remedy.opened.iter().map(opened).collect(),
            opens_partial: remedy.partial,
            closes: remedy.closes(),
            closed: remedy.closed.iter().map(opened).collect(),
            inodes: remedy.inodes,
            undone: remedy.undone.as_deref(),
            breaks: &remedy.breaks,
            against: remedy.rank.marks().iter().map(|mark| mark.name()).collect(),
            notes: &remedy.notes,
            commands: shell::commands(remedy, &written.images),
            file: first.and_then(|one| one.file.as_deref()),
            diff: first.map_or("", |one| &one.diff),
            not_written: first.map_or(&[], |one| &one.problems),
            files: written.files.iter().map(FileJson::new).collect(),
            then: ActJson::new(&remedy.answer),
        }
    }
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "RemedyTogether")]
pub(super) struct TogetherJson<'a> {
    mivask: u8,
    /// Each act as it ends now.
    acts: Vec<ActJson<'a>>,
    /// One set of changes for all that can be mended; null where nothing has to be changed or nothing helps. Its `then` is of
    /// the last act.
    remedy: Option<RemedyJson<'a>>,
    /// The patch of each description and build file.
    files: Vec<FileJson<'a>>,
    /// What is refused all the same.
    left: Vec<LeftJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "PatchedFile")]
struct FileJson<'a> {
    file: Option<&'a str>,
    diff: &'a str,
    not_written: &'a [String],
}

impl<'a> FileJson<'a> {
    fn new(one: &'a PatchedFile) -> Self {
        Self { file: one.file.as_deref(), diff: &one.diff, not_written: &one.problems }
    }
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "LeftOver")]
struct LeftJson<'a> {
    act: ActJson<'a>,
    hint: Option<&'a str>,
}

/// `remedy --acts`: the acts as they are, one set of changes for them, and what is left.
///
/// # Errors
/// Whatever `out` refuses.
pub fn together(out: &mut dyn Write, found: &Together, written: &Written) -> io::Result<()> {
    let document = TogetherJson {
        mivask: FORMAT,
        acts: found.answers.iter().map(ActJson::new).collect(),
        remedy: found.remedy.as_ref().map(|remedy| RemedyJson::new((remedy, written))),
        files: written.files.iter().map(FileJson::new).collect(),
        left: found
            .left
            .iter()
            .map(|(answer, hint)| LeftJson { act: ActJson::new(answer), hint: hint.as_deref() })
            .collect(),
    };
    mivask_disk::json::pretty(out, &document)?;
    writeln!(out)
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "RemedyTree")]
pub(super) struct TreeJson<'a> {
    mivask: u8,
    /// The act, with a pattern for its path.
    act: String,
    /// Paths that the pattern matches and that the act makes sense for.
    paths: usize,
    /// Those that succeed now.
    allowed: usize,
    /// Those that depend on a missing fact.
    open: usize,
    remedies: Vec<ReachJson<'a>>,
}

#[derive(JsonSchema, Serialize)]
#[schemars(rename = "Reach")]
struct ReachJson<'a> {
    /// How many of `paths` succeed then.
    reaches: usize,
    remedy: RemedyJson<'a>,
}

/// `remedy` of an act on a whole tree: what helps, and how much of the tree each reaches.
///
/// # Errors
/// Whatever `out` refuses.
pub fn over_tree(out: &mut dyn Write, found: &TreeRemedies, written: &[Written]) -> io::Result<()> {
    let remedies = found.remedies.iter().zip(written);
    let document = TreeJson {
        mivask: FORMAT,
        act: found.act.to_string(),
        paths: found.paths,
        allowed: found.allowed,
        open: found.open,
        remedies: remedies
            .map(|((remedy, reaches), written)| ReachJson {
                reaches: *reaches,
                remedy: RemedyJson::new((remedy, written)),
            })
            .collect(),
    };
    mivask_disk::json::pretty(out, &document)?;
    writeln!(out)
}

/// `remedy`: the act as it is, and each remedy with what to paste, in the list `remedies`.
///
/// # Errors
/// Whatever `out` refuses.
pub fn remedies(out: &mut dyn Write, found: &Remedies, written: &[Written]) -> io::Result<()> {
    let document = RemediesJson {
        mivask: FORMAT,
        act: ActJson::new(&found.answer),
        limit: found.standing.as_ref().map(StandingJson::new),
        remedies: found.remedies.iter().zip(written).map(RemedyJson::new).collect(),
        hint: found.hint.as_deref(),
        bounded: found.bounded,
        besides: found.besides.as_deref(),
        as_usual: found.as_usual.iter().map(UsualJson::new).collect(),
    };
    mivask_disk::json::pretty(out, &document)?;
    writeln!(out)
}
