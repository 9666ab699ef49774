//! What is open wider than anyone needs, and what is too wide for a strict reader.
//!
//! Whether an actor reaches a file is answered by the same sweep as `access --tree`; here is only what to say about it.

mod entry;
mod limit;
mod root;
mod secret;
mod strict;
mod unconfined;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

pub use crate::finding::{Accepted, Kind, Limit, LimitError, Severity};

use crate::question::{Event, follow};
use mivask_model::act::quoted;
use mivask_model::fact::{Fact, Provenance};
use mivask_model::glob::{Globs, PatternError};
use mivask_model::listed::listed_up_to;
use mivask_model::mode::Mode;
use mivask_stage::identity::IdentityField;
use mivask_stage::stage::{Actor, Stage};

/// What is wrong in one place, all paths of a kind together.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Finding {
    /// What.
    pub kind: Kind,
    /// How bad.
    pub severity: Severity,
    /// The volume, in words; the actor for a umask.
    pub on: Arc<str>,
    /// Paths inside, in order.
    pub paths: Vec<Vec<u8>>,
    /// Who can make use of it.
    pub actors: Vec<String>,
    /// The fact, such as `drwxrwxrwx 0777 0:0`, of the first path.
    pub fact: String,
    /// The worst that follows, one sentence.
    pub consequence: String,
    /// Where the fact of the first path came from.
    pub from: Provenance,
    /// Whether a declared limit is broken.
    pub declared: bool,
    /// Whether it depends on missing facts, and is so where each is as usual (docs/usual.md).
    pub usual: bool,
    /// Why it is meant, where the scene says so.
    pub accepted: Option<Accepted>,
}

/// A finding about one path, before those of a kind are put together.
#[derive(Clone, Debug)]
pub(crate) struct Single {
    pub kind: Kind,
    pub severity: Severity,
    pub on: Arc<str>,
    pub path: Vec<u8>,
    pub actor: Option<String>,
    pub fact: String,
    pub consequence: String,
    pub from: Provenance,
    pub declared: bool,
    pub usual: bool,
}

/// Actors that are not worth a thread of their own.
const FEWEST: usize = 64;

/// Everything that is found, the worst first. `limits` are those the user declares; `accepted` stay in the list, marked.
///
/// # Errors
/// An invalid pattern in `limits` or `accepted`.
pub fn exposure(
    stage: &Stage,
    limits: &[Fact<Limit>],
    accepted: &[Accepted],
    globs: &dyn Globs,
) -> Result<Vec<Finding>, PathPatternError> {
    let groups = shared_groups(stage);
    let mut singles = of_all(stage, &groups);
    let mut declared = Vec::new();
    limit::check(stage, limits, globs, &mut declared)?;
    // What a declared limit says of a path is not said a second time.
    let said = |single: &Single| {
        single.kind == Kind::TooWide && declared.iter().any(|known: &Single| known.path == single.path)
    };
    singles.retain(|single| !said(single));
    singles.append(&mut declared);
    let mut findings = together(singles);
    for finding in &mut findings {
        finding.accepted = meant(finding, accepted, globs)?;
    }
    findings.sort_by(|a, b| {
        let rank = |finding: &Finding| {
            (finding.accepted.is_some(), std::cmp::Reverse(finding.severity), finding.usual, finding.kind)
        };
        (rank(a), &a.on, &a.paths).cmp(&(rank(b), &b.on, &b.paths))
    });
    Ok(findings)
}

/// What each actor finds, in the order of the actors; they are looked at side by side.
fn of_all(stage: &Stage, groups: &BTreeMap<u32, BTreeSet<String>>) -> Vec<Single> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let share = stage.actors.len().div_ceil(threads).max(FEWEST);
    let of_some = |actors: &[Actor]| {
        let mut singles = Vec::new();
        actors.iter().for_each(|actor| of_one(stage, actor, groups, &mut singles));
        singles
    };
    std::thread::scope(|scope| {
        let shares = stage.actors.chunks(share).skip(1);
        let started: Vec<_> = shares.map(|actors| scope.spawn(move || of_some(actors))).collect();
        let mut singles = stage.actors.chunks(share).next().map(of_some).unwrap_or_default();
        for thread in started {
            singles.extend(thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        }
        singles
    })
}

fn of_one(stage: &Stage, actor: &Actor, groups: &BTreeMap<u32, BTreeSet<String>>, singles: &mut Vec<Single>) {
    umask(actor, groups, singles);
    if actor.refusal().is_some() {
        return;
    }
    // A policy may keep it from something; what there is to be kept from is looked for here.
    let actor = &Actor { unmodelled: Vec::new(), profile: None, needs: Vec::new(), ..actor.clone() };
    root::look(stage, actor, singles);
    unconfined::look(actor, singles);
    for which in 0..actor.credentials.len() {
        // A part that cannot be swept has nothing to find.
        let _ = follow(stage, actor, which, b"/", |event| {
            if let Event::Entry(swept) = event {
                entry::look(stage, (actor, &actor.credentials[which]), groups, &swept, singles);
            }
        });
    }
}

/// Groups that more than one actor is in, by kernel id, with the actors.
fn shared_groups(stage: &Stage) -> BTreeMap<u32, BTreeSet<String>> {
    let mut groups: BTreeMap<u32, BTreeSet<String>> = BTreeMap::new();
    for actor in stage.actors.iter().filter(|actor| actor.refusal().is_none()) {
        for who in &actor.credentials {
            for gid in who.groups.iter().copied().chain(who.fsgid.id()) {
                groups.entry(gid.raw()).or_default().insert(actor.name.to_string());
            }
        }
    }
    groups.retain(|_, actors| actors.len() > 1);
    groups
}

/// A umask that lets others write what is created, or lets a shared group.
fn umask(actor: &Actor, groups: &BTreeMap<u32, BTreeSet<String>>, singles: &mut Vec<Single>) {
    let [who] = actor.credentials.as_slice() else { return };
    let name = actor.name.to_string();
    let mut add = |severity, consequence: String| {
        let facts = actor.facts().iter().find(|fact| fact.field == IdentityField::Umask);
        singles.push(Single {
            kind: Kind::Umask,
            severity,
            on: actor.name.clone(),
            path: Vec::new(),
            actor: Some(name.clone()),
            fact: format!("umask {}", who.umask),
            consequence,
            from: facts
                .map_or_else(|| Provenance::rule("the runtime's default umask"), |fact| fact.from.clone()),
            declared: false,
            usual: false,
        });
    };
    if !who.umask.has(Mode::new(0o002)) {
        let text =
            format!("whatever {name} creates with 0666 can be rewritten by every process that reaches it");
        add(Severity::High, text);
    } else if !who.umask.has(Mode::new(0o020))
        && let Some(others) = who.fsgid.id().and_then(|gid| groups.get(&gid.raw()))
    {
        let others: Vec<&str> = others.iter().map(String::as_str).filter(|other| *other != name).collect();
        let text = format!(
            "whatever {name} creates can be rewritten by {}, which share its group {}",
            others.join(", "),
            who.fsgid
        );
        add(Severity::Low, text);
    }
}

/// One finding for each kind, place, severity and sentence, certain ones apart from usual ones.
fn together(singles: Vec<Single>) -> Vec<Finding> {
    let mut all: Vec<Finding> = Vec::new();
    let mut at: BTreeMap<(Kind, Severity, Arc<str>, String, bool), usize> = BTreeMap::new();
    for single in singles {
        let Single { kind, severity, usual, .. } = single;
        let key = (kind, severity, single.on.clone(), single.consequence.clone(), usual);
        let index = *at.entry(key).or_insert_with(|| {
            all.push(Finding {
                kind,
                severity,
                usual,
                on: single.on.clone(),
                paths: Vec::new(),
                actors: Vec::new(),
                fact: single.fact.clone(),
                consequence: single.consequence.clone(),
                from: single.from.clone(),
                declared: single.declared,
                accepted: None,
            });
            all.len() - 1
        });
        let finding = &mut all[index];
        if !single.path.is_empty()
            && let Err(slot) = finding.paths.binary_search(&single.path)
        {
            finding.paths.insert(slot, single.path);
        }
        if let Some(actor) = single.actor.filter(|name| !finding.actors.contains(name)) {
            finding.actors.push(actor);
        }
    }
    all
}

/// The path of an accepted finding, or of a limit, is not a pattern.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{from}: `{pattern}` is not a pattern of paths: {error}")]
#[non_exhaustive]
pub struct PathPatternError {
    /// Where it was written.
    pub from: Provenance,
    /// The pattern.
    pub pattern: String,
    /// What is wrong with it.
    pub error: PatternError,
}

/// What the scene says of a finding: of all its paths.
fn meant(
    finding: &Finding,
    accepted: &[Accepted],
    globs: &dyn Globs,
) -> Result<Option<Accepted>, PathPatternError> {
    for one in accepted.iter().filter(|one| one.kind == finding.kind) {
        let Some(pattern) = &one.path else { return Ok(Some(one.clone())) };
        let matcher = globs.matcher(pattern.as_bytes()).map_err(|error| PathPatternError {
            from: one.from.clone(),
            pattern: pattern.clone(),
            error,
        })?;
        let named = matches!(finding.kind, Kind::Umask | Kind::RunsAsRoot | Kind::Unconfined)
            && *pattern == *finding.on;
        let fits = |path: &Vec<u8>| *path == pattern.as_bytes() || matcher(path);
        if named || !finding.paths.is_empty() && finding.paths.iter().all(fits) {
            return Ok(Some(one.clone()));
        }
    }
    Ok(None)
}

/// Some of the names, for sentences.
fn listed(names: &BTreeSet<String>) -> String {
    listed_up_to(3, names)
}

/// A path for sentences.
fn path_text(path: &[u8]) -> String {
    quoted(path)
}
