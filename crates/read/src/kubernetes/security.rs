//! Security contexts, with the line of every field.

use mivask_core::fact::Fact;
use mivask_core::identity::{ContainerSecurity, DeclaredCapabilities, PodSecurity};

use super::Origin;
use super::api::{PodSecurityContext, SecurityContext};
use crate::diagnostic::{Diagnostics, Severity};

/// Largest id the API accepts.
const LARGEST_ID: i64 = 2_147_483_647;

/// The pod's context; `origin` is at it.
pub(super) fn pod(
    context: &PodSecurityContext,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> PodSecurity {
    let mut reader = Reader { origin, diagnostics };
    let groups = context.supplemental_groups.iter().enumerate();
    PodSecurity {
        run_as_user: reader.id("runAsUser", context.run_as_user),
        run_as_group: reader.id("runAsGroup", context.run_as_group),
        run_as_non_root: reader.flag("runAsNonRoot", context.run_as_non_root),
        supplemental_groups: groups
            .filter_map(|(index, group)| reader.element("supplementalGroups", index, *group))
            .collect(),
        strict_groups: reader.word(
            "supplementalGroupsPolicy",
            context.supplemental_groups_policy.as_deref(),
            ["Merge", "Strict"],
        ),
        fs_group: reader.id("fsGroup", context.fs_group),
        on_root_mismatch: reader.word(
            "fsGroupChangePolicy",
            context.fs_group_change_policy.as_deref(),
            ["Always", "OnRootMismatch"],
        ),
        labels_recursively: reader.word(
            "seLinuxChangePolicy",
            context.se_linux_change_policy.as_deref(),
            ["MountOption", "Recursive"],
        ),
    }
}

/// A container's context; `origin` is at it.
pub(super) fn container(
    context: &SecurityContext,
    origin: &Origin<'_>,
    diagnostics: &mut Diagnostics,
) -> ContainerSecurity {
    let declared = context.capabilities.clone().unwrap_or_default();
    let names = |list: &str, names: Vec<String>| {
        let lists = origin.at(&format!("capabilities.{list}"));
        let field = format!("securityContext.capabilities.{list}");
        let facts = names.into_iter().enumerate();
        facts.map(|(index, name)| lists.item(index).fact("", &field, name)).collect::<Vec<Fact<String>>>()
    };
    let capabilities =
        DeclaredCapabilities { add: names("add", declared.add), drop: names("drop", declared.drop) };
    let mut reader = Reader { origin, diagnostics };
    ContainerSecurity {
        run_as_user: reader.id("runAsUser", context.run_as_user),
        run_as_group: reader.id("runAsGroup", context.run_as_group),
        run_as_non_root: reader.flag("runAsNonRoot", context.run_as_non_root),
        capabilities,
        privileged: reader.flag("privileged", context.privileged),
        allow_privilege_escalation: reader
            .flag("allowPrivilegeEscalation", context.allow_privilege_escalation),
        read_only_root: reader.flag("readOnlyRootFilesystem", context.read_only_root_filesystem),
        umask: None,
    }
}

struct Reader<'a, 'o> {
    origin: &'a Origin<'o>,
    diagnostics: &'a mut Diagnostics,
}

impl Reader<'_, '_> {
    fn id(&mut self, key: &str, value: Option<i64>) -> Option<Fact<u32>> {
        let id = self.in_range(key, value?)?;
        self.octal(&self.origin.at(key), id);
        Some(self.origin.fact(key, &format!("securityContext.{key}"), id))
    }

    fn element(&mut self, key: &str, index: usize, value: i64) -> Option<Fact<u32>> {
        let id = self.in_range(key, value)?;
        self.octal(&self.origin.at(key).item(index), id);
        Some(self.origin.at(key).item(index).fact("", &format!("securityContext.{key}"), id))
    }

    fn in_range(&mut self, key: &str, value: i64) -> Option<u32> {
        let id = if value <= LARGEST_ID { u32::try_from(value).ok() } else { None };
        if id.is_none() {
            let message = format!("{value} is not an id: the API takes 0 to {LARGEST_ID}");
            self.origin.diagnostic(Severity::Error, key, message, None, self.diagnostics);
        }
        id
    }

    /// YAML reads a number that begins with 0 as octal, and ids are rarely meant so.
    fn octal(&mut self, at: &Origin<'_>, id: u32) {
        let written = at.node.text().unwrap_or_default();
        let digits =
            written.strip_prefix('0').filter(|digits| digits.parse::<u32>().is_ok_and(|meant| meant != id));
        if let Some(digits) = digits {
            let message = format!("{written} is an octal number here: the id is {id}");
            let help = format!("write {} if you mean that, or {id}", digits.trim_start_matches('0'));
            at.diagnostic(Severity::Warning, "", message, Some(help), self.diagnostics);
        }
    }

    fn flag(&mut self, key: &str, value: Option<bool>) -> Option<Fact<bool>> {
        value.map(|value| self.origin.fact(key, &format!("securityContext.{key}"), value))
    }

    /// One of two words; the second is true.
    fn word(&mut self, key: &str, value: Option<&str>, words: [&str; 2]) -> Option<Fact<bool>> {
        let value = value?;
        if !words.contains(&value) {
            let message = format!("`{value}` is refused by the API");
            let help = format!("write {} or {}; letter case counts", words[0], words[1]);
            self.origin.diagnostic(Severity::Error, key, message, Some(help), self.diagnostics);
        }
        Some(self.origin.fact(key, &format!("securityContext.{key}"), value == words[1]))
    }
}
