//! Archives of any bytes, packed or not: a tree that can be recorded, or an error. Memory stays bounded.

#![no_main]

mod kept;

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| kept::read(bytes));
