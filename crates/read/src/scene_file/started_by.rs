//! `host: { started-by: ..., subuid: ..., subgid: ... }`: whose engine it is.

use mivask_core::fact::Fact;
use mivask_core::namespace::{SubordinateIds, subordinate};

use super::convert::Reading;
use super::types::HostSection;
use crate::diagnostic::Severity;
use crate::yaml::Node;

impl Reading<'_> {
    /// Who starts the engines, and the ids that the users of the host may give.
    pub(super) fn started_by(
        &mut self,
        section: &HostSection,
        node: &Node,
    ) -> (Option<Fact<String>>, SubordinateIds) {
        let started_by = section.started_by.as_ref().map(|word| {
            let span = &node.get("started-by").unwrap_or(node).span;
            Fact::new(word.0.clone(), self.source.place(span, "host.started-by"))
        });
        if section.user_namespace.is_some() && started_by.is_some() {
            let span = &node.get("started-by").unwrap_or(node).span;
            let message = "`started-by` and `user-namespace` of the host exclude one another";
            let help = "an engine of root's has `user-namespace`, one of somebody else the ids of that user";
            self.diagnostics.add(Severity::Error, self.source, span, message, Some(help.to_owned()));
        }
        let mut ids = |key: &str, given: Option<&str>| {
            let (_, text) = self.account_text("the host", key, Some(given?), node)??;
            Some(subordinate(&text))
        };
        let uids = ids("subuid", section.subuid.as_deref());
        let gids = ids("subgid", section.subgid.as_deref());
        (started_by, SubordinateIds { uids, gids })
    }
}
