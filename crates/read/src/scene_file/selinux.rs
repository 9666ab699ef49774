//! SELinux on the host of a scene: its policy, read and set as it is there.

use std::path::Path;
use std::sync::Arc;

use mivask_core::labels::{Labels, StoredLabels};
use mivask_core::scene::{Selinux, SelinuxMode};
use mivask_label::Policy;

use super::convert::Reading;
use super::selinux_section::{PolicySection, SelinuxSection, SelinuxWord};
use super::types::VolumeSection;
use crate::diagnostic::Severity;
use crate::labels;
use crate::nearest::nearest;
use crate::policies::{self, PolicyProblem};
use crate::yaml::Node;

impl Reading<'_> {
    /// What is said of SELinux; `node` is the host's section.
    pub(super) fn selinux(&mut self, section: Option<&SelinuxSection>, node: &Node) -> Option<Selinux> {
        let node = node.get("selinux")?;
        let from = self.source.place(&node.span, "host.selinux");
        match section? {
            SelinuxSection::Mode(word) => {
                let mode = match word {
                    SelinuxWord::Live => {
                        return match policies::selinux_here(self.files, Path::new(policies::KERNEL), from) {
                            Ok(here) => Some(here),
                            Err(problem) => {
                                self.unusable(problem, node);
                                None
                            }
                        };
                    }
                    SelinuxWord::Disabled => SelinuxMode::Disabled,
                    SelinuxWord::Permissive => SelinuxMode::Permissive,
                    SelinuxWord::Enforcing => SelinuxMode::Enforcing,
                };
                Some(Selinux { mode, policy: None, from })
            }
            SelinuxSection::Policy(section) => {
                let policy = self.policy(section, node)?;
                let enforcing = section.enforcing.unwrap_or(true);
                let mode = if enforcing { SelinuxMode::Enforcing } else { SelinuxMode::Permissive };
                Some(Selinux { mode, policy: Some(Arc::new(policy)), from })
            }
        }
    }

    fn unusable(&mut self, problem: PolicyProblem, at: &Node) {
        let help = problem.help.map(ToOwned::to_owned);
        self.diagnostics.add(Severity::Error, self.source, &at.span, problem.message, help);
    }

    fn policy(&mut self, section: &PolicySection, node: &Node) -> Option<Policy> {
        let at = node.get("policy").unwrap_or(node);
        let mut policy = match policies::policy(self.files, &self.folder.join(&section.policy)) {
            Ok(policy) => policy,
            Err(problem) => {
                self.unusable(problem, at);
                return None;
            }
        };
        for (name, on) in &section.booleans {
            if policy.set_boolean(name, *on) {
                continue;
            }
            let at = node.get("booleans").unwrap_or(node);
            let span = &at.entry(name).map_or(at, |(key, _)| key).span;
            let message = format!("the policy has no boolean `{}`", name.escape_debug());
            let meant = nearest(name, policy.booleans().map(|(name, _)| name));
            let help = meant.map(|meant| format!("did you mean `{meant}`?"));
            self.diagnostics.add(Severity::Error, self.source, span, message, help);
        }
        Some(policy)
    }

    /// The labels of a volume as a whole.
    pub(super) fn labels(section: &VolumeSection) -> Labels {
        let labels = labels::of_options(&section.options);
        match &labels {
            Labels::Stored(beside) => {
                let rest = section.label.as_deref().map(Into::into);
                Labels::Stored(StoredLabels { rest, ..beside.clone() })
            }
            Labels::Mounted(_) | Labels::Container | Labels::Open | Labels::ByPath => labels,
        }
    }
}
