//! TAP version 14 (the Test Anything Protocol).

use std::io::{self, Write};

use mivask_core::expect::Standing;

use crate::safe::safe;
use crate::upheld::{Run, at, rests_on, sentences};

/// Every expectation as a test point, with what speaks against it as its YAML block.
///
/// # Errors
/// Whatever `out` refuses.
pub fn tap(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let count: usize =
        run.inputs.iter().map(|input| input.held.len() + usize::from(input.unusable.is_some())).sum();
    writeln!(out, "TAP version 14\n1..{count}")?;
    let mut number = 0;
    for input in &run.inputs {
        let name = safe(&input.input);
        if let Some(why) = &input.unusable {
            number += 1;
            writeln!(out, "not ok {number} - {}", escaped(&format!("{name} can be used")))?;
            block(out, &[("why", vec![safe(why)])])?;
        }
        for one in &input.held {
            number += 1;
            let word = if one.is_held(run.accept) { "ok" } else { "not ok" };
            let skip =
                if one.standing == Standing::MeetsNothing { " # SKIP meets no actor or path" } else { "" };
            writeln!(
                out,
                "{word} {number} - {}{skip}",
                escaped(&format!("{name}: {}", safe(&one.expected.text)))
            )?;
            let mut fields = vec![
                ("standing", vec![one.standing.word().to_owned()]),
                ("at", vec![safe(&at(&one.expected.from))]),
            ];
            if !one.against.is_empty() {
                fields.push(("against", sentences(one)));
            } else if !rests_on(one).is_empty() {
                fields.push(("rests-on", rests_on(one)));
            }
            if fields.len() > 2 {
                block(out, &fields)?;
            }
        }
    }
    Ok(())
}

/// `#` begins a directive, and a backslash escapes.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('#', "\\#")
}

fn block(out: &mut dyn Write, fields: &[(&str, Vec<String>)]) -> io::Result<()> {
    writeln!(out, "  ---")?;
    for (name, values) in fields {
        // A JSON string is a YAML string.
        match values.as_slice() {
            [one] if !matches!(*name, "against" | "rests-on") => {
                writeln!(out, "  {name}: {}", mivask_disk::json::text(one)?)?
            }
            several => {
                writeln!(out, "  {name}:")?;
                for value in several {
                    writeln!(out, "    - {}", mivask_disk::json::text(value)?)?;
                }
            }
        }
    }
    writeln!(out, "  ...")
}
