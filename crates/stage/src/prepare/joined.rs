//! Containers that join others: `/dev/shm`, message queues and the files of a network that are not their own.

use std::collections::BTreeMap;
use std::sync::Arc;

use mivask_model::fact::{Fact, Provenance, Unknown};
use mivask_model::mount::{Preparation, Source, SourceFacts};
use mivask_model::mount_kind::MountKind;
use mivask_model::refusal::{Refusal, RefusalClass};
use mivask_model::tree::Tree;

use super::context::Context;
use super::host_path;
use super::prepared::Prepared;
use crate::scene::{Container, HostPathCheck, Ipc};
use crate::stage::Stage;

/// Whose IPC namespace may be joined, of the containers so far.
#[derive(Debug, Default)]
pub(super) struct Lenders(BTreeMap<String, bool>);

impl Lenders {
    /// Whether this container came before.
    pub(super) fn has(&self, name: &str) -> bool {
        self.0.contains_key(name)
    }

    /// Looks at the next container: why it cannot join the one it asks for.
    pub(super) fn next(&mut self, context: &Context<'_>, container: &Container) -> Option<Refusal> {
        let (lends, asked) = match &container.ipc {
            Ipc::Default => (context.profile.joins.ipc_by_default, None),
            Ipc::Shareable | Ipc::Host(_) | Ipc::Elsewhere(_) => (true, None),
            Ipc::None => (context.profile.joins.ipc_by_default, None),
            Ipc::Private => (false, None),
            Ipc::Of(lender) => (true, Some(lender)),
        };
        self.0.insert(container.name.clone(), lends);
        let lender = asked.filter(|lender| self.0.get(&lender.value) == Some(&false))?;
        let name = lender.value.escape_debug();
        Some(Refusal {
            class: RefusalClass::StartRefused,
            reason: format!(
                "it joins the IPC namespace of {name}, which is not shareable (`ipc: shareable` there)"
            ),
            from: lender.from.clone(),
            whole_pod: false,
        })
    }
}

/// The host's own `/dev/shm` or `/dev/mqueue`.
pub(super) fn of_host(stage: &mut Stage, context: &Context<'_>, (at, from): (&str, &Provenance)) -> Prepared {
    let wanted = host_path::Wanted {
        path: at.as_bytes(),
        check: HostPathCheck::Directory,
        kind: &MountKind::Bind,
        from,
        creator: context.creator,
        waits: false,
    };
    host_path::prepare(stage, context, &wanted)
}

/// What a container has there of which nothing is described.
pub(super) fn elsewhere(stage: &mut Stage, (at, lender): (&str, &Fact<String>)) -> Prepared {
    let name = format!("{at} of container {}", lender.value.escape_debug());
    let missing =
        Unknown::new(&format!("what is in {name}"), "describe that container in the same Compose file");
    let tree = Arc::new(Tree::unknown(&missing));
    let source = stage.add_source(Source::new(tree, SourceFacts::local(name)));
    Prepared::single(source, MountKind::Tmpfs, Preparation::default())
}
