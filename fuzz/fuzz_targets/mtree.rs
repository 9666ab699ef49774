//! mtree text of any bytes: a tree, or a line that is wrong.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_disk::live::Options;
use mivask_disk::{source, survey};

fuzz_target!(|bytes: &[u8]| {
    let bytes = [b"#mtree\n", bytes].concat();
    if let Ok(gathered) = source::read("fuzzed", &mut &bytes[..], &Options { sizes: true, ..Options::default() }) {
        // What was read can be recorded, and the record says the same.
        let mut recorded = Vec::new();
        survey::write(&mut recorded, &gathered.tree, "fuzzed", gathered.holes).expect("memory takes it");
        let again = survey::read(&mut &recorded[..], "again", None).expect("what is written is read");
        assert_eq!(again.tree.len(), gathered.tree.len());
        let ids = gathered.tree.ids().zip(again.tree.ids());
        assert!(ids.count() == again.tree.len());
    }
});
