//! The language of changes takes any text, and what it reads prints as what reads the same.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_core::change::{parse_change, parse_sentence};

fuzz_target!(|text: &str| {
    match parse_change(text) {
        Ok(change) => {
            let again = change.to_string();
            assert_eq!(parse_change(&again).map(|change| change.to_string()).as_deref(), Ok(again.as_str()), "{text:?}");
        }
        Err(error) => {
            assert!(error.span.start <= error.span.end && error.span.end <= text.len(), "{error:?}");
            assert!(text.is_char_boundary(error.span.start) && text.is_char_boundary(error.span.end), "{error:?}");
        }
    }
    let _ = parse_sentence(text);
});
