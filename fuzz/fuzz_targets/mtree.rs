//! mtree text of any bytes: a tree, or a line that is wrong.

#![no_main]

mod kept;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| kept::read(&[b"#mtree\n", bytes].concat()));
