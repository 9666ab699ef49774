//! A change written into a description of any bytes: the patched text reads, or the patch says why there is none.

#![no_main]

mod described;

use std::path::Path;

use described::Files;
use libfuzzer_sys::fuzz_target;
use mivask_core::change::parse_change;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{Origin, read_input};
use mivask_read::patch::patched;

fuzz_target!(|parts: (u8, &str)| {
    let (number, text) = parts;
    let files = Files([("input", text.as_bytes().to_vec())].into());
    let mut diagnostics = Diagnostics::default();
    let read = read_input(&Origin::of(Path::new("input")), &files, &mut diagnostics);
    let Some(scene) = read.ok().filter(|_| !diagnostics.has_errors()) else { return };
    for workload in scene.workloads.iter().take(4) {
        let Some(name) = workload.containers.first().map(|container| &container.name) else { continue };
        let sentence = match number % 5 {
            0 => format!("{name} becomes 7102:7200"),
            1 => format!("{name} umask 0002"),
            2 => format!("{name} adds CHOWN"),
            3 => format!("{name} joins 7300"),
            _ => format!("{name} filesystem-group 7400"),
        };
        let Ok(change) = parse_change(&sentence) else { continue };
        if let Ok(new) = patched(text, workload, &change) {
            let files = Files([("input", new.into_bytes())].into());
            let mut diagnostics = Diagnostics::default();
            let _ = read_input(&Origin::of(Path::new("input")), &files, &mut diagnostics);
            assert!(!diagnostics.has_errors(), "{sentence}: {:?}", diagnostics.iter().next().map(|one| &one.message));
        }
    }
});
