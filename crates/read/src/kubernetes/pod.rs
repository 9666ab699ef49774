//! The pod at the heart of every workload kind.

use std::collections::{BTreeSet, HashSet};

use mivask_core::fact::{Fact, Provenance};
use mivask_core::mount::MountFlags;
use mivask_core::path::cleaned;
use mivask_core::refusal::Refusal;
use mivask_core::refusal::RefusalClass;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{
    Below, Container, Ipc, ProfileAsked, Program, Volume, VolumeKind, VolumeMount, Who, Workload,
};
use mivask_core::stage::Role;

use super::api::{Container as ApiContainer, PersistentVolumeClaim, PodSpec, VolumeMount as ApiMount};
use super::environment::{Expanded, expand};
use super::unmodelled::Policies;
use super::{Origin, security, unmodelled, volumes};
use crate::diagnostic::{Diagnostics, Severity};
use crate::nearest::nearest;

/// What is around a pod.
#[derive(Debug)]
pub(super) struct Head {
    /// The workload's name.
    pub name: String,
    /// Its namespace.
    pub namespace: String,
    /// Its kind.
    pub kind: &'static str,
    /// The claims a StatefulSet makes for each pod; mounts name them like volumes.
    pub claims: Vec<PersistentVolumeClaim>,
    /// The AppArmor profiles that annotations give its containers, by their names.
    pub profiles: Vec<(String, ProfileAsked)>,
}

impl Head {
    /// The name of the pod that is looked at: a StatefulSet's first.
    fn pod(&self) -> String {
        // Pods of a stateful set are numbered from 0, and their claims carry the pod's name; others get names no one
        // knows before.
        if self.kind == "StatefulSet" { format!("{}-0", self.name) } else { self.name.clone() }
    }

    /// The name of the claim that a StatefulSet makes from the template `name` for that pod.
    pub(super) fn claim(&self, name: &str) -> String {
        format!("{name}-{}", self.pod())
    }
}

/// What every container of a pod is read with.
struct Pod<'a> {
    head: &'a Head,
    declared: BTreeSet<&'a str>,
    own_users: bool,
    host_ipc: Option<Provenance>,
    policies: Policies,
}

/// The workload of `spec`; `origin` is at it.
pub(super) fn workload(
    spec: &PodSpec,
    origin: &Origin<'_>,
    head: Head,
    diagnostics: &mut Diagnostics,
) -> Option<Workload> {
    let context = spec.security_context.clone().unwrap_or_default();
    let security = security::pod(&context, &origin.at("securityContext"), diagnostics);
    let listed = origin.at("volumes");
    let mut declared: BTreeSet<&str> = spec.volumes.iter().map(|volume| volume.name.as_str()).collect();
    let mut volumes: Vec<Volume> = spec
        .volumes
        .iter()
        .enumerate()
        .filter_map(|(index, volume)| volumes::volume(volume, &listed.item(index), diagnostics))
        .collect();
    for template in head.claims.iter().filter_map(|claim| claim.metadata.name.as_deref()) {
        // A template wins over a volume of the same name.
        volumes.retain(|volume| volume.name.value != template);
        declared.insert(template);
        let name = Fact::new(template.to_owned(), origin.place("", "volumeClaimTemplates"));
        volumes
            .push(Volume { name, kind: VolumeKind::Claim { claim: head.claim(template), read_only: false } });
    }
    volumes.shrink_to_fit();
    let host_ipc = (spec.host_ipc == Some(true)).then(|| origin.place("hostIPC", "hostIPC"));
    let policies = unmodelled::pod(spec, origin, diagnostics);
    let pod = Pod { head: &head, declared, own_users: spec.host_users == Some(false), host_ipc, policies };
    let containers = containers(spec, &pod, origin, diagnostics)?;
    if spec.containers.is_empty() {
        origin.diagnostic(
            Severity::Error,
            "",
            format!("`{}` has no containers", head.name),
            None,
            diagnostics,
        );
        return None;
    }
    let token = spec.automount_service_account_token;
    let service_account_token =
        token.map(|token| origin.fact("automountServiceAccountToken", "automountServiceAccountToken", token));
    let from = origin.place("", head.kind);
    let own_users = pod.own_users.then(|| origin.place("hostUsers", "hostUsers"));
    Some(Workload {
        kind: head.kind.to_owned(),
        flavour: Flavour::Pod,
        own_users,
        security,
        volumes,
        containers,
        service_account_token,
        from,
        name: head.name,
        namespace: head.namespace,
    })
}

/// Every container, init containers first.
fn containers(
    spec: &PodSpec,
    pod: &Pod<'_>,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<Vec<Container>> {
    let mut containers = Vec::new();
    let lists = [
        ("initContainers", Role::Init, &spec.init_containers),
        ("containers", Role::App, &spec.containers),
        ("ephemeralContainers", Role::Ephemeral, &spec.ephemeral_containers),
    ];
    let mut names = HashSet::new();
    for (key, role, list) in lists {
        let here = origin.at(key);
        for (index, described) in list.iter().enumerate() {
            let item = here.item(index);
            // An init container that is restarted for ever runs beside the others (KEP-753).
            let sidecar = role == Role::Init && described.restart_policy.as_deref() == Some("Always");
            let role = if sidecar { Role::Sidecar } else { role };
            if !names.insert(&described.name) {
                let message = format!("two containers are called `{}`: the API refuses that", described.name);
                item.diagnostic(Severity::Error, "name", message, None, diagnostics);
            }
            containers.push(container(described, role, pod, &item, diagnostics)?);
        }
    }
    // Thousands of pods are held at a time, most of them with one container.
    containers.shrink_to_fit();
    Some(containers)
}

fn container(
    described: &ApiContainer,
    role: Role,
    pod: &Pod<'_>,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<Container> {
    if described.name.is_empty() {
        origin.diagnostic(
            Severity::Error,
            "",
            "a container has no name",
            Some("add `name:`".to_owned()),
            diagnostics,
        );
        return None;
    }
    let context = described.security_context.clone().unwrap_or_default();
    let policies = unmodelled::container(&context, pod.own_users, origin, diagnostics);
    let security = security::container(&context, &origin.at("securityContext"), diagnostics);
    let listed = origin.at("volumeMounts");
    let mut mounts: Vec<VolumeMount> = Vec::with_capacity(described.volume_mounts.len());
    let mut refusal = None;
    let privileged = context.privileged == Some(true);
    let mut paths = HashSet::new();
    for (index, asked) in described.volume_mounts.iter().enumerate() {
        let item = listed.item(index);
        let twice = !paths.insert(&asked.mount_path);
        if let Some(mut mount) = mount(asked, &pod.declared, privileged, &item, diagnostics) {
            if let Some(expression) = &asked.sub_path_expr {
                let part = sub_path_expression(expression, &mut mount, described, pod.head, &item);
                refusal = refusal.or(part);
            }
            // It compares the texts: `/a` and `/a/` are two to it, and the later one hides the other.
            if twice {
                let message =
                    format!("two volumes are mounted at {}: the API refuses that", asked.mount_path);
                item.diagnostic(Severity::Error, "mountPath", message, None, diagnostics);
            }
            mounts.push(mount);
        }
    }
    Some(Container {
        role,
        image: described.image.clone().map(|image| origin.fact("image", "image", image)),
        read_only_root: security.read_only_root.as_ref().is_some_and(|fact| fact.value),
        privileged: security.privileged.as_ref().is_some_and(|fact| fact.value),
        unmasked: context.proc_mount.as_deref() == Some("Unmasked"),
        ipc: pod.host_ipc.clone().map_or(Ipc::Default, Ipc::Host),
        terminal: described.tty == Some(true),
        holds_input: described.stdin == Some(true),
        refusal,
        who: Who::Kubernetes(Box::new(security)),
        mounts,
        program: program(described, origin),
        working_directory: path_of(described.working_dir.as_deref(), "workingDir", origin),
        termination_log: path_of(
            described.termination_message_path.as_deref(),
            "terminationMessagePath",
            origin,
        ),
        label: policies.label_over(&pod.policies, &context),
        apparmor: policies.apparmor_over(&pod.policies, (&described.name, &pod.head.profiles), &context),
        unmodelled: policies.over(&pod.policies, &context),
        ..Container::new(&described.name, origin.place("name", "containers.name"))
    })
}

/// What it starts; an empty list says nothing.
fn program(described: &ApiContainer, origin: &Origin<'_>) -> Program {
    let words = |words: &[String], field: &str| {
        let first = Program::first(words);
        (!words.is_empty()).then(|| origin.fact(field, field, first))
    };
    let search = described.env.iter().rfind(|variable| variable.name == "PATH");
    let search = search.and_then(|variable| variable.value.as_ref()).filter(|value| !value.contains("$("));
    Program {
        entrypoint: words(&described.command, "command"),
        command: words(&described.args, "args"),
        search: search.map(|value| origin.fact("env", "env", value.clone().into_bytes())),
    }
}

/// An absolute path of a field; anything else is left to the runtime's default.
fn path_of(path: Option<&str>, field: &str, origin: &Origin<'_>) -> Option<Fact<Vec<u8>>> {
    // The API leaves relative paths to the runtime, and runtimes differ: nothing is said of them.
    let path = path.filter(|path| path.starts_with('/'))?;
    Some(origin.fact(field, field, path.as_bytes().to_vec()))
}

/// `subPathExpr`: the part of the volume, or why no one knows it, or why the container is refused.
fn sub_path_expression(
    expression: &str,
    mount: &mut VolumeMount,
    container: &ApiContainer,
    head: &Head,
    origin: &Origin<'_>,
) -> Option<Refusal> {
    let field = "volumeMounts.subPathExpr";
    match expand(expression, container, &head.pod(), &head.namespace) {
        Expanded::Path(path) => mount.sub_path = Some(origin.fact("subPathExpr", field, path.into_bytes())),
        Expanded::Unknown(unknown) => mount.unknown_part = Some(unknown),
        Expanded::Missing(name) => {
            let reason = format!("subPathExpr names ${name}, which the container does not define");
            let class = RefusalClass::CreateContainerConfigError;
            let from = origin.place("subPathExpr", field);
            return Some(Refusal { class, reason, from, whole_pod: false });
        }
    }
    None
}

fn mount(
    asked: &ApiMount,
    declared: &BTreeSet<&str>,
    privileged: bool,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> Option<VolumeMount> {
    if !declared.contains(asked.name.as_str()) {
        let help = match nearest(&asked.name, declared.iter().copied()) {
            Some(known) => format!("did you mean `{known}`?"),
            None => format!("declare it under `volumes:`, such as `- name: {}`", asked.name),
        };
        let message = format!("volume `{}` is mounted but not declared", asked.name);
        origin.diagnostic(Severity::Error, "name", message, Some(help), diagnostics);
        return None;
    }
    let at = mount_path(&asked.mount_path, origin, diagnostics)?;
    // Both mean the whole volume to the kubelet.
    let sub_path = asked.sub_path.as_ref().filter(|path| !path.is_empty() && *path != ".");
    if let Some(path) =
        sub_path.filter(|path| path.starts_with('/') || path.split('/').any(|part| part == ".."))
    {
        let message = format!("the API refuses subPath `{path}`: it must stay inside the volume");
        origin.diagnostic(Severity::Error, "subPath", message, None, diagnostics);
        return None;
    }
    refused_together(asked, privileged, origin, diagnostics);
    Some(VolumeMount {
        read_only: asked.read_only.unwrap_or(false),
        below: below(asked),
        sub_path: sub_path
            .map(|path| origin.fact("subPath", "volumeMounts.subPath", path.as_bytes().to_vec())),
        ..VolumeMount::new(origin.fact("name", "volumeMounts.name", asked.name.clone()), at)
    })
}

/// `recursiveReadOnly`, taken to be possible where it is asked for if possible.
fn below(asked: &ApiMount) -> Below {
    match asked.recursive_read_only.as_deref() {
        Some("Enabled" | "IfPossible") => Below { set: MountFlags::READ_ONLY, ..Below::default() },
        _ => Below::default(),
    }
}

/// Fields of a mount that the API refuses together, or that no rule here looks at.
fn refused_together(asked: &ApiMount, privileged: bool, origin: &Origin<'_>, diagnostics: &mut Diagnostics) {
    if asked.sub_path.as_ref().is_some_and(|path| !path.is_empty()) && asked.sub_path_expr.is_some() {
        let message = "the API refuses subPath and subPathExpr on one mount";
        origin.diagnostic(Severity::Error, "subPathExpr", message, None, diagnostics);
    }
    let recursive = asked.recursive_read_only.as_deref();
    if let Some(word) = recursive.filter(|word| !["Disabled", "IfPossible", "Enabled"].contains(word)) {
        let message = format!("the API knows no recursiveReadOnly `{word}`");
        let help = Some("write Disabled, IfPossible or Enabled".to_owned());
        origin.diagnostic(Severity::Error, "recursiveReadOnly", message, help, diagnostics);
    } else if recursive.is_some_and(|word| word != "Disabled") && asked.read_only != Some(true) {
        let message = "the API refuses recursiveReadOnly on a mount that is not `readOnly: true`";
        origin.diagnostic(Severity::Error, "recursiveReadOnly", message, None, diagnostics);
    }
    if asked.mount_propagation.as_deref() == Some("Bidirectional") && !privileged {
        let message =
            "the API refuses `mountPropagation: Bidirectional` on a container that is not privileged";
        origin.diagnostic(Severity::Error, "mountPropagation", message, None, diagnostics);
    }
    if asked.bind_mount_options.is_some() {
        let message = "bindMountOptions is an alpha feature that is off by default: it is not applied";
        origin.diagnostic(Severity::Warning, "bindMountOptions", message, None, diagnostics);
    }
}

/// The path a mount lands on: relative ones count from the root, `..` is resolved.
fn mount_path(path: &str, origin: &Origin<'_>, diagnostics: &mut Diagnostics) -> Option<Fact<Vec<u8>>> {
    if path.is_empty() {
        origin.diagnostic(Severity::Error, "", "a volumeMount has no mountPath", None, diagnostics);
        return None;
    }
    // Runtimes clean the path before they mount, so a container never sees the dots.
    let clean = cleaned(path.as_bytes());
    if clean == b"/" {
        let message = "a volume cannot be mounted at `/`: the container would not start";
        origin.diagnostic(Severity::Error, "mountPath", message, None, diagnostics);
        return None;
    }
    if path.contains(':') {
        let message = "the API asks for a mountPath without `:`: some runtimes refuse it";
        origin.diagnostic(Severity::Warning, "mountPath", message, None, diagnostics);
    }
    Some(origin.fact("mountPath", "volumeMounts.mountPath", clean))
}
