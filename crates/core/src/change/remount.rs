//! Other options of a mount.

use mivask_model::fact::{Fact, Provenance};
use mivask_model::listed::listed;
use mivask_model::mount::MountFlags;
use mivask_model::path::trimmed;
use mivask_stage::scene::{Container, Relabel, VolumeMount};

pub(super) fn remount(container: &mut Container, at: &[u8], options: &[&String]) -> Result<(), String> {
    let same = |given: &[u8]| trimmed(given) == trimmed(at);
    let root = trimmed(at).is_empty();
    let known: Vec<String> =
        container.mounts.iter().map(|mount| mivask_model::act::quoted(&mount.at.value)).collect();
    let mount = container.mounts.iter_mut().find(|mount| same(&mount.at.value));
    if root && mount.is_none() {
        for option in options {
            match option.as_str() {
                "ro" => container.read_only_root = true,
                "rw" => container.read_only_root = false,
                _ => return Err(format!("the root takes ro or rw, not `{option}`")),
            }
        }
        return Ok(());
    }
    let Some(mount) = mount else {
        let list = if known.is_empty() { "none".to_owned() } else { listed(&known) };
        return Err(format!("the description mounts nothing there (its mounts: {list})"));
    };
    for option in options {
        let flag = |word: &str| MountFlags::by_word(word);
        let cleared = flag(&format!("no{option}"));
        match (option.as_str(), flag(option), cleared) {
            ("ro", ..) => mount.read_only = true,
            ("U" | "idmap", ..) => {
                mount.engine.take_over |= *option == "U";
                mount.engine.id_mapped |= *option == "idmap";
                let rule = Provenance::rule("a change");
                mount.engine.first.get_or_insert_with(|| Fact::new(option.to_string(), rule));
            }
            ("z", ..) => mount.engine.relabel = Some(Fact::new(Relabel::Shared, mount.at.from.clone())),
            ("Z", ..) => mount.engine.relabel = Some(Fact::new(Relabel::Private, mount.at.from.clone())),
            ("rw", ..) => {
                mount.read_only = false;
                clear(mount, MountFlags::READ_ONLY);
            }
            (_, Some(set), _) => {
                mount.flags = mount.flags.with(set);
                mount.below.cleared = mount.below.cleared.without(set);
            }
            (_, None, Some(cleared)) => clear(mount, cleared),
            (_, None, None) => {
                return Err(format!(
                    "`{option}` is not a mount option known here: ro, rw, noexec, nosuid, nodev, nosymfollow, or one of them without `no`, Podman's U and idmap, or z or Z for the label"
                ));
            }
        }
    }
    Ok(())
}

/// Takes a flag from a mount, the volume's own mount options included.
fn clear(mount: &mut VolumeMount, flag: MountFlags) {
    mount.flags = mount.flags.without(flag);
    mount.below.set = mount.below.set.without(flag);
    mount.below.cleared = mount.below.cleared.with(flag);
}
