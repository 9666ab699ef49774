//! What is read of any bytes can be kept.

use mivask_disk::live::Options;
use mivask_disk::{source, survey};

/// Reads a source; what was read can be recorded, and the record says the same.
pub fn read(bytes: &[u8]) {
    let options = Options { sizes: true, ..Options::default() };
    let Ok(gathered) = source::read("fuzzed", &mut &bytes[..], &options) else { return };
    let mut recorded = Vec::new();
    survey::write(&mut recorded, &gathered.tree, "fuzzed", gathered.holes).expect("memory takes it");
    let again = survey::read(&mut &recorded[..], "again", None).expect("what is written is read");
    assert_eq!(again.tree.len(), gathered.tree.len());
}
