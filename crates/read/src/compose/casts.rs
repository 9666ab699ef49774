//! Values that Compose reads as what their field takes, quoted or not: it casts them once variables are replaced
//! (compose-go, `interpolateTypeCastMapping`).

use crate::yaml::{Node, Scalar, Value, resolve};

/// Fields of a service.
const OF_A_SERVICE: [&str; 6] = ["read_only", "privileged", "tty", "stdin_open", "init", "oom_kill_disable"];
/// Fields of a volume, a secret or a config of a service, and what they hold.
const OF_A_MOUNT: [&str; 5] = ["read_only", "create_host_path", "nocopy", "mode", "size"];

/// Takes the quotes from what is cast.
pub(super) fn cast(project: &mut Node) {
    for (key, section) in pairs(project) {
        let services = key.text() == Some("services");
        let volumes = key.text() == Some("volumes");
        for (_, entry) in pairs(section) {
            if volumes {
                fields(entry, &["external"]);
            }
            if services {
                fields(entry, &OF_A_SERVICE);
                for (key, list) in pairs(entry) {
                    let mounts = matches!(key.text(), Some("volumes" | "secrets" | "configs"));
                    if let (true, Value::Sequence(items)) = (mounts, &mut list.value) {
                        items.iter_mut().for_each(mount);
                    }
                }
            }
        }
    }
}

fn mount(item: &mut Node) {
    fields(item, &OF_A_MOUNT);
    for (key, options) in pairs(item) {
        if matches!(key.text(), Some("bind" | "volume" | "tmpfs")) {
            fields(options, &OF_A_MOUNT);
        }
    }
}

fn fields(node: &mut Node, names: &[&str]) {
    for (key, value) in pairs(node) {
        if key.text().is_some_and(|key| names.contains(&key))
            && let Value::Scalar { text, plain } = &mut value.value
        {
            *plain |= matches!(resolve(text), Scalar::Bool(_) | Scalar::Int(_));
        }
    }
}

fn pairs(node: &mut Node) -> &mut [(Node, Node)] {
    match &mut node.value {
        Value::Mapping(pairs) => pairs,
        Value::Sequence(_) | Value::Scalar { .. } => &mut [],
    }
}
