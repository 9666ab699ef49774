//! The output of getfacl, ls, find and stat, of any bytes: a tree, or a line that is wrong.

#![no_main]

mod kept;

use libfuzzer_sys::fuzz_target;

const BEGINNINGS: [&[u8]; 5] =
    [b"# file: a\n", b"total 0\n", b"755 0 0 d a\n", b"755 0 0 directory a\n", b"  File: a\n"];

fuzz_target!(|bytes: &[u8]| {
    if let Some((first, rest)) = bytes.split_first() {
        kept::read(&[BEGINNINGS[usize::from(*first) % BEGINNINGS.len()], rest].concat());
    }
});
