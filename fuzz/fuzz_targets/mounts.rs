//! Tables of mounts of any bytes: lines, or one that is wrong.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_disk::mounts;

fuzz_target!(|bytes: &[u8]| {
    match mounts::read("fuzzed", &mut &bytes[..]) {
        Ok(lines) => {
            assert!(lines.iter().all(|line| line.at.starts_with(b"/") && line.line > 0));
            let count = lines.len();
            assert!(mounts::visible(lines).len() <= count);
        }
        Err(error) => assert!(!error.to_string().is_empty()),
    }
});
