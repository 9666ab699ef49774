//! Compose files that extend, include and merge one another, with variables.

#![no_main]

mod described;

use described::{Files, ask};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|parts: (&[u8], &[u8], &[u8])| {
    let (first, second, environment) = parts;
    let begin = b"include: [second.yaml]\nservices:\n";
    let whole = [&begin[..], first].concat();
    let files = [("first.yaml", whole), ("second.yaml", second.to_vec()), (".env", environment.to_vec())];
    ask("first.yaml", &Files(files.into()));
});
