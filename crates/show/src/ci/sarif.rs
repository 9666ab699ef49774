//! SARIF 2.1.0, for those who keep findings beside code.

use std::io::{self, Write};

use mivask_core::expect::{Standing, Upheld};
use mivask_core::fact::Provenance;
use serde_json::{Value, json};

use crate::upheld::{Checked, Run, place, rests_on, sentences};

/// The rules, with what each means.
const RULES: [(&str, &str); 5] = [
    ("broken", "An expectation does not hold."),
    ("depends", "Whether an expectation holds depends on a missing fact."),
    ("holds", "An expectation holds, by what is taken for granted or because nothing is there."),
    ("meets-nothing", "An expectation speaks of no actor or path that is there."),
    ("unusable", "An input cannot be used."),
];

/// Every expectation that does not hold as a result at its line, with the facts that break it as related locations; one
/// that holds on something taken for granted as a note.
///
/// # Errors
/// Whatever `out` refuses.
pub fn sarif(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let rules = RULES.map(|(id, text)| json!({ "id": id, "shortDescription": { "text": text } }));
    let driver = json!({ "name": "Mivask", "version": env!("CARGO_PKG_VERSION"), "rules": rules });
    let results: Vec<Value> = run.inputs.iter().flat_map(|input| findings(input, run)).collect();
    let sarif = json!({
        "$schema":
            "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{ "tool": { "driver": driver }, "results": results }],
    });
    mivask_disk::json::pretty(out, &sarif)?;
    writeln!(out)
}

fn findings(input: &Checked, run: &Run) -> Vec<Value> {
    let mut all = Vec::new();
    if let Some(why) = &input.unusable {
        let place = location(&input.input, (1, 1), None);
        all.push(finding("unusable", "error", why.clone(), vec![place], Vec::new()));
    }
    for one in &input.held {
        let level = match (one.is_held(run.accept), one.standing) {
            (false, _) => "error",
            (true, Standing::Depends) => "warning",
            (true, Standing::MeetsNothing) => "note",
            (true, Standing::Holds) if !rests_on(one).is_empty() => "note",
            (true, Standing::Holds | Standing::Broken) => continue,
        };
        let mut text = vec![format!("{} in {}: {}", one.standing.word(), input.input, one.expected.text)];
        text.extend(sentences(one));
        let at = at(&one.expected.from, None).into_iter().collect();
        all.push(finding(one.standing.word(), level, text.join("\n"), at, related(one)));
    }
    all
}

/// One `result`.
fn finding(rule: &str, level: &str, text: String, at: Vec<Value>, related: Vec<Value>) -> Value {
    json!({
        "ruleId": rule,
        "level": level,
        "message": { "text": text },
        "locations": at,
        "relatedLocations": related,
    })
}

fn related(held: &Upheld) -> Vec<Value> {
    held.against.iter().filter_map(|against| at(&against.from, Some(&against.fact))).collect()
}

fn at(from: &Provenance, text: Option<&str>) -> Option<Value> {
    place(from).map(|place| location(place.file, (place.line, place.column), text))
}

/// One `location`; lines and columns count from 1.
fn location(file: &str, (line, column): (usize, usize), text: Option<&str>) -> Value {
    let mut location = json!({
        "physicalLocation": {
            "artifactLocation": { "uri": uri(file) },
            "region": { "startLine": line, "startColumn": column },
        },
    });
    if let Some(text) = text {
        location["message"] = json!({ "text": text });
    }
    location
}

/// A file's name as a relative reference: what has a meaning in one is percent-encoded (RFC 3986, section 3.3).
fn uri(file: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/!$&'()*+,;=@".contains(&byte);
    let encoded = |byte: u8| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") };
    file.bytes().map(encoded).collect()
}
