//! The smallest change that lets a denied act succeed, and what else it opens.

#![expect(clippy::print_stdout, reason = "an example talks to whoever runs it")]

mod common;

use mivask_core::act::parse_act;
use mivask_core::change::Changes;
use mivask_core::remedy::{Situation, remedies};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let scene = common::scene()?;
    let act = parse_act("gauge reads /data/keys/id")?;
    let found = remedies(&Situation::new(&scene, &Changes::new(Vec::new())), &act)?;
    println!("{act}: {}", found.answer.outcome.word());
    for remedy in &found.remedies {
        let changes: Vec<String> = remedy.steps.iter().map(|step| step.change.to_string()).collect();
        println!("  {}  (opens {} more)", changes.join("; "), remedy.opens());
    }
    Ok(())
}
