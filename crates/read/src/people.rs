//! Somebody and some files, without a description: accounts, or ids, before a folder of this machine or a listing.

use std::sync::Arc;

use mivask_core::accounts::Accounts;
use mivask_core::fact::{Fact, Provenance};
use mivask_core::identity::{ImageFacts, Knowledge, PodSecurity};
use mivask_core::prepare::HOST;
use mivask_core::runtime::Flavour;
use mivask_core::scene::{Container, Image, Scene, Who, Workload};
use mivask_core::stage::Role;
use mivask_core::storage::Settings;
use mivask_core::tree::Tree;
use mivask_disk::process::Process;

use crate::process;

/// What the accounts of this machine are called.
const MACHINE: &str = "this machine";

/// `people`, each an account or `UID[:GID]`, where `process` is: with its mounts, and with identities of their own.
#[must_use]
pub fn beside(process: Process, settings: Settings, accounts: Accounts, people: &[String]) -> Scene {
    let mut scene = process::scene(process, settings);
    let from = Provenance::rule("who is asked about");
    let identity =
        ImageFacts { user: Knowledge::Known(None), accounts: Knowledge::Known(accounts), covered: false };
    scene.images.insert(MACHINE.to_owned(), Image { identity, ..Image::default() });
    for workload in &mut scene.workloads {
        let workload = Arc::make_mut(workload);
        workload.name = MACHINE.to_owned();
        let Some(own) = workload.containers.pop() else { continue };
        let person = |name: &String| {
            let mut who = Container::plain(name, name, from.clone()).who;
            if let Who::Plain(plain) = &mut who {
                // Root is everything there, and nobody else anything.
                plain.privileged = Some(Fact::new(true, from.clone()));
            }
            Container {
                name: name.clone(),
                role: Role::Person,
                who,
                image: Some(Fact::new(MACHINE.to_owned(), from.clone())),
                from: from.clone(),
                ..own.clone()
            }
        };
        workload.containers = people.iter().map(person).collect();
    }
    scene
}

/// `people` before the files of `tree`, of which nothing else is known.
#[must_use]
pub fn before(tree: Arc<Tree>, people: &[String]) -> Scene {
    let from = Provenance::rule("who is asked about");
    let person = |name: &String| Container { on_host: true, ..Container::plain(name, name, from.clone()) };
    let workload = host_workload(people.iter().map(person).collect(), from.clone());
    let mut scene = Scene::default();
    scene.host.tree = Some(tree);
    scene.workloads.push(Arc::new(workload));
    scene
}

/// Those who act on the host's own tree, as one workload.
pub(crate) fn host_workload(containers: Vec<Container>, from: Provenance) -> Workload {
    Workload {
        name: HOST.to_owned(),
        kind: "host".to_owned(),
        flavour: Flavour::Scene,
        namespace: String::new(),
        own_users: None,
        security: PodSecurity::default(),
        volumes: Vec::new(),
        containers,
        service_account_token: None,
        from,
    }
}
