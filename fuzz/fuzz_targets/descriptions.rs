//! Kubernetes objects, Compose files, OCI configurations and scenes of any bytes: recognised by what they are.

#![no_main]

mod described;

use described::{Files, ask};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    ask("input", &Files([("input", bytes.to_vec())].into()));
});
