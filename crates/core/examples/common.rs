//! A volume and two who mount it, for the other examples. By itself it says who they are.

#![expect(clippy::print_stdout, reason = "an example talks to whoever runs it")]

use mivask_core::fact::{Fact, Provenance};
use mivask_core::prepare;
use mivask_core::scene::{Container, Scene, VolumeFacts, VolumeMount, Workload};
use mivask_core::tree::{Entry, Tree, TreeError};

/// `gauge` writes readings, `press` reads them; a key that is root's is beside.
pub(crate) fn scene() -> Result<Scene, TreeError> {
    let from = Provenance::rule("this example");
    let mut tree = Tree::new(Entry::directory(0, 7300, 0o2775), from.clone());
    tree.add(Tree::ROOT, b"level.csv", Entry::file(7101, 7300, 0o644))?;
    let keys = tree.add(Tree::ROOT, b"keys", Entry::directory(0, 0, 0o700))?;
    tree.add(keys, b"id", Entry::file(0, 0, 0o600))?;

    let mount = |at: &str| {
        let volume = Fact::new("readings".to_owned(), from.clone());
        VolumeMount::new(volume, Fact::new(at.as_bytes().to_vec(), from.clone()))
    };
    let mut gauge = Container::plain("gauge", "7101:7300", from.clone());
    gauge.mounts.push(mount("/data"));
    let mut press = Container::plain("press", "7102:7102", from.clone());
    press.mounts.push(VolumeMount { read_only: true, ..mount("/in") });

    let mut scene = Scene::default();
    scene.volumes.insert("readings".to_owned(), VolumeFacts::native("ext4", tree, from.clone()));
    scene.workloads.push(Workload::plain("station", vec![gauge, press], from).into());
    Ok(scene)
}

#[allow(dead_code, reason = "it is the example's own, where the file is not a part of another")]
fn main() -> Result<(), Box<dyn std::error::Error>> {
    for actor in prepare::stage(&scene()?).actors.iter() {
        println!("{}", actor.name);
        for fact in actor.facts() {
            println!("  {:<6} {:<24} {}", fact.field.word(), fact.value, fact.from);
        }
    }
    Ok(())
}
