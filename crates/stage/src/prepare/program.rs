//! What becomes of a process when its engine starts a program that is set-id or has capabilities of its own
//! (docs/facts/runtimes.md section 11).

use std::sync::Arc;

use mivask_model::act::quoted;
use mivask_model::caps::CapabilitySet;
use mivask_model::credentials::{Credentials, Identity};
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::outcome::{Effect, Errno, RunsAs, Verdict};
use mivask_model::refusal::{Refusal, RefusalClass};
use mivask_rules::decide::start_program;
use mivask_rules::explore::{Decision, Explored, explore};

use super::path_parts::parts;
use crate::identity::{IdentityFact, IdentityField, set_in_words};
use crate::scene::{Container, Image, USUAL_SEARCH, Who};
use crate::stage::{Actor, Stage};

/// What starting one path comes to.
struct Trial {
    path: Vec<u8>,
    explored: Explored,
    /// What each way of running makes of the process.
    made: Vec<(RunsAs, Credentials)>,
}

/// One thing that may become of a process, with what must hold for it.
type Outcome = (Vec<(Unknown, String)>, Credentials);

/// Makes `actor` what its program makes of it, as far as the program's file is given; any other is taken for an ordinary one.
pub(super) fn follow(stage: &Stage, actor: &mut Actor, container: &Container, image: Option<&Image>) {
    let of_image = image.and_then(|image| image.program.known());
    let Some(named) = container.program.named(of_image) else { return };
    if matches!(container.who, Who::Running(_)) || actor.refusal().is_some() {
        return;
    }
    let search = container.program.search.as_ref().or(of_image.and_then(|program| program.search.as_ref()));
    let directory = container.working_directory.as_ref();
    let directory = directory.or(image.and_then(|image| image.working_directory.as_ref()));
    let paths = candidates(named, search, directory);
    let several = actor.credentials.len() > 1;
    for index in 0..actor.credentials.len() {
        let (_, identity) = &actor.identity.possible[index];
        // The engine holds what it was told until execve, whoever it has become: with that it may start what its user may not.
        let (effective, permitted) = held_at_start(container, identity);
        let who = Credentials { effective, permitted, ..actor.credentials[index].clone() };
        let Some(Found { trial, listed, passed }) = found(&paths, |path| {
            let trial = tried(stage, actor, &who, path)?;
            let tree = image.and_then(|image| image.tree.as_ref());
            Some((tree.is_some_and(|tree| tree.find(path).is_some()), trial))
        }) else {
            continue;
        };
        if let Some(refusal) = refused(&trial, named, several) {
            actor.identity.refusal = Some(refusal);
            return;
        }
        let mut taken: Vec<Arc<str>> = Vec::new();
        if !named.value.contains(&b'/') {
            let (word, path) = (quoted(&named.value), quoted(&trial.path));
            if search.is_none() {
                let usual = String::from_utf8_lossy(USUAL_SEARCH);
                taken.push(format!("{word} is looked for in {usual}").into());
            }
            if passed {
                taken.push(
                    format!("{word} is {path}: the directories that PATH lists before have none").into(),
                );
            }
        }
        become_what_it_makes(actor, index, &trial, (named, &taken, listed));
    }
}

/// Makes `actor` what the program at `path` makes of it, which it starts itself.
pub(super) fn run(stage: &Stage, actor: &mut Actor, path: &[u8]) {
    let named = Fact::new(path.to_vec(), Provenance::rule("the program that is started"));
    let several = actor.credentials.len() > 1;
    for index in 0..actor.credentials.len() {
        let who = actor.credentials[index].clone();
        let Some(trial) = tried(stage, actor, &who, path) else {
            let reason = format!("its program {} cannot be started: nothing is there", quoted(path));
            let class = RefusalClass::StartError;
            actor.identity.refusal = Some(Refusal { class, reason, from: named.from, whole_pod: false });
            return;
        };
        if let Some(refusal) = refused(&trial, &named, several) {
            actor.identity.refusal = Some(refusal);
            return;
        }
        become_what_it_makes(actor, index, &trial, (&named, &[], true));
    }
}

/// The capabilities that are in force and permitted until the engine starts the program: a bundle says them, and CRI engines
/// leave a user who is not root the whole set.
fn held_at_start(container: &Container, identity: &Identity) -> (CapabilitySet, CapabilitySet) {
    match &container.who {
        Who::Process(process) => (process.effective.intersection(process.permitted), process.permitted),
        Who::Kubernetes(_) => (identity.bounding, identity.bounding),
        Who::Plain(_) | Who::Running(_) => (identity.effective, identity.permitted),
    }
}

/// The paths at which the program may be, in the order they are tried (execvp(3), `exec.LookPath` of the runtimes).
fn candidates(
    named: &Fact<Vec<u8>>,
    search: Option<&Fact<Vec<u8>>>,
    directory: Option<&Fact<Vec<u8>>>,
) -> Vec<Vec<u8>> {
    let word = named.value.as_slice();
    let joined = |directory: &[u8]| {
        let all = parts(directory).chain(parts(word));
        all.flat_map(|part| [b"/".as_slice(), part]).collect::<Vec<_>>().concat()
    };
    if word.starts_with(b"/") {
        return vec![word.to_vec()];
    }
    if word.contains(&b'/') {
        return vec![joined(directory.map_or(&b"/"[..], |path| path.value.as_slice()))];
    }
    let search = search.map_or(USUAL_SEARCH, |search| search.value.as_slice());
    // A name is not looked for in directories that are relative.
    search.split(|byte| *byte == b':').filter(|at| at.starts_with(b"/")).map(joined).collect()
}

/// The program that a search finds.
struct Found {
    trial: Trial,
    /// Whether the image's files list it.
    listed: bool,
    /// Whether it was passed over that one of that name may lie where nothing is listed.
    passed: bool,
}

/// The first of `paths` where a program can be started, as far as `at` can tell, which also says whether it is listed.
fn found(paths: &[Vec<u8>], at: impl Fn(&[u8]) -> Option<(bool, Trial)>) -> Option<Found> {
    let mut passed = false;
    for path in paths {
        let Some((listed, trial)) = at(path) else { continue };
        let certain = matches!(trial.explored.decision, Decision::Settled(_));
        if listed || certain && outcomes(&trial).is_some() || paths.len() == 1 {
            return Some(Found { trial, listed, passed });
        }
        passed = true;
    }
    None
}

/// What starting `path` comes to; `None` where nothing can be started there, so that the search goes on.
fn tried(stage: &Stage, actor: &Actor, who: &Credentials, path: &[u8]) -> Option<Trial> {
    let mut made: Vec<(RunsAs, Credentials)> = Vec::new();
    let view = stage.view(actor, who, &actor.name);
    let explored = explore(|w| {
        let started = start_program(&view, path, w)?;
        let runs_as = started.and_then(|who| {
            let (uid, gid) = (who.inside_uid()?, who.inside_gid()?);
            let runs_as = RunsAs { uid, gid, effective: who.effective, permitted: who.permitted };
            made.push((runs_as, who));
            Some(runs_as)
        });
        Ok(Effect { imprint: None, runs_as })
    });
    let goes_on = |verdict: &Verdict| matches!(verdict, Err(Errno::ENOENT | Errno::ENOTDIR));
    let nothing = explored.decision.endings().iter().all(|ending| goes_on(&ending.verdict));
    (!nothing).then(|| Trial { path: path.to_vec(), explored, made })
}

/// Why the container never runs, where it is certain that its program cannot be started.
fn refused(trial: &Trial, named: &Fact<Vec<u8>>, several: bool) -> Option<Refusal> {
    let endings = trial.explored.decision.endings();
    let [ending] = endings.as_slice() else { return None };
    let Err(errno @ (Errno::EACCES | Errno::EPERM)) = ending.verdict else { return None };
    // One of several users may be let in.
    if several {
        return None;
    }
    let why = trial.explored.steps.last().map_or_else(String::new, |step| format!(": {}", step.fact));
    Some(Refusal {
        class: RefusalClass::StartError,
        reason: format!("its program {} cannot be started: {errno}{why}", quoted(&trial.path)),
        from: named.from.clone(),
        whole_pod: false,
    })
}

fn become_what_it_makes(
    actor: &mut Actor,
    index: usize,
    trial: &Trial,
    (named, taken, listed): (&Fact<Vec<u8>>, &[Arc<str>], bool),
) {
    let path = quoted(&trial.path);
    let ordinary: Arc<str> =
        format!("the program {path} is neither set-id nor has capabilities of its own").into();
    let Some(outcomes) = outcomes(trial) else {
        // Of images that are not given it goes without saying (docs/limits.md).
        if listed && !actor.identity.assumptions.contains(&ordinary) {
            actor.identity.assumptions.push(ordinary);
        }
        return;
    };
    let before = &actor.identity.possible[index].1;
    let own = &actor.credentials[index];
    let unchanged = |made: &Credentials| {
        (made.fsuid, made.fsgid, made.effective) == (own.fsuid, own.fsgid, own.effective)
            && made.permitted == own.permitted
    };
    if outcomes.iter().all(|(_, made)| unchanged(made)) {
        return;
    }
    let identities: Option<Vec<Identity>> =
        outcomes.iter().map(|(_, made)| made.identity(&before.groups)).collect();
    let Some(identities) = identities else { return };
    let alone = actor.credentials.len() == 1;
    if outcomes.len() > 1 && !alone {
        return actor.identity.assumptions.push(ordinary);
    }
    let other = |text: &Arc<str>| !actor.identity.assumptions.contains(text);
    let new: Vec<_> =
        taken.iter().chain(&trial.explored.assumptions).filter(|text| other(text)).cloned().collect();
    actor.identity.assumptions.extend(new);
    let made: Vec<Credentials> = outcomes.iter().map(|(_, made)| made.clone()).collect();
    if alone {
        actor.identity.question = outcomes[0].0.first().map(|(unknown, _)| unknown.clone());
        let when = |conditions: &[(Unknown, String)]| {
            let texts: Vec<&str> = conditions.iter().map(|(_, when)| when.as_str()).collect();
            Arc::from(texts.join(", and "))
        };
        let whens = outcomes.iter().map(|(conditions, _)| when(conditions));
        actor.identity.possible = whens.zip(identities.iter().cloned()).collect();
        actor.credentials = made;
        tell(actor, &identities, &path, &named.from);
    } else {
        actor.identity.possible[index].1 = identities[0].clone();
        actor.credentials[index] = made[0].clone();
        let value = format!("{path} makes {} of it", in_words(&identities[0]));
        actor.identity.facts.push(IdentityFact {
            field: IdentityField::Program,
            value,
            from: named.from.clone(),
        });
    }
}

/// What may become of the process; `None` where that is not known of some way the start may go. The container runs, so the
/// ways it does not start are none.
fn outcomes(trial: &Trial) -> Option<Vec<Outcome>> {
    let mut all: Vec<Outcome> = Vec::new();
    for ending in trial.explored.decision.endings() {
        let Ok(effect) = ending.verdict else { continue };
        let runs_as = effect.runs_as?;
        let (_, made) = trial.made.iter().find(|(known, _)| *known == runs_as)?;
        if all.iter().all(|(_, known)| known != made) {
            all.push((ending.conditions, made.clone()));
        }
    }
    if let [(conditions, _)] = all.as_mut_slice() {
        conditions.clear();
    }
    (!all.is_empty()).then_some(all)
}

/// Says in the facts whom the program runs as; what the engine gave stays as the real ids.
fn tell(actor: &mut Actor, identities: &[Identity], path: &str, from: &Provenance) {
    let facts = &mut actor.identity.facts;
    let either = |text: &dyn Fn(&Identity) -> String| {
        let mut texts: Vec<String> = identities.iter().map(text).collect();
        texts.dedup();
        texts.join(" or ")
    };
    let mut rows = vec![(IdentityField::Program, path.to_owned(), from.clone())];
    let moved = |other: fn(&Identity) -> bool| identities.iter().any(other);
    let mut becomes = |field, real, value: String, bit: &str| {
        facts.iter_mut().filter(|fact| fact.field == field).for_each(|fact| fact.field = real);
        rows.push((field, value, Provenance::rule(&format!("the {bit} bit of {path}"))));
    };
    if moved(|identity| identity.real.is_some_and(|real| real.uid != identity.uid)) {
        let uid = either(&|identity| identity.uid.to_string());
        becomes(IdentityField::Uid, IdentityField::RealUid, uid, "set-user-ID");
        actor.identity.name = None;
    }
    if moved(|identity| identity.real.is_some_and(|real| real.gid != identity.gid)) {
        let gid = either(&|identity| identity.gid.to_string());
        becomes(IdentityField::Gid, IdentityField::RealGid, gid, "set-group-ID");
    }
    let effective = either(&|identity| set_in_words(identity.effective));
    rows.push((IdentityField::Effective, effective, Provenance::rule(&format!("what {path} gives"))));
    let named = actor.identity.name.is_some();
    facts.retain(|fact| {
        fact.field != IdentityField::Effective && (named || fact.field != IdentityField::Name)
    });
    let rows = rows.into_iter().map(|(field, value, from)| IdentityFact { field, value, from });
    facts.splice(0..0, rows);
}

fn in_words(identity: &Identity) -> String {
    format!("{}:{} with {}", identity.uid, identity.gid, set_in_words(identity.effective))
}
