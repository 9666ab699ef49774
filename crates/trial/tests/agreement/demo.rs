//! The demo's acts, on the kernel.

use crate::support::{agree, stage};

#[test]
fn every_act_of_the_demo_agrees() {
    let stage = stage("../../demo/tides.scene.yaml");
    let acts = include_str!("../../../../demo/station.acts");
    let sentences = acts.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let count = sentences.map(|sentence| agree(&stage, "demo", sentence)).count();
    assert!(count >= 10, "{count}");
}
