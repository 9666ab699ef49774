//! Workflow commands, which GitHub and those that follow it show beside the lines of a change.

use std::io::{self, Write};

use mivask_core::expect::Standing;

use crate::safe::safe;
use crate::upheld::{Place, Run, at as place_words, place, rests_on, sentences};

/// An error for each expectation that does not hold, a notice at each fact that breaks it, and a notice for each that holds
/// on something taken for granted.
///
/// # Errors
/// Whatever `out` refuses.
pub fn annotations(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    for input in &run.inputs {
        if let Some(why) = &input.unusable {
            let whole = Place { file: &input.input, line: 1, column: 1 };
            command(out, "error", Some(&whole), "unusable input", &safe(why))?;
        }
        for one in &input.held {
            let level = match (one.is_held(run.accept), one.standing) {
                (false, _) => "error",
                (true, Standing::Depends | Standing::MeetsNothing) => "warning",
                (true, Standing::Holds) if !rests_on(one).is_empty() => "notice",
                (true, Standing::Holds | Standing::Broken) => continue,
            };
            let expected = safe(&one.expected.text);
            let title = format!("{}: {expected}", one.standing.word().replace('-', " "));
            let mut text = sentences(one).join("\n");
            if text.is_empty() {
                text.push_str("no actor or path is what this speaks of");
            }
            command(out, level, place(&one.expected.from).as_ref(), &title, &text)?;
            for against in one.against.iter().filter(|against| !against.open) {
                if let Some(at) = place(&against.from) {
                    let text = format!("breaks `{expected}` ({})", safe(&place_words(&one.expected.from)));
                    command(
                        out,
                        "notice",
                        Some(&at),
                        &safe(&format!("{}: {}", against.asked, against.found)),
                        &text,
                    )?;
                }
            }
        }
    }
    Ok(())
}

fn command(
    out: &mut dyn Write,
    level: &str,
    at: Option<&Place<'_>>,
    title: &str,
    text: &str,
) -> io::Result<()> {
    let at = at.map_or_else(String::new, |at| {
        format!("file={},line={},col={},", property(&safe(at.file)), at.line, at.column)
    });
    writeln!(out, "::{level} {at}title={}::{}", property(title), data(text))
}

/// Line ends would end the command.
fn data(text: &str) -> String {
    text.replace('%', "%25").replace('\r', "%0D").replace('\n', "%0A")
}

fn property(text: &str) -> String {
    data(text).replace(':', "%3A").replace(',', "%2C")
}
