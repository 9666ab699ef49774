//! The parser of expectations takes any text: it gives claims, or mistakes with places in the text.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_core::expect::{parse_expectation_line, parse_expectation_lines};

fuzz_target!(|text: &str| {
    if let Err(error) = parse_expectation_line(text) {
        assert!(error.span.start <= error.span.end && error.span.end <= text.len(), "{error:?}");
        assert!(text.is_char_boundary(error.span.start) && text.is_char_boundary(error.span.end), "{error:?}");
    }
    match parse_expectation_lines(text) {
        Ok(claims) => assert!(claims.iter().all(|(_, span)| span.end <= text.len())),
        Err(errors) => assert!(errors.iter().all(|error| error.span.end <= text.len())),
    }
});
