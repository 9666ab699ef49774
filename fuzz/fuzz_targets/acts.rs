//! The act parser takes any text: it gives an act that reads back the same, or a mistake with a place in the text.

#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_core::act::{parse_act, parse_acts};

fuzz_target!(|text: &str| {
    match parse_act(text) {
        Ok(act) => {
            let again = parse_act(&act.to_string()).expect("what is printed is read");
            assert_eq!((again.actor, again.verb, again.path), (act.actor, act.verb, act.path));
        }
        Err(error) => {
            assert!(error.span.start <= error.span.end && error.span.end <= text.len(), "{error:?}");
            assert!(text.is_char_boundary(error.span.start) && text.is_char_boundary(error.span.end), "{error:?}");
        }
    }
    match parse_acts(text) {
        Ok(acts) => assert!(acts.iter().all(|(_, span)| span.end <= text.len())),
        Err(errors) => assert!(errors.iter().all(|error| error.span.end <= text.len())),
    }
});
