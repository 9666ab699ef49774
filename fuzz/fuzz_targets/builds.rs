//! Build files of any bytes, carried out.

#![no_main]

mod described;

use described::{Files, ask};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let project = b"services: { c: { build: . } }\n".to_vec();
    ask("project", &Files([("project", project), ("Dockerfile", bytes.to_vec())].into()));
});
