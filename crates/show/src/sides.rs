//! One question under several runtimes, side by side: only what differs.

use std::collections::{BTreeSet, HashMap};
use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::identity::set_in_words;
use mivask_core::imprint::NewKind;
use mivask_core::question::{AccessRow, Answer, ImprintRow, MountRow};
use mivask_core::refusal::Refusal;
use mivask_core::settle::Outcome;
use mivask_core::stage::Actor;
use schemars::JsonSchema;
use serde::Serialize;

use crate::layout::Layout;
use crate::safe::safe;
use crate::style::{FAINT, STRONG, paint};
use crate::table::Table;
use crate::words::imprint;

/// One value of an answer: what it is about, which part, and how it reads.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Facet {
    /// What it is about, such as `gauge /data`.
    pub subject: String,
    /// Which part of the answer, such as `write`.
    pub field: &'static str,
    /// The value.
    pub value: String,
}

impl Facet {
    /// Whom it is about.
    pub(crate) fn actor(&self) -> &str {
        actor_of(&self.subject)
    }
}

/// The actor that a subject begins with; one in the place of another stands in three words.
fn actor_of(subject: &str) -> &str {
    subject.split(' ').next().unwrap_or_default()
}

/// The answer under one runtime.
#[derive(Clone, Debug)]
pub struct Side {
    /// The runtime's name.
    pub runtime: &'static str,
    /// What was answered, in order.
    pub facets: Vec<Facet>,
}

/// A row where the sides differ.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct Difference<'a> {
    pub subject: &'a str,
    pub field: &'static str,
    /// One value a side; `None` where that side says nothing about it.
    pub values: Vec<Option<&'a str>>,
}

pub(crate) fn differences(sides: &[Side]) -> Vec<Difference<'_>> {
    let mut rows: Vec<Difference<'_>> = Vec::new();
    let mut at = HashMap::new();
    for (number, side) in sides.iter().enumerate() {
        for facet in &side.facets {
            let row = *at.entry((facet.subject.as_str(), facet.field)).or_insert_with(|| {
                let values = vec![None; sides.len()];
                rows.push(Difference { subject: &facet.subject, field: facet.field, values });
                rows.len() - 1
            });
            rows[row].values[number] = Some(&facet.value);
        }
    }
    rows.retain(|row| row.values.windows(2).any(|pair| pair[0] != pair[1]));
    // Of an actor that does not even start on one side, the rest is not a difference worth a line.
    let idle: BTreeSet<String> = rows
        .iter()
        .filter(|row| row.field == "starts")
        .filter(|row| {
            row.values.iter().any(|value| value.is_some_and(|value| value.starts_with("never runs")))
        })
        .map(|row| row.subject.to_owned())
        .collect();
    let of_idle = |row: &Difference<'_>| {
        let ends = row.subject.match_indices(' ').map(|(end, _)| end).chain([row.subject.len()]);
        ends.into_iter().any(|end| idle.contains(&row.subject[..end]))
    };
    rows.retain(|row| row.field == "starts" || !of_idle(row));
    // What only a later side says of a subject is shown with the rest about it.
    let mut first: HashMap<&str, usize> = HashMap::new();
    let places = rows.into_iter().enumerate();
    let mut placed: Vec<_> =
        places.map(|(place, row)| (*first.entry(row.subject).or_insert(place), row)).collect();
    placed.sort_by_key(|(place, _)| *place);
    placed.into_iter().map(|(_, row)| row).collect()
}

/// The differences as a table, one column a runtime.
///
/// # Errors
/// Whatever `out` refuses.
pub fn text(out: &mut dyn Write, sides: &[Side], layout: Layout<'_>) -> io::Result<()> {
    let rows = differences(sides);
    let names: Vec<&str> = sides.iter().map(|side| side.runtime).collect();
    if rows.is_empty() {
        return writeln!(out, "the same under {}", names.join(" and "));
    }
    let mut titles = vec!["about", "what"];
    titles.extend(&names);
    let mut table = Table::new(&titles);
    let mut previous = "";
    for row in &rows {
        let subject = if row.subject == previous { String::new() } else { paint(STRONG, &safe(row.subject)) };
        previous = row.subject;
        let mut cells = vec![subject, row.field.to_owned()];
        let actor = actor_of(row.subject);
        let value = |value: &str| layout.of(actor).field(row.field, &safe(value));
        cells.extend(row.values.iter().map(|one| one.map_or_else(|| paint(FAINT, "-"), value)));
        table.row_of(actor, cells);
    }
    write!(out, "{}", table.render(layout))
}

/// The differences as one JSON document.
///
/// # Errors
/// Whatever `out` refuses.
pub fn json(out: &mut dyn Write, sides: &[Side]) -> io::Result<()> {
    let runtimes = sides.iter().map(|side| side.runtime).collect();
    mivask_disk::json::pretty(out, &Document { mivask: 1, runtimes, differences: differences(sides) })?;
    writeln!(out)
}

/// Several runtimes side by side.
#[derive(JsonSchema, Serialize)]
pub(crate) struct Document<'a> {
    mivask: u8,
    /// In the order they were named.
    runtimes: Vec<&'a str>,
    /// Only what differs; `values` are in the order of the runtimes.
    differences: Vec<Difference<'a>>,
}

/// Who each actor is.
#[must_use]
pub fn identities(actors: &[Actor]) -> Vec<Facet> {
    let mut all = Vec::new();
    for actor in actors {
        let subject = actor.name.to_string();
        let mut add = |field, value| all.push(Facet { subject: subject.clone(), field, value });
        if let Some(refusal) = actor.refusal() {
            add("starts", format!("never runs: {}", refusal.reason));
            continue;
        }
        let possible = &actor.identity.possible;
        let joined = |of: &dyn Fn(&mivask_core::credentials::Identity) -> String| {
            let mut values: Vec<String> = Vec::new();
            for value in possible.iter().map(|(_, who)| of(who)) {
                if !values.contains(&value) {
                    values.push(value);
                }
            }
            values.join(" or ")
        };
        add("starts", "yes".to_owned());
        add("uid", joined(&|who| who.uid.to_string()));
        add("gid", joined(&|who| who.gid.to_string()));
        let groups = |who: &mivask_core::credentials::Identity| {
            who.groups.iter().map(|gid| gid.to_string()).collect::<Vec<_>>().join(",")
        };
        add("groups", joined(&groups));
        add("effective", joined(&|who| set_in_words(who.effective)));
        add("bounding", joined(&|who| set_in_words(who.bounding)));
        add("umask", joined(&|who| who.umask.to_string()));
        add("no-new-privileges", joined(&|who| who.no_new_privileges.to_string()));
        let assumed: Vec<&str> = actor.identity.assumptions.iter().map(|text| &**text).collect();
        if !assumed.is_empty() {
            add("assumed", assumed.join("; "));
        }
        add("user-namespace", joined(&|who| who.namespace.to_string()));
    }
    all
}

/// Every mount but those that only hide the kernel's files.
#[must_use]
pub fn mounts(rows: &[MountRow]) -> Vec<Facet> {
    let mut all = Vec::new();
    let mut last = None;
    for row in rows {
        let value = row
            .refusal
            .as_ref()
            .map_or_else(|| "yes".to_owned(), |one| format!("never runs: {}", one.reason));
        if last.replace(&row.actor) != Some(&row.actor) {
            all.push(Facet { subject: row.actor.clone(), field: "starts", value });
        }
        let subject = format!("{} {}", row.actor, quoted(&row.at));
        let root = row.root.map_or_else(
            || "not known".to_owned(),
            |root| format!("{}:{} {}", root.uid, root.gid, root.mode),
        );
        let values = [("mounted", row.source.to_string()), ("flags", row.flags.to_string()), ("root", root)];
        all.extend(values.map(|(field, value)| Facet { subject: subject.clone(), field, value }));
    }
    all
}

/// The matrix.
#[must_use]
pub fn access(rows: &[AccessRow]) -> Vec<Facet> {
    let mut all = Vec::new();
    let mut last = None;
    for row in rows {
        let refusal = refused(row);
        let value = refusal.map_or_else(|| "yes".to_owned(), |one| format!("never runs: {}", one.reason));
        if last.replace(&row.actor) != Some(&row.actor) {
            all.push(Facet { subject: row.actor.clone(), field: "starts", value });
        }
        if refusal.is_some() {
            continue;
        }
        let subject = format!("{} {}", row.actor, quoted(&row.path));
        let mut add = |field, value| all.push(Facet { subject: subject.clone(), field, value });
        match &row.facts {
            Some(facts) => {
                let number = |id: Option<u32>| crate::words::id(id);
                let owner = format!(
                    "{}:{}",
                    number(facts.uid.map(|uid| uid.raw())),
                    number(facts.gid.map(|gid| gid.raw()))
                );
                add("owner", owner);
                add("mode", facts.mode.map_or_else(|| "not known".to_owned(), |mode| mode.to_string()));
            }
            None => add("mode", if row.missing { "missing" } else { "not known" }.to_owned()),
        }
        for (column, outcome) in row.cells.iter() {
            if let Some(outcome) = outcome {
                add(column.word(), ending(outcome));
            }
        }
    }
    all
}

/// Why the actor of a row never runs.
fn refused(row: &AccessRow) -> Option<&Refusal> {
    row.cells.iter().filter_map(|(_, outcome)| outcome.as_ref()).find_map(|outcome| match outcome {
        Outcome::NeverRuns(refusal) => Some(refusal),
        Outcome::Allowed | Outcome::Denied(_) | Outcome::Depends => None,
    })
}

/// Acts, each with how it ends and what it leaves.
#[must_use]
pub fn acts(answers: &[Answer]) -> Vec<Facet> {
    let mut all = Vec::new();
    for answer in answers {
        let subject = answer.act.to_string();
        all.push(Facet { subject: subject.clone(), field: "outcome", value: ending(&answer.outcome) });
        if let Some(left) = &answer.effect.imprint {
            all.push(Facet { subject, field: answer.act.verb.imprint_word(), value: imprint(left) });
        }
    }
    all
}

/// What new files look like.
#[must_use]
pub fn imprints(rows: &[ImprintRow]) -> Vec<Facet> {
    let mut all = Vec::new();
    for row in rows {
        let kind = if row.kind == NewKind::Directory { "directory" } else { "file" };
        let subject = format!("{} new {kind} in {}", row.actor, quoted(&row.directory));
        all.push(Facet { subject: subject.clone(), field: "outcome", value: ending(&row.outcome) });
        if let Some(left) = &row.imprint {
            all.push(Facet { subject, field: "leaves", value: imprint(left) });
        }
    }
    all
}

fn ending(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Allowed => "allowed".to_owned(),
        Outcome::Denied(Some(errno)) => format!("denied {errno}"),
        Outcome::Denied(None) => "denied".to_owned(),
        Outcome::Depends => "depends".to_owned(),
        Outcome::NeverRuns(_) => "never runs".to_owned(),
    }
}
