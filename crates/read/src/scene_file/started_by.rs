//! `host: { started-by: ..., subuid: ..., subgid: ... }`: whose engine it is.

use mivask_core::fact::Fact;
use mivask_core::namespace::{SubordinateIds, subordinate};

use super::convert::Reading;
use super::types::HostSection;
use crate::diagnostic::Severity;
use crate::yaml::{Node, RawText};

impl Reading<'_> {
    /// Who starts the engines, whose ids a daemon gives its containers, and those that the users of the host may give.
    pub(super) fn started_by(
        &mut self,
        section: &HostSection,
        node: &Node,
    ) -> (Option<Fact<String>>, Option<Fact<String>>, SubordinateIds) {
        let word = |key: &str, word: Option<&RawText>| {
            let span = &node.get(key).unwrap_or(node).span;
            word.map(|word| Fact::new(word.0.clone(), self.source.place(span, &format!("host.{key}"))))
        };
        let started_by = word("started-by", section.started_by.as_ref());
        let remapped_to = word("remapped-to", section.remapped_to.as_ref());
        let given = [
            ("started-by", started_by.is_some()),
            ("remapped-to", remapped_to.is_some()),
            ("user-namespace", section.user_namespace.is_some()),
        ];
        let mut given = given.iter().filter(|(_, given)| *given).map(|(key, _)| *key);
        if let (Some(first), Some(second)) = (given.next(), given.next()) {
            let span = &node.get(first).unwrap_or(node).span;
            let message = format!("`{first}` and `{second}` of the host exclude one another");
            let help = "an engine of root's has `user-namespace` or `remapped-to`, one of somebody else the ids of that user";
            self.diagnostics.add(Severity::Error, self.source, span, message, Some(help.to_owned()));
        }
        let mut ids = |key: &str, given: Option<&str>| {
            let (_, text) = self.account_text("the host", key, Some(given?), node)??;
            Some(subordinate(&text))
        };
        let uids = ids("subuid", section.subuid.as_deref());
        let gids = ids("subgid", section.subgid.as_deref());
        (started_by, remapped_to, SubordinateIds { uids, gids })
    }
}
