//! Which service of the project another one joins.

use crate::yaml::{Node, Value};

/// The service whose container is called `name`.
pub(super) fn container_of<'a>(services: &'a Node, name: &str) -> Option<&'a str> {
    let Value::Mapping(pairs) = &services.value else { return None };
    let called = |service: &Node| service.get("container_name").and_then(Node::text) == Some(name);
    pairs.iter().find(|(_, service)| called(service)).and_then(|(key, _)| key.text())
}

/// The service of the project that the value of `ipc` or `network_mode` names.
pub(super) fn lender<'a>(services: &'a Node, text: &'a str) -> Option<&'a str> {
    match text.strip_prefix("service:") {
        Some(name) => Some(name),
        None => container_of(services, text.strip_prefix("container:")?),
    }
}
