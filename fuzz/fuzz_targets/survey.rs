//! Surveys of any bytes, and whole surveys with a changed payload: a tree, or an error. Checksums are made to fit, so
//! that what is behind them is reached.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_disk::survey;

fuzz_target!(|bytes: &[u8]| {
    let _ = survey::read(&mut &bytes[..], "fuzzed", Some(bytes.len() as u64));
    let framed = survey::framed(bytes);
    if let Ok(gathered) = survey::read(&mut &framed[..], "framed", Some(framed.len() as u64)) {
        let mut recorded = Vec::new();
        survey::write(&mut recorded, &gathered.tree, "fuzzed", gathered.holes).expect("memory takes it");
        survey::read(&mut &recorded[..], "again", None).expect("what is written is read");
    }
});
