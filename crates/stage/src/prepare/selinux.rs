//! The label of a container's process, and of the files that its engine makes.

use std::sync::Arc;

use mivask_label::{Context as Label, Policy};
use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::outcome::Errno;
use mivask_model::refusal::{Refusal, RefusalClass};
use mivask_model::unmodelled::{Touches, Unmodelled};
use mivask_rules::confined::{Confined, Given, OwnPair};

use super::context::Context;
use super::drawn::{named_categories, others, own_pair};
use super::usual_policy;
use crate::identity::{IdentityFact, IdentityField};
use crate::runtime::{Flavour, Runtime};
use crate::scene::{Container, Driver, Ipc, Scene, Selinux, SelinuxMode, Volume, VolumeKind};

/// What engines give a container that asks for nothing (`process` and `file` of a policy's `lxc_contexts`).
const PROCESS: (&str, &str, &str) = ("system_u", "system_r", "container_t");
const FILES: (&str, &str, &str) = ("system_u", "object_r", "container_file_t");

/// What one without a label of its own becomes: the policy lets the engine's domain start it so.
const WITHOUT: &str = "spc_t";

/// What settles a missing policy.
const POLICY: &str = "give `host: { selinux: { policy: FILE } }`";

/// What settles it where nothing is said of the host.
const SAY: &str = "say what SELinux does on the host: `host: { selinux: { policy: FILE } }`, `enforcing` or `disabled` in a scene";

/// What comes of SELinux for one container.
#[derive(Default)]
pub(super) struct Confinement {
    pub(super) confined: Option<Arc<Confined>>,
    /// What is not known of it.
    pub(super) unmodelled: Option<Unmodelled>,
    /// Why it never starts: the policy does not know its label.
    pub(super) refusal: Option<Refusal>,
}

impl Confinement {
    /// The label among the facts of an identity.
    pub(super) fn fact(&self, container: &Container) -> Option<IdentityFact> {
        let confined = self.confined.as_ref()?;
        let asked = &container.label;
        let parts = [&asked.whole, &asked.type_, &asked.level, &asked.user, &asked.role];
        let asked = parts.into_iter().flatten().next().map(|fact| fact.from.clone());
        let asked = asked.or_else(|| container.label.disabled.clone());
        let from = asked.unwrap_or_else(|| Provenance::rule("what engines give a container"));
        Some(IdentityFact { field: IdentityField::Label, value: confined.text(confined.process()), from })
    }
}

/// The label of `container`.
pub(super) fn of(context: &Context<'_>, container: &Container) -> Confinement {
    let asked = &container.label;
    let Some(host) = &context.scene.host.selinux else {
        // Nothing is said of the host: what a description asks for could refuse something there.
        let words = asked.words.as_ref();
        let unmodelled = words.map(|words| Unmodelled {
            unknown: Unknown::new(&format!("what {} permits", words.value), SAY),
            ..Unmodelled::policy(&words.value, Errno::EACCES, words.from.clone())
        });
        return Confinement { unmodelled, ..Confinement::default() };
    };
    match (host.mode, &host.policy) {
        (SelinuxMode::Disabled, _) | (SelinuxMode::Permissive, None) => Confinement::default(),
        (SelinuxMode::Enforcing, None) => match usual_policy::bounds() {
            Some(bounds) => with_policy(context, container, (host, &bounds.least), Some(&bounds.most)),
            None => missing("what the host's SELinux policy permits", POLICY, host),
        },
        (SelinuxMode::Enforcing | SelinuxMode::Permissive, Some(policy)) => {
            with_policy(context, container, (host, policy), None)
        }
    }
}

/// The label of somebody on the host, root among them.
pub(super) fn of_person(scene: &Scene, name: &str) -> Confinement {
    let Some(host) = &scene.host.selinux else { return Confinement::default() };
    match (host.mode, &host.policy) {
        (SelinuxMode::Disabled, _) | (SelinuxMode::Permissive, None) => Confinement::default(),
        (SelinuxMode::Enforcing | SelinuxMode::Permissive, policy) => {
            let process = policy.as_ref().and_then(|policy| {
                let label = label(policy, ("unconfined_u", "unconfined_r", "unconfined_t"), "s0-s0:c0.c1023");
                Some((policy, label.ok()?))
            });
            let Some((policy, process)) = process else {
                let fact = format!("the SELinux label of {name}, and what it permits");
                return missing(&fact, "no scene can supply it", host);
            };
            let text =
                "people on the host are unconfined_t, as SELinux maps logins where nothing else is set";
            let given = Given { process, files: None, others: None, assumptions: vec![text.into()] };
            let enforcing = host.mode == SelinuxMode::Enforcing;
            let confined = Confined::new(policy.clone(), enforcing, given, Arc::default())
                .naming(Arc::new(named_categories(scene)));
            Confinement { confined: Some(Arc::new(confined)), ..Confinement::default() }
        }
    }
}

/// Whether the engine labels a named volume that it makes for every container: Podman does (`LabelVolumePath`), and of Docker it
/// depends on how the volume was asked for.
pub(super) fn shared_when_made(context: &Context<'_>, volume: &Volume) -> bool {
    let local = matches!(volume.kind, VolumeKind::Named { driver: Driver::Local, external: false, .. });
    local && context.runtime == Runtime::Podman && !context.scene.volumes.contains_key(&volume.name.value)
}

/// Something of the label that is not given: whatever all else permits may be refused.
fn missing(fact: &str, settle: &str, host: &Selinux) -> Confinement {
    let unmodelled = Unmodelled {
        name: "SELinux".to_owned(),
        touches: Touches::Permitted(Errno::EACCES),
        from: host.from.clone(),
        unknown: Unknown::new(fact, settle),
    };
    let unmodelled = Some(unmodelled).filter(|_| host.mode == SelinuxMode::Enforcing);
    Confinement { unmodelled, ..Confinement::default() }
}

fn with_policy(
    context: &Context<'_>,
    container: &Container,
    (host, policy): (&Selinux, &Arc<Policy>),
    most: Option<&Arc<Policy>>,
) -> Confinement {
    let asked = &container.label;
    let unknown = |why: &str| {
        let fact = format!("the label of {}{why}", container.name);
        let settle = if most.is_some() { POLICY } else { "give `label:` for a container of the scene" };
        missing(&fact, settle, host)
    };
    let pairs: Arc<[OwnPair]>;
    let given = match (context.workload.flavour, &asked.whole) {
        (_, Some(whole)) => {
            pairs = Arc::default();
            as_described(policy, whole, asked.files.as_ref())
        }
        (Flavour::Pod | Flavour::Compose, None) => match loose(context, container) {
            Loose::Yes if asked.type_.is_none() && asked.level.is_none() => {
                pairs = Arc::default();
                without_label(policy, &container.name)
            }
            Loose::Yes => return unknown(", which is both confined and not"),
            Loose::Unknown(why) => return unknown(why),
            Loose::No => {
                let pair = own_pair(context.drawn, (context.workload, context.first), container, policy);
                let level = asked.level.as_ref().map(|level| level.value.clone());
                pairs = pair.clone().filter(|_| level.is_none()).into_iter().collect();
                by_engine(policy, container, level, pair)
            }
        },
        (_, None) => return unknown(""),
    };
    match given {
        Ok(mut given) => {
            let enforcing = host.mode == SelinuxMode::Enforcing;
            let other = others(context.drawn, policy);
            given.others =
                other.as_ref().and_then(|one| label(policy, FILES, &policy.range_text(&one.range)).ok());
            let beside = beside(context, container, policy);
            let pairs = pairs.iter().cloned().chain(beside).chain(other).collect();
            given.assumptions.extend(most.map(|_| usual_policy::ASSUMED.into()));
            let confined = Confined::new(policy.clone(), enforcing, given, pairs)
                .at_most(most.cloned())
                .naming(context.drawn.named.clone());
            Confinement { confined: Some(Arc::new(confined)), ..Confinement::default() }
        }
        // What the host's own policy knows beside that nobody told.
        Err(Problem::Asked(..)) if most.is_some() => unknown(", whose parts are not those of every policy"),
        Err(Problem::Engine(why)) => unknown(&format!(": {why}")),
        Err(Problem::Asked(why, from)) => {
            let class = RefusalClass::StartError;
            let reason = format!("the host's SELinux policy does not take its label: {why}");
            let refusal = Some(Refusal { class, reason, from, whole_pod: false });
            Confinement { refusal, ..Confinement::default() }
        }
    }
}

/// The pairs of those beside `container`, so that answers can name them; of very many they are `another container`.
fn beside(context: &Context<'_>, container: &Container, policy: &Policy) -> Vec<OwnPair> {
    let all = &context.workload.containers;
    if all.len() > MOST_NAMED || context.workload.flavour == Flavour::Pod {
        return Vec::new();
    }
    let others = all.iter().filter(|one| one.name != container.name);
    others.filter_map(|one| own_pair(context.drawn, (context.workload, context.first), one, policy)).collect()
}

/// Containers whose pairs are told apart.
const MOST_NAMED: usize = 64;

/// Why there is no label.
enum Problem {
    /// The policy lacks what engines give.
    Engine(String),
    /// The policy lacks what was asked for.
    Asked(String, Provenance),
}

/// Whether the engine gives the container no label of its own.
enum Loose {
    Yes,
    No,
    Unknown(&'static str),
}

fn loose(context: &Context<'_>, container: &Container) -> Loose {
    let pod = context.workload.flavour == Flavour::Pod;
    let host = matches!(container.ipc, Ipc::Host(_));
    if container.label.disabled.is_some() || container.privileged && !pod {
        return Loose::Yes;
    }
    if container.label.unsettled.is_some() {
        return Loose::Unknown(", which shares the host's processes");
    }
    match (pod, container.privileged, host) {
        // Docker and Podman leave those alone that see the host's processes or memory.
        (false, _, true) | (true, true, false) => Loose::Yes,
        (true, _, true) => Loose::Unknown(", which shares the host's namespaces"),
        (_, _, false) => Loose::No,
    }
}

/// The label that the description gives whole.
fn as_described(
    policy: &Policy,
    whole: &Fact<String>,
    files: Option<&Fact<String>>,
) -> Result<Given, Problem> {
    let known = |given: &Fact<String>| {
        policy.context(&given.value).map_err(|problem| {
            Problem::Asked(format!("{}: {problem}", given.value.escape_debug()), given.from.clone())
        })
    };
    let process = known(whole)?;
    if let Some(files) = files {
        return Ok(Given { process, files: Some(known(files)?), others: None, assumptions: Vec::new() });
    }
    let level = policy.range_text(&process.range);
    let files = label(policy, FILES, &level).ok();
    let text = "what the engine makes for a container is labelled container_file_t at the container's level";
    Ok(Given { process, files, others: None, assumptions: vec![text.into()] })
}

fn without_label(policy: &Policy, name: &str) -> Result<Given, Problem> {
    let (user, role, _) = PROCESS;
    let process = label(policy, (user, role, WITHOUT), "s0").map_err(Problem::Engine)?;
    let files = label(policy, FILES, "s0").ok();
    let text = format!(
        "{name} has no label of its own, and runs as {WITHOUT}; its files are labelled container_file_t"
    );
    Ok(Given { process, files, others: None, assumptions: vec![text.into()] })
}

/// What an engine gives that confines its containers, with what the description puts in its place.
fn by_engine(
    policy: &Policy,
    container: &Container,
    level: Option<String>,
    pair: Option<OwnPair>,
) -> Result<Given, Problem> {
    let asked = &container.label;
    let word = |given: &Option<Fact<String>>, usual: &'static str| {
        given.as_ref().map_or_else(|| usual.to_owned(), |given| given.value.clone())
    };
    let (user, role, type_) = PROCESS;
    let parts = (word(&asked.user, user), word(&asked.role, role), word(&asked.type_, type_));
    let drawn = pair.map_or_else(|| "s0".to_owned(), |pair| policy.range_text(&pair.range));
    let level = level.unwrap_or(drawn);
    let of_description = [&asked.user, &asked.role, &asked.type_, &asked.level].into_iter().flatten().next();
    let process =
        label(policy, (&parts.0, &parts.1, &parts.2), &level).map_err(|why| match of_description {
            Some(fact) => Problem::Asked(why, fact.from.clone()),
            None => Problem::Engine(why),
        })?;
    // The user counts for files, too, type and role do not (`InitLabels` of the library that engines label with).
    let (_, role, type_) = FILES;
    let files = label(policy, (&parts.0, role, type_), &level).map_err(|why| match &asked.user {
        Some(fact) => Problem::Asked(why, fact.from.clone()),
        None => Problem::Engine(why),
    })?;
    let text = "the engine confines its containers: they are container_t, and what it makes for them is container_file_t";
    Ok(Given { process, files: Some(files), others: None, assumptions: vec![text.into()] })
}

/// A label of these parts; the level is left out under a policy without.
fn label(policy: &Policy, (user, role, type_): (&str, &str, &str), level: &str) -> Result<Label, String> {
    let mut text = format!("{user}:{role}:{type_}");
    if policy.has_levels() {
        text.push(':');
        text.push_str(level);
    }
    policy.context(&text).map_err(|problem| format!("{text}: {problem}"))
}
