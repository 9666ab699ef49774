//! The pod at the heart of every workload kind.

use k8s_openapi::api::core::v1::{Container as ApiContainer, PodSpec, VolumeMount as ApiMount};
use mivask_core::fact::Fact;
use mivask_core::ids::MountIds;
use mivask_core::mount::MountFlags;
use mivask_core::scene::{Container, Volume, VolumeMount, Who, Workload};
use mivask_core::stage::Role;
use mivask_core::words::nearest;

use super::{Origin, security, unmodelled, volumes};
use crate::slip::{Severity, Slips};

/// The workload of `spec`; `origin` stands at it.
pub(super) fn workload(
    spec: &PodSpec,
    origin: &Origin<'_>,
    name: String,
    kind: &str,
    slips: &mut Slips,
) -> Option<Workload> {
    let context = spec.security_context.clone().unwrap_or_default();
    let security = security::pod(&context, &origin.at("securityContext"), slips);
    let listed = origin.at("volumes");
    let declared: Vec<&str> = spec.volumes.iter().flatten().map(|volume| volume.name.as_str()).collect();
    let volumes: Vec<Volume> = spec
        .volumes
        .iter()
        .flatten()
        .enumerate()
        .filter_map(|(index, volume)| volumes::volume(volume, &listed.item(index), slips))
        .collect();
    unmodelled::pod(spec, origin, slips);
    let mut containers = Vec::new();
    let lists = [
        ("initContainers", Role::Init, spec.init_containers.as_deref()),
        ("containers", Role::App, Some(&*spec.containers)),
    ];
    for (key, role, list) in lists {
        let here = origin.at(key);
        for (index, described) in list.into_iter().flatten().enumerate() {
            let item = here.item(index);
            let sidecar = role == Role::Init && described.restart_policy.as_deref() == Some("Always");
            let role = if sidecar { Role::Sidecar } else { role };
            if containers.iter().any(|earlier: &Container| earlier.name == described.name) {
                let message = format!("two containers are called `{}`: the API refuses that", described.name);
                item.slip(Severity::Error, "name", message, None, slips);
            }
            containers.push(container(described, role, &declared, &item, slips)?);
        }
    }
    if spec.containers.is_empty() {
        origin.slip(Severity::Error, "", format!("`{name}` has no containers"), None, slips);
        return None;
    }
    let token = spec.automount_service_account_token;
    let service_account_token =
        token.map(|token| origin.fact("automountServiceAccountToken", "automountServiceAccountToken", token));
    let from = origin.place("", kind);
    Some(Workload { name, kind: kind.to_owned(), security, volumes, containers, service_account_token, from })
}

fn container(
    described: &ApiContainer,
    role: Role,
    declared: &[&str],
    origin: &Origin<'_>,
    slips: &mut Slips,
) -> Option<Container> {
    if described.name.is_empty() {
        origin.slip(Severity::Error, "", "a container has no name", Some("add `name:`".to_owned()), slips);
        return None;
    }
    let context = described.security_context.clone().unwrap_or_default();
    unmodelled::container(&context, origin, slips);
    let security = security::container(&context, &origin.at("securityContext"), slips);
    let listed = origin.at("volumeMounts");
    let mut mounts: Vec<VolumeMount> = Vec::new();
    for (index, asked) in described.volume_mounts.iter().flatten().enumerate() {
        let item = listed.item(index);
        if let Some(mount) = mount(asked, declared, &item, slips) {
            if mounts.iter().any(|earlier| earlier.at.value == mount.at.value) {
                let message =
                    format!("two volumes are mounted at {}: the API refuses that", asked.mount_path);
                item.slip(Severity::Error, "mountPath", message, None, slips);
            }
            mounts.push(mount);
        }
    }
    Some(Container {
        name: described.name.clone(),
        role,
        image: described.image.clone().map(|image| origin.fact("image", "image", image)),
        read_only_root: security.read_only_root.as_ref().is_some_and(|fact| fact.value),
        privileged: security.privileged.as_ref().is_some_and(|fact| fact.value),
        who: Who::Kubernetes(security),
        mounts,
        working_directory: path_of(described.working_dir.as_deref(), "workingDir", origin),
        termination_log: path_of(
            described.termination_message_path.as_deref(),
            "terminationMessagePath",
            origin,
        ),
        from: origin.place("name", "containers.name"),
    })
}

/// An absolute path of a field; anything else is left to the runtime's default.
fn path_of(path: Option<&str>, field: &str, origin: &Origin<'_>) -> Option<Fact<Vec<u8>>> {
    let path = path.filter(|path| path.starts_with('/'))?;
    Some(origin.fact(field, field, path.as_bytes().to_vec()))
}

fn mount(asked: &ApiMount, declared: &[&str], origin: &Origin<'_>, slips: &mut Slips) -> Option<VolumeMount> {
    if !declared.contains(&asked.name.as_str()) {
        let help = match nearest(&asked.name, declared.iter().copied()) {
            Some(known) => format!("did you mean `{known}`?"),
            None => format!("declare it under `volumes:`, such as `- name: {}`", asked.name),
        };
        let message = format!("volume `{}` is mounted but not declared", asked.name);
        origin.slip(Severity::Error, "name", message, Some(help), slips);
        return None;
    }
    let at = mount_path(&asked.mount_path, origin, slips)?;
    let sub_path = asked.sub_path.as_ref().filter(|path| !path.is_empty() && *path != ".");
    if let Some(path) =
        sub_path.filter(|path| path.starts_with('/') || path.split('/').any(|part| part == ".."))
    {
        let message = format!("the API refuses subPath `{path}`: it must stay inside the volume");
        origin.slip(Severity::Error, "subPath", message, None, slips);
        return None;
    }
    if asked.recursive_read_only.as_deref().is_some_and(|told| told != "Disabled") {
        let message =
            "recursiveReadOnly is not read by this version: mounts below this one keep their own flags";
        origin.slip(Severity::Warning, "recursiveReadOnly", message, None, slips);
    }
    if asked.sub_path_expr.is_some() {
        let message = "subPathExpr is not read by this version: the whole volume is taken to be mounted";
        origin.slip(Severity::Warning, "subPathExpr", message, None, slips);
    }
    Some(VolumeMount {
        ids: MountIds::default(),
        volume: origin.fact("name", "volumeMounts.name", asked.name.clone()),
        at,
        read_only: asked.read_only.unwrap_or(false),
        flags: MountFlags::default(),
        sub_path: sub_path
            .map(|path| origin.fact("subPath", "volumeMounts.subPath", path.as_bytes().to_vec())),
    })
}

/// The path a mount lands on: relative ones count from the root, `..` is resolved.
fn mount_path(path: &str, origin: &Origin<'_>, slips: &mut Slips) -> Option<Fact<Vec<u8>>> {
    if path.is_empty() {
        origin.slip(Severity::Error, "", "a volumeMount has no mountPath", None, slips);
        return None;
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/').filter(|part| !part.is_empty() && *part != ".") {
        if part == ".." {
            parts.pop();
        } else {
            parts.push(part);
        }
    }
    if parts.is_empty() {
        let message = "a volume cannot be mounted at `/`: the container would not start";
        origin.slip(Severity::Error, "mountPath", message, None, slips);
        return None;
    }
    let clean = format!("/{}", parts.join("/"));
    Some(origin.fact("mountPath", "volumeMounts.mountPath", clean.into_bytes()))
}
