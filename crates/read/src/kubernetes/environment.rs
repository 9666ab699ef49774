//! `subPathExpr`: a path with `$(NAME)` from the container's environment.

use mivask_core::fact::Unknown;

use super::api::Container;

/// What became of an expression.
pub(super) enum Expanded {
    /// Every variable is known.
    Path(String),
    /// One depends on a missing fact.
    Unknown(Unknown),
    /// One is not defined: the container is refused.
    Missing(String),
}

/// `expression` with every `$(NAME)` replaced; `$$` is a `$`. `pod` and `namespace` answer field references.
pub(super) fn expand(expression: &str, container: &Container, pod: &str, namespace: &str) -> Expanded {
    let mut out = String::new();
    let mut rest = expression;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        let behind = &rest[at + 1..];
        if let Some(after) = behind.strip_prefix('$') {
            out.push('$');
            rest = after;
            continue;
        }
        let named = behind.strip_prefix('(').and_then(|inner| inner.split_once(')'));
        let Some((name, after)) = named else {
            out.push('$');
            rest = behind;
            continue;
        };
        match variable(name, container, pod, namespace) {
            Expanded::Path(value) => out.push_str(&value),
            stop @ (Expanded::Unknown(_) | Expanded::Missing(_)) => return stop,
        }
        rest = after;
    }
    out.push_str(rest);
    Expanded::Path(out)
}

fn variable(name: &str, container: &Container, pod: &str, namespace: &str) -> Expanded {
    let given = container.env.iter().rfind(|variable| variable.name == name);
    let unknown = |why: &str| {
        let fact = format!("the value of ${name} in container {}", container.name);
        Expanded::Unknown(Unknown::new(&fact, why))
    };
    let Some(given) = given else {
        return if !container.env_from.is_empty() {
            unknown("give it under `env:`")
        } else {
            Expanded::Missing(name.to_owned())
        };
    };
    let field = given.value_from.as_ref().and_then(|from| from.field_ref.as_ref());
    match (&given.value, field.map(|field| field.field_path.as_str())) {
        (Some(value), _) if !value.contains("$(") => Expanded::Path(value.clone()),
        (None, Some("metadata.name")) => Expanded::Path(pod.to_owned()),
        (None, Some("metadata.namespace")) => Expanded::Path(namespace.to_owned()),
        (None, None) if given.value_from.is_none() => Expanded::Path(String::new()),
        (Some(_) | None, _) => unknown("give the variable a plain value"),
    }
}
