//! Volumes made of API objects: configMap, secret, downwardAPI, projected (docs/facts/kubelet.md section 6).

use mivask_model::ids::DiskOwner;
use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::labels::Labels;
use mivask_model::mode::{FileKind, Mode};
use mivask_model::mount::{MountFlags, Preparation, Source, SourceFacts};
use mivask_model::path::trimmed;
use mivask_model::refusal::Refusal;
use mivask_model::refusal::RefusalClass;
use mivask_model::tree::{Certainty, Doubt, Entry, Tree, TreeError};

use super::context::Context;
use super::fs_group::{self, GroupStep, Masks, Policy};
use super::prepared::{Prepared, root_facts};
use crate::scene::{ApiItem, ApiKind, ApiSource, ApiVolume, Who};
use crate::stage::{Role, Stage};

/// The directory that holds the real files; the kubelet names it after the time.
const DATA: &[u8] = b"..TIMESTAMP";

/// The volume called `name`.
pub(super) fn prepare(
    stage: &mut Stage,
    context: &Context<'_>,
    name: &Fact<String>,
    volume: &ApiVolume,
) -> Prepared {
    let mut contents = Contents::gather(context, volume);
    let on_disk = volume.kind == ApiKind::ConfigMap;
    let mode = if on_disk { 0o777 } else { 0o1777 };
    let rule = match volume.kind {
        ApiKind::ConfigMap => "the kubelet makes the directory of a configMap 0:0 0777",
        ApiKind::Secret | ApiKind::DownwardApi | ApiKind::Projected => {
            "the kubelet makes these volumes a tmpfs, 0:0 1777 (sticky)"
        }
    };
    let mut tree = Tree::new(Entry::directory(0, 0, mode), Provenance::rule(rule));
    let added = inner_mount_points(context, &name.value)
        .iter()
        .try_for_each(|path| make_directory(&mut tree, path))
        .and_then(|()| contents.lay_out(&mut tree));
    let mut preparation =
        Preparation { before: Some(root_facts(&tree, Tree::ROOT)), ..Preparation::default() };
    preparation.notes.push(Arc::from(rule));
    if let Some(group) = &context.workload.security.fs_group {
        let from = &group.from;
        let policy = Policy::Always;
        let group = group.value;
        let top = Tree::ROOT;
        let report =
            fs_group::apply(&mut tree, &GroupStep { top, group, policy, masks: Masks::READ_ONLY, from });
        preparation.touches = report.touched;
        preparation.notes.extend(report.note);
    }
    contents.own_tokens(context, &mut tree);
    let facts = SourceFacts {
        filesystem: (!on_disk).then(|| Arc::from("tmpfs")),
        labels: Labels::Container,
        ..SourceFacts::local(format!("{} {}", volume.kind.word(), name.value))
    };
    let source = stage.add_source(Source::new(Arc::new(tree), facts));
    let blocked = contents.blocked.or_else(|| {
        let error = added.err()?;
        let class = RefusalClass::FailedMount;
        let from = name.from.clone();
        let reason = format!("the paths of volume {} conflict: {error}", name.value);
        Some(Refusal { class, reason, from, whole_pod: true })
    });
    Prepared {
        blocked,
        flags: MountFlags::READ_ONLY,
        ..Prepared::single(source, volume.kind.mount_kind(), preparation)
    }
}

/// Where the containers of the pod mount something inside a mount of `volume`, relative to that mount and the outermost of
/// those that lie in each other. The kubelet makes these directories before it writes the files, since no runtime could make
/// them in a read-only mount (`MakeNestedMountpoints`; docs/facts/kubelet.md section 6).
fn inner_mount_points(context: &Context<'_>, volume: &str) -> Vec<Vec<u8>> {
    let mut inner: Vec<Vec<u8>> = Vec::new();
    // One that is added to a running pod comes too late.
    let containers = context.workload.containers.iter().filter(|container| container.role != Role::Ephemeral);
    for container in containers {
        let all = || container.mounts.iter().map(|mount| trimmed(&mount.at.value));
        for outer in container.mounts.iter().filter(|mount| mount.volume.value == volume) {
            let rest = |at: &[u8]| {
                let rest = at.strip_prefix(trimmed(&outer.at.value))?.strip_prefix(b"/")?;
                (!rest.is_empty()).then(|| rest.to_vec())
            };
            let below: Vec<Vec<u8>> = all().filter_map(rest).collect();
            let outermost = |path: &&Vec<u8>| {
                let holds = |other: &Vec<u8>| {
                    path.strip_prefix(other.as_slice()).is_some_and(|rest| rest.starts_with(b"/"))
                };
                !below.iter().any(holds)
            };
            inner.extend(below.iter().filter(outermost).cloned());
        }
    }
    inner
}

fn make_directory(tree: &mut Tree, path: &[u8]) -> Result<(), TreeError> {
    let rule = "the kubelet makes the mount points inside such a volume, 0:0 0755";
    let mut here = Tree::ROOT;
    for name in path.split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
        here = match tree.lookup(here, name) {
            Some(found) => found,
            None => tree.add(here, name, Entry::directory(0, 0, 0o755).at(Provenance::rule(rule)))?,
        };
    }
    Ok(())
}

/// The automatic service account volume of current releases.
pub(super) fn service_account() -> ApiVolume {
    let from = || Provenance::rule("the kubelet mounts it into every container");
    let item =
        |path: &str| ApiItem { key: String::new(), path: Fact::new(path.to_owned(), from()), mode: None };
    ApiVolume {
        kind: ApiKind::Projected,
        default_mode: Fact::new(Mode::new(0o644), from()),
        sources: vec![
            ApiSource::Token(item("token")),
            ApiSource::Files(vec![item("ca.crt"), item("namespace")]),
        ],
    }
}

/// One file that will be there.
struct File {
    path: String,
    mode: Mode,
    from: Provenance,
    token: bool,
    assumed: Option<Arc<str>>,
}

/// What a volume will hold.
struct Contents {
    files: Vec<File>,
    /// What else may be there.
    unknown: Option<Unknown>,
    blocked: Option<Refusal>,
}

impl Contents {
    fn gather(context: &Context<'_>, volume: &ApiVolume) -> Self {
        let mut contents = Self { files: Vec::new(), unknown: None, blocked: None };
        for source in &volume.sources {
            match source {
                ApiSource::Files(items) => {
                    items.iter().for_each(|item| contents.file(volume, item, false, None));
                }
                ApiSource::Token(item) => contents.file(volume, item, true, None),
                ApiSource::Object { secret, name, items, optional } => {
                    contents.object(context, volume, (*secret, name), items.as_deref(), *optional);
                }
            }
        }
        contents
    }

    fn file(&mut self, volume: &ApiVolume, item: &ApiItem, token: bool, assumed: Option<Arc<str>>) {
        let mode = item.mode.as_ref().unwrap_or(&volume.default_mode);
        let path = item.path.value.trim_matches('/').to_owned();
        self.files.push(File { path, mode: mode.value, from: mode.from.clone(), token, assumed });
    }

    fn object(
        &mut self,
        context: &Context<'_>,
        volume: &ApiVolume,
        (secret, name): (bool, &Fact<String>),
        items: Option<&[ApiItem]>,
        optional: bool,
    ) {
        let word = if secret { "Secret" } else { "ConfigMap" };
        let cluster = &context.scene.cluster;
        let known = if secret { &cluster.secrets } else { &cluster.config_maps };
        let given = known.get(&(context.workload.namespace.clone(), name.value.clone()));
        let what = format!("{word} {}", name.value);
        match (given, items) {
            (Some(object), Some(items)) => {
                for item in items {
                    if object.keys.contains(&item.key) {
                        self.file(volume, item, false, None);
                    } else if !optional {
                        let reason = format!("{what} has no key `{}`, so the pod waits for ever", item.key);
                        let class = RefusalClass::FailedMount;
                        let from = item.path.from.clone();
                        self.blocked.get_or_insert(Refusal { class, reason, from, whole_pod: true });
                    }
                }
            }
            (Some(object), None) => {
                for key in &object.keys {
                    let path = Fact::new(key.clone(), object.from.clone());
                    self.file(volume, &ApiItem { key: key.clone(), path, mode: None }, false, None);
                }
            }
            (None, Some(items)) if !optional => {
                let text: Arc<str> = format!("{what} exists with the keys the volume names").into();
                items.iter().for_each(|item| self.file(volume, item, false, Some(text.clone())));
            }
            (None, _) => {
                let settle = format!("give the {word} `{}` beside the workload", name.value);
                let keys = Unknown::new(&format!("which keys {what} has"), &settle);
                self.unknown.get_or_insert(keys);
            }
        }
    }

    /// `key -> ..data/key`, `..data -> ..TIMESTAMP`, the files in `..TIMESTAMP`.
    fn lay_out(&mut self, tree: &mut Tree) -> Result<(), TreeError> {
        let unlisted =
            self.unknown.clone().map(|unknown| Doubt::new(Certainty::Known, Certainty::Unknown(unknown)));
        let directory = |doubted: bool| {
            let entry = Entry::directory(0, 0, 0o755);
            match &unlisted {
                Some(doubt) if doubted => entry.doubting(doubt.clone()),
                Some(_) | None => entry,
            }
        };
        if let Some(doubt) = unlisted.clone() {
            tree.set_doubt(Tree::ROOT, doubt);
        }
        let data = tree.add(Tree::ROOT, DATA, directory(true))?;
        tree.add(Tree::ROOT, b"..data", link(DATA))?;
        // Of two sources with one path the later one counts, as in the kubelet's payload.
        let mut files: Vec<&File> = Vec::new();
        for file in &self.files {
            files.retain(|earlier| earlier.path != file.path);
            files.push(file);
        }
        for file in files {
            let parts: Vec<&[u8]> = file.path.as_bytes().split(|byte| *byte == b'/').collect();
            let (name, above) = parts.split_last().ok_or(TreeError::Name)?;
            let mut here = data;
            for part in above {
                here = match tree.lookup(here, part) {
                    Some(found) => found,
                    None => tree.add(here, part, directory(false))?,
                };
            }
            let mut entry = Entry::new(FileKind::File, 0, 0, file.mode).at(file.from.clone());
            if let Some(text) = &file.assumed {
                let attributes = Certainty::Assumed(text.clone());
                entry = entry.doubting(Doubt::new(attributes, Certainty::Known));
            }
            tree.add(here, name, entry)?;
            if tree.lookup(Tree::ROOT, parts[0]).is_none() {
                tree.add(Tree::ROOT, parts[0], link(&[b"..data/", parts[0]].concat()))?;
            }
        }
        Ok(())
    }

    /// Tokens belong to the uid that all containers share and are 0600; 0640 under a filesystem group. Their own
    /// modes count only where neither is given (docs/facts/kubelet.md 6.3).
    fn own_tokens(&self, context: &Context<'_>, tree: &mut Tree) {
        let common = common_user(context);
        let group = context.workload.security.fs_group.as_ref();
        if common.is_none() && group.is_none() {
            return;
        }
        let from = Provenance::rule(
            "a token belongs to the common runAsUser, 0600, or 0640 with a filesystem group",
        );
        for file in self.files.iter().filter(|file| file.token) {
            let path = [DATA, b"/", file.path.as_bytes()].concat();
            let Some(id) = tree.find(&path) else { continue };
            let mode = if group.is_some() { 0o640 } else { 0o600 };
            let gid = group.map_or(0, |group| group.value);
            tree.own(id, DiskOwner::new(common.unwrap_or(0), gid), Mode::new(mode), from.clone());
        }
    }
}

/// The runAsUser that every container has, init containers included; the image's USER does not count.
fn common_user(context: &Context<'_>) -> Option<u32> {
    let pod = context.workload.security.run_as_user.as_ref();
    let users = context.workload.containers.iter().map(|container| match &container.who {
        Who::Kubernetes(security) => security.run_as_user.as_ref().or(pod).map(|user| user.value),
        Who::Plain(_) | Who::Process(_) | Who::Running(_) => None,
    });
    let mut users = users.collect::<Option<Vec<u32>>>()?;
    users.dedup();
    if users.len() == 1 { users.pop() } else { None }
}

fn link(target: &[u8]) -> Entry {
    let mut link = Entry::new(FileKind::Link, 0, 0, Mode::new(0o777));
    link.target = target.into();
    link
}
