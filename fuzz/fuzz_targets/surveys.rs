//! Surveys with right checksums around wrong columns: what is damaged is inside.

#![no_main]

use arbitrary::Arbitrary;
use libfuzzer_sys::fuzz_target;
use mivask_core::fact::Provenance;
use mivask_core::tree::{Entry, Tree};
use mivask_disk::gathered::Holes;
use mivask_disk::survey;

/// A tree, and bytes of its record that are changed.
#[derive(Arbitrary, Debug)]
struct Record {
    entries: Vec<(u8, u8, u32, u32, u16)>,
    damage: Vec<(u16, u8)>,
}

fuzz_target!(|record: Record| {
    let mut tree = Tree::new(Entry::directory(0, 0, 0o755), Provenance::rule("fuzzed"));
    let mut directories = vec![Tree::ROOT];
    for (number, (above, kind, uid, gid, mode)) in record.entries.iter().take(200).enumerate() {
        let above = directories[usize::from(*above) % directories.len()];
        let name = format!("n{number}");
        let entry = if kind % 3 == 0 {
            Entry::directory(*uid, *gid, mode & 0o7777)
        } else {
            Entry::file(*uid, *gid, mode & 0o7777)
        };
        let Ok(id) = tree.add(above, name.as_bytes(), entry) else { continue };
        if kind % 3 == 0 {
            directories.push(id);
        }
    }
    let mut bytes = Vec::new();
    survey::write(&mut bytes, &tree, "fuzzed", Holes::default()).expect("memory takes it");
    let whole = survey::read(&mut &bytes[..], "whole", None).expect("what is written is read");
    assert_eq!(whole.tree.len(), tree.len());
    for (at, value) in &record.damage {
        let at = usize::from(*at) % bytes.len();
        bytes[at] = *value;
    }
    let _ = survey::read(&mut &bytes[..], "damaged", None);
});
