//! Holding one expectation against a stage.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::act::{Act, Expectation, Owner, Verb, quoted};
use mivask_model::fact::Provenance;
use mivask_model::glob::{Globs, PatternError};
use mivask_model::mode::{Access, FileKind, Mode, ModeChange, Who as ModeWho};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::stage::{Actor, Stage};

use super::judge::against;
use super::matching::{Called, is_pattern};
use super::meet::{Meeting, Met, Object, meant, met};
use super::seen::Seen;
use super::state::{Likeness, State};
use super::{Against, Claim, Expected, MOST_AGAINST, Paths, Standing, Upheld, Who};
use crate::finding::Limit;
use crate::question::joined::Joined;
use crate::question::{Cell, ask_as};
use crate::width::{TooWide, Width, width};

/// Whether `expected` holds on `stage`.
///
/// # Errors
/// An invalid pattern, in words.
pub fn uphold(stage: &Stage, expected: &Expected, globs: &dyn Globs) -> Result<Upheld, PatternError> {
    if expected.unnamed {
        return Err(PatternError::new("it has names of accounts, which are not looked up yet"));
    }
    let mut counts = ClaimCounts::default();
    match &expected.claim {
        Claim::Each { who, verb, paths, expectation } => {
            let exact = !is_pattern(&paths.pattern);
            for actor in called(stage, who, globs)? {
                let meeting = met(stage, actor, Some(verb), paths, globs)?;
                let how = if exact { How::AsItStands } else { How::ByKind };
                counts.judge(stage, actor, (verb, *expectation, how), &meeting);
            }
        }
        Claim::Never { who, verb, paths } => never(stage, (who, verb, paths), globs, &mut counts)?,
        Claim::Unchanged { only: alone, who, paths } => {
            for verb in changing() {
                if *alone {
                    only(stage, (who, &verb, paths), globs, &mut counts)?;
                } else {
                    never(stage, (who, &verb, paths), globs, &mut counts)?;
                }
            }
        }
        Claim::Only { who, verb, paths } => only(stage, (who, verb, paths), globs, &mut counts)?,
        Claim::Is { who, paths, state } => {
            let actors = called(stage, who.as_ref().unwrap_or(&everybody()), globs)?;
            // Nothing is where nothing of the pattern is.
            counts.holds_of_nothing = state.missing && !actors.is_empty();
            for actor in actors {
                let mut meeting = met(stage, actor, None, paths, globs)?;
                if !is_pattern(&paths.pattern) && meeting.at.is_empty() {
                    meeting.insert(paths.pattern.clone(), Met::unlisted(false));
                }
                counts.state(stage, actor, state, &meeting);
            }
        }
        Claim::AtMost { who, paths, mode, owner } => {
            for actor in called(stage, who.as_ref().unwrap_or(&everybody()), globs)? {
                let meeting = met(stage, actor, None, paths, globs)?;
                counts.limit(stage, actor, (*mode, *owner), &meeting);
            }
        }
    }
    Ok(counts.upheld(expected))
}

fn everybody() -> Who {
    Who { names: vec!["*".to_owned()], except: Vec::new() }
}

fn called<'s>(stage: &'s Stage, who: &Who, globs: &dyn Globs) -> Result<Vec<&'s Actor>, PatternError> {
    let called = Called::new(who, globs)?;
    Ok(stage.actors.iter().filter(|actor| called.is(actor)).collect())
}

/// The acts of which one is allowed wherever something can be changed: a rename takes what a removal does, a time or an
/// attribute what writing or the mode does.
fn changing() -> Vec<Verb> {
    let mode = ModeChange::adding(ModeWho::Owner, Access::READ);
    let owner = Owner { uid: Some(0), gid: Some(0) };
    [Verb::Writes, Verb::Deletes]
        .into_iter()
        .chain(mode.map(Verb::SetsMode))
        .chain([Verb::SetsOwner(owner)])
        .collect()
}

/// None of these acts.
fn never(
    stage: &Stage,
    (who, verb, paths): (&Who, &Verb, &Paths),
    globs: &dyn Globs,
    counts: &mut ClaimCounts,
) -> Result<(), PatternError> {
    let actors = called(stage, who, globs)?;
    counts.holds_of_nothing = !actors.is_empty();
    for actor in actors {
        let meeting = met(stage, actor, Some(verb), paths, globs)?;
        counts.judge(stage, actor, (verb, Expectation::Denied(None), How::ByKind), &meeting);
    }
    Ok(())
}

/// No one but `who`, to what `who` sees at these paths, wherever others have it.
fn only(
    stage: &Stage,
    (who, verb, paths): (&Who, &Verb, &Paths),
    globs: &dyn Globs,
    counts: &mut ClaimCounts,
) -> Result<(), PatternError> {
    let may = Called::new(who, globs)?;
    let all = |stage| -> Result<Seen<'_>, PatternError> {
        let mut seen = Seen::new(stage);
        for actor in stage.actors.iter().filter(|actor| may.is(actor)) {
            for (path, met) in met(stage, actor, None, paths, globs)?.at {
                seen.add(actor, &path, met);
            }
        }
        Ok(seen)
    };
    let seen = all(stage)?;
    let joined = Joined::new(stage);
    // What the preparation of one workload makes is there for the others once that has run.
    let later = if joined.notes.is_empty() { None } else { Some(all(&joined.stage)?) };
    for (at, actor) in stage.actors.iter().enumerate().filter(|(_, actor)| !actor.guest && !may.is(actor)) {
        let meeting = seen.by(actor, verb);
        counts.judge(stage, actor, (verb, Expectation::Denied(None), How::ByKind), &meeting);
        if let Some(later) = &later {
            let actor_then = &joined.stage.actors[at];
            let mut meeting = later.by(actor_then, verb);
            meeting.at.retain(|path, met| {
                let now = look(&stage.storage, &actor.mounts, path, Follow::AllButLast);
                met.object.is_some() && now == Ok(Sight::Missing)
            });
            if !meeting.at.is_empty() {
                counts.assumptions.extend(joined.notes.values().cloned());
            }
            counts.judge(&joined.stage, actor_then, (verb, Expectation::Denied(None), How::ByKind), &meeting);
        }
    }
    Ok(())
}

/// What a verb means for a directory.
#[derive(Clone, Copy, PartialEq, Eq)]
enum How {
    /// The system call it means.
    AsItStands,
    /// For a directory, what comes to the same: creating in it, listing it.
    ByKind,
}

/// A directory, something in it, something in what is in it: deeper ones are like those.
const UNLISTED_LEVELS: usize = 2;

/// What was found so far.
#[derive(Default)]
struct ClaimCounts {
    checked: usize,
    looked_at: BTreeSet<Object>,
    /// What was found too wide, how, and by which owner and mode.
    given: BTreeSet<(Object, String, String)>,
    broken: Vec<Against>,
    open: Vec<Against>,
    broken_count: usize,
    open_count: usize,
    /// Of those, how many usually are as expected.
    usual_count: usize,
    assumptions: BTreeSet<Arc<str>>,
    /// Whether it holds where no path is met: there are actors, and nothing is what they are not to do.
    holds_of_nothing: bool,
}

impl ClaimCounts {
    fn judge(
        &mut self,
        stage: &Stage,
        actor: &Actor,
        (verb, expectation, how): (&Verb, Expectation, How),
        meeting: &Meeting,
    ) {
        let (mut told, mut assumed) = (false, false);
        for (path, met) in &meeting.at {
            let act = match how {
                How::AsItStands => Some((verb.clone(), path.clone())),
                How::ByKind if settled(met, expectation) => {
                    told = true;
                    assumed |= met.ending.is_some_and(|ending| ending.assumed);
                    self.checked += 1;
                    continue;
                }
                How::ByKind => meant(stage, actor, verb, path, met.kind),
            };
            let Some((verb, mut path)) = act else { continue };
            self.checked += 1;
            // Enough is given; the rest is only counted, and counting needs no reasons.
            if self.broken_count >= MOST_AGAINST && contradicts(met, expectation) {
                self.broken_count += 1;
                continue;
            }
            // Where nothing is listed there may be directories, and what can be done in those is another question.
            let deeper = if met.deep { UNLISTED_LEVELS } else { 0 };
            for level in 0..=deeper {
                if level > 0 {
                    path.extend_from_slice(b"/*");
                }
                let (actor_name, verb, path) = (actor.name.to_string(), verb.clone(), path.clone());
                let act = Act { actor: actor_name, verb, path, expectation: Some(expectation) };
                let answer = ask_as(stage, actor, &act);
                self.assumptions.extend(answer.assumptions.iter().cloned());
                if let Some(found) = against(actor, &answer) {
                    self.add(found);
                    break;
                }
            }
        }
        // What the sweep told rests on what it took for granted.
        let of_sweep = meeting.assumptions.iter().filter(|_| assumed);
        let of_actor = actor.identity.assumptions.iter().filter(|_| told);
        self.assumptions.extend(of_sweep.chain(of_actor).cloned());
    }

    fn limit(
        &mut self,
        stage: &Stage,
        actor: &Actor,
        (mode, owner): (Mode, Option<Owner>),
        meeting: &Meeting,
    ) {
        for (path, met) in &meeting.at {
            // A link has no mode of its own that anyone checks, and a file is wide but once, whoever sees it. Owners are as
            // each sees them.
            let again = owner.is_none() && met.object.is_some_and(|object| !self.looked_at.insert(object));
            if met.kind == Some(FileKind::Link) || again {
                continue;
            }
            let limit = Limit { actor: Some(actor.name.to_string()), path: path.clone(), mode, owner };
            self.assumptions.extend(met.object.iter().flat_map(|object| assumed_of(stage, *object)));
            let (found, fact, from, open) = match width(stage, actor, &limit) {
                Width::Absent => continue,
                Width::Unlisted if met.kind.is_some() => continue,
                Width::Unlisted => missing_fact(format!("what is at {}", quoted(path))),
                Width::Fits(_) => {
                    self.checked += 1;
                    continue;
                }
                Width::Unknown(fact) => missing_fact(fact),
                Width::Wide(TooWide { wider, fact, from, .. }) => {
                    // Whoever sees the same adds nothing.
                    let same = |object| !self.given.insert((object, wider.clone(), fact.clone()));
                    if met.object.is_some_and(same) {
                        self.checked += 1;
                        continue;
                    }
                    (wider, format!("{}: {fact}", quoted(path)), from, false)
                }
            };
            self.checked += 1;
            self.add(seen(actor, path, (found, fact, from, open)));
        }
    }

    fn state(&mut self, stage: &Stage, actor: &Actor, state: &State, meeting: &Meeting) {
        for (path, met) in &meeting.at {
            let link =
                met.kind == Some(FileKind::Link) && state.kind != Some(FileKind::Link) && !state.missing;
            let again =
                state.is_of_inode() && met.object.is_some_and(|object| !self.looked_at.insert(object));
            if link && meeting.at.len() > 1 || again {
                continue;
            }
            self.checked += 1;
            self.assumptions.extend(met.object.iter().flat_map(|object| assumed_of(stage, *object)));
            let (found, fact, from, open) = match state.against(stage, actor, path) {
                Likeness::Same => continue,
                Likeness::Other { found, fact, from } => {
                    // Whoever sees the same adds nothing.
                    let same = |object| !self.given.insert((object, found.clone(), fact.clone()));
                    if met.object.is_some_and(same) {
                        continue;
                    }
                    (found, fact, from, false)
                }
                Likeness::Unknown(fact) => missing_fact(fact),
            };
            self.add(seen(actor, path, (found, fact, from, open)));
        }
    }

    fn add(&mut self, found: Against) {
        self.usual_count += usize::from(found.open && !found.usual.is_empty());
        let (list, count) = if found.open {
            (&mut self.open, &mut self.open_count)
        } else {
            (&mut self.broken, &mut self.broken_count)
        };
        *count += 1;
        if list.len() < MOST_AGAINST {
            list.push(found);
        }
    }

    fn upheld(self, expected: &Expected) -> Upheld {
        let standing = match (self.broken_count, self.open_count, self.checked) {
            (0, 0, 0) if !self.holds_of_nothing => Standing::MeetsNothing,
            (0, 0, _) => Standing::Holds,
            (0, _, _) => Standing::Depends,
            (_, _, _) => Standing::Broken,
        };
        let mut against = self.broken;
        against.extend(self.open);
        against.truncate(MOST_AGAINST);
        let more = self.broken_count + self.open_count - against.len();
        Upheld {
            expected: expected.clone(),
            standing,
            checked: self.checked,
            against,
            more,
            usually: self.open_count > 0 && self.usual_count == self.open_count,
            assumptions: self.assumptions.into_iter().collect(),
        }
    }
}

/// Whether the sweep has told already that it is the other way round than expected.
fn contradicts(met: &Met, expectation: Expectation) -> bool {
    let cell = met.ending.map(|ending| ending.cell);
    matches!(
        (cell, expectation),
        (Some(Cell::Allowed), Expectation::Denied(_)) | (Some(Cell::Denied(_)), Expectation::Allowed)
    )
}

/// Whether the sweep has told already that it is as expected.
fn settled(met: &Met, expectation: Expectation) -> bool {
    let Some(ending) = met.ending else { return false };
    match (ending.cell, expectation) {
        (Cell::Allowed, Expectation::Allowed) | (Cell::Denied(_), Expectation::Denied(None)) => true,
        (Cell::Denied(errno), Expectation::Denied(Some(wanted))) => errno == wanted,
        (
            Cell::Void | Cell::Allowed | Cell::Denied(_) | Cell::Open,
            Expectation::Allowed | Expectation::Denied(_) | Expectation::Leaves { .. },
        ) => false,
    }
}

/// What is taken for granted of an inode's owner and mode.
fn assumed_of(stage: &Stage, (source, inode): Object) -> Vec<Arc<str>> {
    let tree = &stage.source(source).tree;
    [tree.owner(inode).assumption(), tree.mode(inode).assumption()].into_iter().flatten().cloned().collect()
}

/// What was found of a path as an actor sees it.
fn seen(
    actor: &Actor,
    path: &[u8],
    (found, fact, from, open): (String, String, Provenance, bool),
) -> Against {
    Against {
        actor: actor.name.to_string(),
        path: path.to_vec(),
        asked: format!("{} as {} sees it", quoted(path), actor.name),
        found,
        fact,
        from,
        open,
        usual: Vec::new(),
        settle: Vec::new(),
    }
}

/// What is found, why, where that was read and whether it is open, for what was not told.
fn missing_fact(fact: String) -> (String, String, Provenance, bool) {
    let from = Provenance::Unknown(fact.as_str().into());
    ("depends".to_owned(), format!("a fact is missing: {fact}"), from, true)
}
