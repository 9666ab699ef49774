//! The paths of volumes whose names matter: what a `subPath` shows, and what something else is mounted on.

use std::collections::BTreeSet;

use mivask_core::refusal::RefusalClass;
use mivask_core::scene::VolumeMount;
use mivask_core::stage::Actor;
use mivask_core::verdicts::leads_to;

use super::staged::OnStage;
use super::volumes::{Noted, Own, Volumes};

/// Those of one workload: parts of volumes, what is mounted on them, and the interpreters of scripts.
pub(super) fn of(one: &OnStage<'_>, volumes: &Volumes) -> Noted {
    let (own, stage) = (Own::of(&one.workload, &one.names), &one.stage);
    let mut noted = Noted::default();
    let interpreters = interpreters(&own, volumes);
    for container in &one.workload.containers {
        let actors: Vec<&Actor> =
            stage.actors.iter().filter(|actor| *actor.container == *container.name).collect();
        let mounted = actors.iter().flat_map(|actor| actor.mounts.iter());
        let mounted = mounted.map(|(_, other)| joined(&other.facts.at, b""));
        let paths: BTreeSet<Vec<u8>> = mounted.chain(interpreters.iter().cloned()).collect();
        // What is mounted is not all there where one of the mounts fails.
        let failed =
            actors.iter().filter_map(|actor| actor.refusal()).any(|refusal| may_mount(refusal.class));
        for mount in &container.mounts {
            let Some(name) = own.declared(&mount.volume.value) else { continue };
            let part = mount.sub_path.as_ref().map(|part| part.value.clone()).unwrap_or_default();
            let (at, part) = (joined(&mount.at.value, b""), joined(b"", &part));
            noted.unsure |= failed;
            if part != b"/" {
                noted.tell_apart(name, part.clone());
            }
            // In order, what is below a path follows it.
            let behind = paths.range(at.clone()..).take_while(|path| path.starts_with(&at));
            for rest in behind.filter_map(|path| below(&at, path)) {
                noted.tell_apart(name, joined(&part, rest));
            }
        }
        // A link may lead to an interpreter on a volume, at a path that nobody has written here.
        for (actor, path) in
            actors.iter().flat_map(|actor| interpreters.iter().map(move |path| (actor, path)))
        {
            let source = leads_to(stage, actor, path).map(|source| &*stage.source(source).facts.name);
            let inside = |mount: &VolumeMount| below(&joined(&mount.at.value, b""), path).is_some();
            if let Some(name) = source.and_then(|source| own.of_source(source))
                && !container.mounts.iter().any(inside)
            {
                noted.open.insert(name.to_owned());
            }
        }
    }
    noted
}

/// Whether what is refused so may be a mount.
const fn may_mount(class: RefusalClass) -> bool {
    match class {
        RefusalClass::StartRefused
        | RefusalClass::StartError
        | RefusalClass::CreateContainerError
        | RefusalClass::FailedMount => true,
        RefusalClass::FailedCreatePodSandBox
        | RefusalClass::CreateContainerConfigError
        | RefusalClass::BuildRefused => false,
    }
}

/// The interpreters of all scripts of these volumes, without doubled slashes.
fn interpreters(own: &Own<'_>, volumes: &Volumes) -> BTreeSet<Vec<u8>> {
    let read = own.all().filter_map(|name| volumes.of(name));
    read.flat_map(|volume| &volume.interpreters).map(|path| joined(path, b"")).collect()
}

/// Both as one path, from the root, without doubled slashes and `.`.
fn joined(first: &[u8], second: &[u8]) -> Vec<u8> {
    let parts = [first, second].into_iter().flat_map(|path| path.split(|byte| *byte == b'/'));
    let plain = parts.filter(|part| !part.is_empty() && *part != b".");
    let path = plain.flat_map(|part| [b"/", part].concat()).collect::<Vec<u8>>();
    if path.is_empty() { b"/".to_vec() } else { path }
}

/// What is left of `path` below `above`; `None` of what is not below it.
fn below<'p>(above: &[u8], path: &'p [u8]) -> Option<&'p [u8]> {
    let rest = if above == b"/" { path } else { path.strip_prefix(above)? };
    (rest.len() > 1 && rest.starts_with(b"/")).then_some(rest)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_mounted_below_is_a_path_of_the_volume() {
        for (part, at, other, path) in [
            (&b""[..], &b"/data/"[..], &b"/data/in"[..], Some(&b"/in"[..])),
            (b"a//./b", b"/data", b"/data/in/side", Some(b"/a/b/in/side")),
            (b"a", b"/data", b"/data", None),
            (b"a", b"/data", b"/database", None),
            (b"", b"/", b"/proc", Some(b"/proc")),
        ] {
            let at = joined(at, b"");
            let other = joined(other, b"");
            let found = below(&at, &other).map(|rest| joined(&joined(b"", part), rest));
            assert_eq!(found.as_deref(), path);
        }
    }
}
