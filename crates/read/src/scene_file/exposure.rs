//! What a scene says about what is open: limits, and findings that are meant.

use mivask_core::exposure::{Accepted, Kind, Limit};
use mivask_core::fact::Fact;

use super::convert::Reading;
use super::types::AcceptSection;
use crate::diagnostic::Severity;
use crate::yaml::Node;

impl Reading<'_> {
    /// The limits under `at-most`.
    pub(super) fn limits(&mut self, given: &[String], node: &Node) -> Vec<Fact<Limit>> {
        let items = node.get("at-most").map(Node::items).unwrap_or_default();
        let mut all = Vec::new();
        for (text, at) in given.iter().zip(items) {
            match text.parse() {
                Ok(limit) => all.push(Fact::new(limit, self.source.place(&at.span, "at-most"))),
                Err(error) => {
                    let error: mivask_core::exposure::LimitError = error;
                    let help = Some("such as `/keys/id at-most 0600 owned-by 7101`".to_owned());
                    let message = format!("`{}` is not a limit", error.0);
                    self.diagnostics.add(Severity::Error, self.source, &at.span, message, help);
                }
            }
        }
        all
    }

    /// The findings under `accept`.
    pub(super) fn accepted(&mut self, given: &[AcceptSection], node: &Node) -> Vec<Accepted> {
        let items = node.get("accept").map(Node::items).unwrap_or_default();
        let mut all = Vec::new();
        for (section, at) in given.iter().zip(items) {
            let span = &at.get("finding").unwrap_or(at).span;
            let Some(kind) = Kind::by_word(&section.finding) else {
                let words: Vec<&str> = Kind::ALL.map(Kind::word).into();
                let message = format!("`{}` is not a finding", section.finding);
                let near = crate::nearest::nearest(&section.finding, words.iter().copied());
                let help = near.map_or_else(
                    || format!("the findings are {}", words.join(", ")),
                    |word| format!("did you mean `{word}`?"),
                );
                self.diagnostics.add(Severity::Error, self.source, span, message, Some(help));
                continue;
            };
            if section.reason.trim().is_empty() {
                let message = "a finding is accepted without a reason".to_owned();
                let help = Some("say why it is intended, for whoever reads this next".to_owned());
                self.diagnostics.add(Severity::Error, self.source, span, message, help);
            }
            all.push(Accepted {
                kind,
                path: section.path.clone(),
                reason: section.reason.clone(),
                from: self.source.place(&at.span, "accept"),
            });
        }
        all
    }
}
