//! `ipc` and `network_mode`: whose `/dev/shm`, message queues and files of the network a service has.

use mivask_core::fact::Fact;
use mivask_core::scene::Ipc;

use super::lender::container_of;
use super::project::Reading;
use crate::diagnostic::Severity;
use crate::nearest::nearest;
use crate::yaml::{Node, Value};

impl Reading<'_> {
    /// `ipc: none | private | shareable | host | service:NAME | container:NAME`
    pub(super) fn ipc(&mut self, node: &Node) -> Ipc {
        let Some(given) = node.get("ipc").filter(|given| !given.is_nothing()) else { return Ipc::Default };
        let text = given.text().unwrap_or_default();
        let from = self.place(given, "ipc");
        match text {
            "" => Ipc::Default,
            "none" => Ipc::None,
            "private" => Ipc::Private,
            "shareable" => Ipc::Shareable,
            "host" => Ipc::Host(from),
            other => match (self.joined(given, "ipc"), other.strip_prefix("container:")) {
                (Some(service), _) => Ipc::Of(service),
                (None, Some(container)) => Ipc::Elsewhere(Fact::new(container.to_owned(), from)),
                (None, None) => {
                    if !other.starts_with("service:") {
                        let message = format!("`ipc: {}` is no IPC mode", other.escape_debug());
                        let help = "write none, private, shareable, host, service:NAME or container:NAME";
                        self.diagnostic(Severity::Error, given, &message, Some(help.to_owned()));
                    }
                    Ipc::Default
                }
            },
        }
    }

    /// The service whose network this one has: `network_mode: service:NAME | container:NAME`.
    pub(super) fn network_of(&mut self, node: &Node) -> Option<Fact<String>> {
        self.joined(node.get("network_mode")?, "network_mode")
    }

    /// The service of the project that `service:NAME` or `container:NAME` names.
    fn joined(&mut self, given: &Node, key: &str) -> Option<Fact<String>> {
        let text = given.text()?;
        let from = self.place(given, key);
        let services = self.root.get("services")?;
        if let Some(name) = text.strip_prefix("service:") {
            if services.get(name).is_some() {
                return Some(Fact::new(name.to_owned(), from));
            }
            let Value::Mapping(pairs) = &services.value else { return None };
            let known = pairs.iter().filter_map(|(key, _)| key.text());
            let help = nearest(name, known).map(|name| format!("did you mean `service:{name}`?"));
            let message = format!("there is no service `{}` to join", name.escape_debug());
            self.diagnostic(Severity::Error, given, &message, help);
            return None;
        }
        let container = text.strip_prefix("container:")?;
        let service = container_of(services, container)?;
        Some(Fact::new(service.to_owned(), from))
    }
}
