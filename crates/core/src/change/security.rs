//! Changes of the host's SELinux: booleans of its policy, and labels that last.

use std::fmt;
use std::sync::Arc;

use mivask_model::act::{ActError, ActErrorKind, Rest, absolute, quoted};
use mivask_model::labels::Labels;
use mivask_model::mount::SourceId;
use mivask_model::tree::{Spot, Tree};
use mivask_rules::lookup::{Sight, look};
use mivask_rules::walk::Follow;
use mivask_stage::prepare::{HOST, readable_policy, stage_with_host};
use mivask_stage::scene::Scene;
use mivask_stage::stage::Stage;

/// What is different about SELinux on the host.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Security {
    /// `sets-boolean NAME on`: a boolean of the policy, now and after a restart.
    Boolean(String, bool),
    /// `labels PATH as TYPE`: what the host's own rules of labels say of PATH and all below it, and what is there with it.
    Labels(Vec<u8>, String),
}

impl fmt::Display for Security {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Boolean(name, on) => {
                write!(f, "sets-boolean {} {}", quoted(name.as_bytes()), if *on { "on" } else { "off" })
            }
            Self::Labels(path, type_) => write!(f, "labels {} as {}", quoted(path), quoted(type_.as_bytes())),
        }
    }
}

impl Security {
    /// Reads what is behind `host sets-boolean`, or with `labels` what is behind `host labels`.
    ///
    /// # Errors
    /// The first mistake.
    pub(super) fn read(labels: bool, rest: &mut Rest<'_>) -> Result<Self, ActError> {
        if labels {
            let path = absolute(rest.next("a path")?)?;
            rest.preposition("as")?;
            let type_ = rest.next("a type, such as container_file_t")?;
            let text = type_.as_text();
            let plain = |one: char| one.is_ascii_alphanumeric() || one == '_' || one == '.';
            if text.is_empty() || !text.chars().all(plain) {
                return Err(type_.error(ActErrorKind::Type));
            }
            return Ok(Self::Labels(path, text));
        }
        let name = rest.next("a boolean")?.as_text();
        let word = rest.next("`on` or `off`")?;
        match word.text.as_slice() {
            b"on" => Ok(Self::Boolean(name, true)),
            b"off" => Ok(Self::Boolean(name, false)),
            _ => Err(rest.unexpected(word)),
        }
    }

    /// Makes it in the scene; labels are given to files before anything mounts them.
    ///
    /// # Errors
    /// Nothing is said of the host's SELinux or of its files, or the policy does not know the name.
    pub(super) fn apply(&self, scene: &mut Scene) -> Result<(), String> {
        match self {
            Self::Boolean(name, on) => {
                let host = scene.host.selinux.as_mut();
                let policy = host.and_then(|host| host.policy.as_mut()).ok_or(
                    "the host's SELinux policy is not given: add `host: { selinux: { policy: FILE } }`",
                )?;
                let known = Arc::make_mut(policy).set_boolean(name, *on);
                known.then_some(()).ok_or_else(|| format!("the policy has no boolean `{name}`"))
            }
            Self::Labels(path, type_) => {
                let label = lasting(scene, type_)?;
                if scene.host.tree.is_none() {
                    return Err("the host's files are not given: add `host: { tree: ... }` in a scene file"
                        .to_owned());
                }
                let workloads = std::mem::take(&mut scene.workloads);
                let mut stage = stage_with_host(scene);
                scene.workloads = workloads;
                let source = relabel(&mut stage, path, &label)?;
                // The first source is the host's own tree.
                if stage.source_ids().next() != Some(source) {
                    return Err(format!(
                        "{} is on a file system of its own: give its label where the scene describes that",
                        quoted(path)
                    ));
                }
                scene.host.tree = Some(stage.source(source).tree.clone());
                Ok(())
            }
        }
    }

    /// Gives the labels to the files of a stage with the host on it: what an engine or an act labelled is labelled anew.
    ///
    /// # Errors
    /// The path is not there, or the policy does not know the type.
    pub(crate) fn apply_to_stage(&self, scene: &Scene, stage: &mut Stage) -> Result<(), String> {
        match self {
            Self::Boolean(..) => Ok(()),
            Self::Labels(path, type_) => {
                let label = lasting(scene, type_)?;
                relabel(stage, path, &label).map(drop)
            }
        }
    }
}

/// How many inodes a change of labels is about.
pub(crate) fn labelled(scene: &Scene, what: &Security) -> usize {
    let (Security::Labels(path, _), Some(tree)) = (what, scene.host.tree.as_deref()) else { return 0 };
    match tree.resolve(path, false) {
        Spot::There(top) => tree.below(top).len(),
        Spot::Missing { .. } | Spot::Unlisted { .. } | Spot::Nowhere(_) => 0,
    }
}

/// The label that `restorecon -F` gives by a rule with `type_`.
fn lasting(scene: &Scene, type_: &str) -> Result<Arc<str>, String> {
    let host = scene.host.selinux.as_ref().ok_or("nothing is said of SELinux on the host")?;
    let policy = readable_policy(host).ok_or("the host's SELinux policy is not given")?;
    let mut text = format!("system_u:object_r:{type_}");
    if policy.has_levels() {
        text.push_str(":s0");
    }
    policy.context(&text).map_err(|problem| format!("{text}: {problem}"))?;
    Ok(text.into())
}

/// Labels what `host` has at `path`, and all below it on the same file system.
fn relabel(stage: &mut Stage, path: &[u8], label: &Arc<str>) -> Result<SourceId, String> {
    let host = stage.actor(HOST).map_err(|error| error.to_string())?;
    let there = match look(&stage.storage, &host.mounts, path, Follow::AllButLast) {
        Ok(Sight::There(place)) => place.inode.map(|inode| (place.source, inode)),
        Ok(Sight::Missing | Sight::Unlisted) | Err(_) => None,
    };
    let (source, top) = there.ok_or_else(|| format!("{} is not there on the host", quoted(path)))?;
    if !matches!(stage.source(source).facts.labels, Labels::Stored(_)) {
        return Err(format!("what is at {} keeps no labels of its own", quoted(path)));
    }
    let tree: &mut Tree = Arc::make_mut(&mut stage.storage.source_mut(source).tree);
    for inode in tree.below(top) {
        tree.set_label(inode, Some(label.clone()), false);
    }
    Ok(source)
}
