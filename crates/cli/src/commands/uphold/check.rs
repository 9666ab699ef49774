//! Every input with every expectation, as many at a time as there are processors.

use std::collections::BTreeSet;
use std::io::Write;
use std::path::PathBuf;

use anstream::adapter::strip_str;
use mivask_core::act::Subject;
use mivask_core::actor_names::{ActorError, ActorNames};
use mivask_core::expect::{Claim, Expected, Paths, Standing, Upheld, Who, uphold};
use mivask_core::fact::Fact;
use mivask_core::finding::Limit;
use mivask_core::glob::Globs;
use mivask_core::glob::PatternError;
use mivask_core::listed::listed;
use mivask_core::names::AccountNames;
use mivask_core::question::Remark;
use mivask_disk::process::Reach;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::expectations::read_expectations;
use mivask_read::input::Origin;
use mivask_read::nearest::nearest;
use mivask_show::diagnostics as shown;
use mivask_show::upheld::{Checked, Run};

use super::Args;
use super::error::{Misread, UpholdError};
use crate::change::Patterns;
use crate::end::Failure;
use crate::inputs::Files;
use crate::load::{Whole, text};
use crate::options::Input;
use crate::reach::Asked;
use crate::{terminal, workers};

/// What came of it.
pub(super) struct Outcome {
    /// The state of everything.
    pub run: Run,
    /// The files that were read.
    pub files: Vec<PathBuf>,
    /// Whether an expectation names someone who is nowhere.
    pub wrong: bool,
}

/// One input, with all that is to be said of it.
struct One {
    checked: Checked,
    said: Vec<u8>,
    files: BTreeSet<PathBuf>,
    /// Names in shared expectations that no one has here, by the number of the expectation.
    strangers: BTreeSet<(usize, String)>,
    actor_names: Option<ActorNames>,
    /// How many expectations are its own; those that are shared come behind.
    own: usize,
}

/// Every input.
pub(super) fn all(args: &Args, err: &mut dyn Write) -> Result<Outcome, Failure> {
    let shared = of_files(&args.expect, err)?;
    let mut all = workers::on_each(&args.inputs, |input| one(args, input, &shared));
    let mut outcome = Outcome {
        run: Run { inputs: Vec::new(), accept: args.accept() },
        files: args.expect.clone(),
        wrong: false,
    };
    outcome.files.extend(args.facts.disk.iter().chain(&args.facts.image).map(|given| given.source.clone()));
    for one in &all {
        err.write_all(&one.said)?;
        outcome.files.extend(one.files.iter().cloned());
    }
    let strangers = nowhere(&shared, &all, err)?;
    outcome.wrong = !strangers.is_empty();
    let idle = idle(&shared, &mut all, &strangers, err)?;
    outcome.run.inputs.extend(all.into_iter().map(|one| one.checked));
    if outcome.run.counts().all == 0 && outcome.run.unusable() == 0 {
        return Err(UpholdError::NothingExpected.into());
    }
    if args.facts.strict && idle > 0 { Err(Failure::Strict { warnings: idle }) } else { Ok(outcome) }
}

/// Tells of names in shared expectations that no one has in any input, and gives the numbers of those expectations.
fn nowhere(shared: &[Expected], all: &[One], err: &mut dyn Write) -> Result<BTreeSet<usize>, Failure> {
    let usable = || all.iter().filter_map(|one| Some((one, one.actor_names.as_ref()?)));
    let common =
        usable().map(|(one, _)| one.strangers.clone()).reduce(|a, b| a.intersection(&b).cloned().collect());
    let common = common.unwrap_or_default();
    let names: BTreeSet<&str> =
        usable().flat_map(|(_, actor_names)| actor_names.names().iter().map(|name| &**name)).collect();
    for (at, name) in &common {
        stranger(&shared[*at], name, names.iter().copied(), err)?;
    }
    Ok(common.into_iter().map(|(at, _)| at).collect())
}

/// Warns of expectations that meet nothing, and gives their number. A shared one that meets something in one input is
/// none of the others' concern, and is left out there.
fn idle(
    shared: &[Expected],
    all: &mut [One],
    strangers: &BTreeSet<usize>,
    err: &mut dyn Write,
) -> Result<usize, Failure> {
    let idle = |held: &Upheld| held.standing == Standing::MeetsNothing;
    let complete = |one: &&One| one.checked.unusable.is_none();
    let meets = |at: usize| all.iter().filter(complete).any(|one| !idle(&one.checked.held[one.own + at]));
    let met: Vec<bool> = (0..shared.len()).map(meets).collect();
    let mut warned: Vec<Expected> = Vec::new();
    for one in all.iter_mut() {
        let mut at = 0;
        let own = one.own;
        one.checked.held.retain(|held| {
            at += 1;
            !(idle(held) && at > own && met[at - own - 1])
        });
        for held in one.checked.held.iter().filter(|held| idle(held)) {
            if !warned.contains(&held.expected) {
                warned.push(held.expected.clone());
            }
        }
    }
    // What names someone who is nowhere has been told of already.
    warned.retain(|expected| !strangers.iter().any(|at| shared[*at] == *expected));
    for expected in &warned {
        let message = format!("`{}` meets no actor or path", expected.text);
        shown::remark(err, &Remark { message, help: None, from: expected.from.clone(), note: false })?;
    }
    Ok(warned.len())
}

/// The expectations of the files that are named, or every mistake in them.
pub(in crate::commands) fn of_files(
    files: &[PathBuf],
    err: &mut dyn Write,
) -> Result<Vec<Expected>, Failure> {
    let mut all = Vec::new();
    let mut diagnostics = Diagnostics::default();
    for path in files {
        let text = text(path)?;
        all.extend(read_expectations(&text, &mut diagnostics));
    }
    crate::diagnostics::settle(&diagnostics, err)?;
    all.iter().try_for_each(patterns)?;
    Ok(all)
}

/// Whether every pattern of an expectation is one.
fn patterns(expected: &Expected) -> Result<(), Failure> {
    let paths = expected.claim.paths();
    let who = expected.claim.who().into_iter().flat_map(|who| who.names.iter().chain(&who.except));
    let mut all = paths
        .except
        .iter()
        .map(Vec::as_slice)
        .chain([paths.pattern.as_slice()])
        .chain(who.map(String::as_bytes));
    all.try_for_each(|pattern| match Patterns.matcher(pattern) {
        Ok(_) => Ok(()),
        Err(why) => {
            let pattern = String::from_utf8_lossy(pattern);
            Err(Misread::at(expected, format!("`{pattern}` is not a pattern: {why}")).into())
        }
    })
}

fn one(args: &Args, path: &std::path::Path, shared: &[Expected]) -> One {
    let input = Origin::of(path).name();
    let mut one = One {
        checked: Checked { input, held: Vec::new(), unusable: None },
        said: Vec::new(),
        files: BTreeSet::new(),
        strangers: BTreeSet::new(),
        actor_names: None,
        own: 0,
    };
    let recorder = Files::beside(&args.facts);
    if let Err(failure) = look(args, path, shared, &recorder, &mut one) {
        one.checked.unusable = Some(why(&failure, &mut one.said));
    }
    one.files = recorder.paths();
    one
}

/// Why an input cannot be used, in one line; its mistakes are given in full in `said`.
fn why(failure: &Failure, said: &mut Vec<u8>) -> String {
    let given = strip_str(&String::from_utf8_lossy(said)).to_string();
    // Writing to memory never fails.
    let _ = failure.report(said);
    let mut lines = given.lines().skip_while(|line| !line.starts_with("error: "));
    let first = lines.next().and_then(|line| line.strip_prefix("error: "));
    let place = lines.next().and_then(|line| line.trim_start().strip_prefix("--> "));
    match (first, place) {
        (Some(first), Some(place)) => format!("{first} ({place})"),
        (Some(first), None) => first.to_owned(),
        (None, _) => failure.to_string(),
    }
}

fn look(
    args: &Args,
    path: &std::path::Path,
    shared: &[Expected],
    recorder: &Files,
    one: &mut One,
) -> Result<(), Failure> {
    let input = Input { input: path.to_path_buf(), facts: args.facts.clone() };
    let mut asked = Asked::from(Reach { paths: Vec::new(), whole: true });
    let shared_names = shared.iter().filter_map(|expected| expected.claim.who());
    shared_names.flat_map(|who| who.names.iter().chain(&who.except)).for_each(|name| asked.guest(name));
    let whole = Whole::read_by(recorder, &input, &asked, &mut one.said)?;
    let actor_names = whole.stage.actor_names();
    let own = own_expectations(&whole)?;
    let mut errors = 0;
    for expected in &own {
        for name in strangers(expected, actor_names) {
            stranger(expected, &name, actor_names.names().iter().map(|name| &**name), &mut one.said)?;
            errors += 1;
        }
    }
    if errors > 0 {
        return Err(Failure::Mistakes { errors });
    }
    for (at, expected) in shared.iter().enumerate() {
        one.strangers.extend(strangers(expected, actor_names).into_iter().map(|name| (at, name)));
    }
    one.actor_names = Some(actor_names.clone());
    one.own = own.len();
    let shared = named(&whole, shared)?;
    let names = terminal::by_name().then(|| AccountNames::of(whole.scene()));
    for expected in own.iter().chain(&shared) {
        let held = uphold(&whole.stage, expected, &Patterns).map_err(|why| Misread::at(expected, why))?;
        let held = names.iter().fold(held, |held, names| held.with_names(names));
        one.checked.held.push(if args.facts.strict { held.without_assumptions() } else { held });
    }
    if one.checked.held.is_empty() {
        writeln!(one.said, "warning: {} expects nothing", mivask_show::safe(&one.checked.input))?;
    }
    Ok(())
}

/// What the scene itself expects, its limits included.
pub(in crate::commands) fn own_expectations(whole: &Whole) -> Result<Vec<Expected>, Failure> {
    let mut own = whole.policy.expectations.clone();
    own.extend(whole.policy.limits.iter().map(limit));
    own.iter().try_for_each(patterns)?;
    named(whole, &own)
}

/// Expectations with the numbers of the names they have in this scene.
pub(in crate::commands) fn named(whole: &Whole, expected: &[Expected]) -> Result<Vec<Expected>, Failure> {
    let names = AccountNames::of(whole.scene());
    let one = |expected: &Expected| {
        expected.named(&names).map_err(|why| Failure::from(Misread::at(expected, PatternError::new(why))))
    };
    expected.iter().map(one).collect()
}

/// A limit of the scene as an expectation.
fn limit(limit: &Fact<Limit>) -> Expected {
    let Limit { actor, path, mode, owner } = limit.value.clone();
    let who = actor.map(|name| Who { names: vec![name], except: Vec::new() });
    let claim = Claim::AtMost { who, paths: Paths { pattern: path, except: Vec::new() }, mode, owner };
    Expected { claim, text: limit.value.to_string(), from: limit.from.clone(), unnamed: false }
}

/// Names that no one has, patterns left out.
fn strangers(expected: &Expected, actor_names: &ActorNames) -> Vec<String> {
    let named = expected.claim.who().into_iter().flat_map(|who| who.names.iter().chain(&who.except));
    let plain = named.filter(|name| !name.contains(['*', '?', '[']));
    let unknown = |name: &&String| {
        let name = &Subject::named(name).actor;
        let is_pattern = name.contains(['*', '?', '[']);
        !is_pattern
            && matches!(actor_names.find(name), Err(ActorError::Unknown { .. } | ActorError::Workload { .. }))
    };
    plain.filter(unknown).cloned().collect()
}

/// Words of expectations that stand behind an actor.
const WORDS: [&str; 4] = ["never", "may", "can", "cannot"];

fn stranger<'a>(
    expected: &Expected,
    name: &str,
    known: impl Iterator<Item = &'a str>,
    err: &mut dyn Write,
) -> std::io::Result<()> {
    let known: Vec<&str> = known.collect();
    let near = nearest(name, known.iter().copied());
    let of_workload: Vec<&&str> = known
        .iter()
        .filter(|known| known.split_once('/').is_some_and(|(workload, _)| workload == name))
        .collect();
    let help = match near {
        _ if WORDS.contains(&name) => {
            format!(
                "say who in front of it: `ACTOR {name} VERB PATHS`, or `* {name} VERB PATHS` for everybody"
            )
        }
        _ if !of_workload.is_empty() => {
            format!("it is a workload: write its container, {}", listed(of_workload))
        }
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("there is {}", listed(&known)),
    };
    let (message, help) = (format!("there is no actor `{name}`"), Some(help));
    shown::fault(err, &Remark { message, help, from: expected.from.clone(), note: false })
}
