//! An expectation over many actors and paths, held against a scene: exit status 1 when it does not hold.

#![expect(clippy::print_stdout, reason = "an example talks to whoever runs it")]

mod common;

use std::process::ExitCode;

use mivask_core::expect::{AcceptDepends, Expected, parse_expectation_line, uphold};
use mivask_core::fact::Provenance;
use mivask_core::glob::{Globs, Matcher, PatternError};
use mivask_core::prepare;

/// The core has no pattern language of its own; this one knows `PATH/**` and `*` alone.
#[derive(Debug)]
struct Below;

impl Globs for Below {
    fn matcher(&self, pattern: &[u8]) -> Result<Matcher, PatternError> {
        let prefix =
            pattern.strip_suffix(b"*").ok_or_else(|| PatternError::new("only * at the end is known here"))?;
        let prefix = prefix.strip_suffix(b"*").unwrap_or(prefix).to_vec();
        Ok(Box::new(move |text| text.starts_with(&prefix)))
    }
}

fn main() -> Result<ExitCode, Box<dyn std::error::Error>> {
    let stage = prepare::stage(&common::scene()?);
    let mut held = true;
    for line in
        ["only gauge writes /data/**", "gauge never reads /data/keys/**", "press never reads /in/level.csv"]
    {
        let claim = parse_expectation_line(line)?;
        let from = Provenance::rule("this example");
        let expected = Expected { claim, text: line.to_owned(), from, unnamed: false };
        let upheld = uphold(&stage, &expected, &Below)?;
        println!("{:<14} {line}", upheld.standing.word());
        for against in &upheld.against {
            println!("               {}: {}, because {}", against.asked, against.found, against.fact);
        }
        held &= upheld.is_held(AcceptDepends::No);
    }
    Ok(if held { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}
