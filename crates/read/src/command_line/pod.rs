//! `--pod`: what the pod gives a container that is put into it (podman-run(1)).

use mivask_core::runtime::Runtime;
use mivask_core::unmodelled::Unmodelled;

use super::options::Meaning;
use super::run::{Given, Reading, Run};
use crate::diagnostic::Severity;

impl Reading<'_> {
    /// The pod that a command line names: its options come first, and its user namespace is the container's.
    pub(super) fn pod_of(&mut self, given: &[Given<'_>], run: &mut Run) {
        let Some(one) = given.iter().rev().find(|one| one.meaning == Meaning::Pod) else { return };
        let Some(value) = one.value.clone() else { return };
        let own = |name: &str| ["userns", "uidmap", "gidmap", "subuidname", "subgidname"].contains(&name);
        if let Some(beside) = given.iter().find(|one| own(&one.name)) {
            let message = format!(
                "`--{}` and `--pod` exclude one another: the pod has the user namespace",
                beside.name
            );
            let at = beside.at.clone();
            self.say(Severity::Error, &at, &message, Some("give it to `podman pod create`".to_owned()));
        }
        // One that is made with it has nothing of its own to give.
        if let Some(name) = value.text.strip_prefix("new:").filter(|_| value.unknown.is_none()) {
            run.pod = Some(name.to_owned());
            return;
        }
        let Some(words) = self.pods.get(&value.text).filter(|_| value.unknown.is_none()).cloned() else {
            let settle = "read the script that makes the pod, or its .pod file";
            let message = "the pod is not made here: who the process is depends on its user namespace";
            self.say(Severity::Warning, &value, message, Some(settle.to_owned()));
            let from = self.source.place(&value.span, "pod");
            let alone = format!("pod {} mounts nothing of its own", value.text.escape_debug());
            run.unmodelled.push(Unmodelled::ids("`--pod`", settle, from));
            run.assumes.push(alone);
            return;
        };
        let (of_pod, _) = self.options(Runtime::Podman, &words);
        for one in of_pod {
            self.take(one, run);
        }
        run.pod = Some(value.text);
    }
}
