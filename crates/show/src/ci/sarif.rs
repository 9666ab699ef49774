//! SARIF 2.1.0, for those who keep findings beside code.

use std::io::{self, Write};

use mivask_core::expect::{Standing, Upheld};
use mivask_core::fact::Provenance;
use serde_sarif::sarif::{
    ArtifactLocation, Location, Message, MultiformatMessageString, PhysicalLocation, Region,
    ReportingDescriptor, Result as Finding, ResultLevel, Run as SarifRun, Sarif, Tool, ToolComponent,
};

use crate::upheld::{Checked, Run, place, sentences};

/// The rules, with what each means.
const RULES: [(&str, &str); 4] = [
    ("broken", "An expectation does not hold."),
    ("depends", "Whether an expectation holds hangs on a fact that nobody told."),
    ("meets-nothing", "An expectation speaks of no actor or path that is there."),
    ("unusable", "An input cannot be used."),
];

/// Every expectation that does not hold as a result at its line, with the facts that break it as related locations.
///
/// # Errors
/// Whatever `out` refuses.
pub fn sarif(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let rules = RULES.map(|(id, text)| {
        let text = MultiformatMessageString::builder().text(text).build();
        ReportingDescriptor::builder().id(id).short_description(text).build()
    });
    let driver = ToolComponent::builder()
        .name("Mivask")
        .version(env!("CARGO_PKG_VERSION"))
        .rules(Vec::from(rules))
        .build();
    let results: Vec<Finding> = run.inputs.iter().flat_map(|input| findings(input, run)).collect();
    let run = SarifRun::builder().tool(Tool::builder().driver(driver).build()).results(results).build();
    let sarif = Sarif::builder()
        .version(serde_json::json!("2.1.0"))
        .schema("https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json")
        .runs(vec![run])
        .build();
    serde_json::to_writer_pretty(&mut *out, &sarif)?;
    writeln!(out)
}

fn findings(input: &Checked, run: &Run) -> Vec<Finding> {
    let mut all = Vec::new();
    if let Some(why) = &input.unusable {
        let place = location(&input.input, (1, 1), None);
        all.push(finding("unusable", ResultLevel::Error, why.clone(), vec![place], Vec::new()));
    }
    for one in &input.held {
        let level = match (one.is_held(run.accept), one.standing) {
            (false, _) => ResultLevel::Error,
            (true, Standing::Depends) => ResultLevel::Warning,
            (true, Standing::MeetsNothing) => ResultLevel::Note,
            (true, Standing::Holds | Standing::Broken) => continue,
        };
        let mut text = vec![format!("{} in {}: {}", one.standing.word(), input.input, one.expected.text)];
        text.extend(sentences(one));
        let at = at(&one.expected.from, None).into_iter().collect();
        all.push(finding(one.standing.word(), level, text.join("\n"), at, related(one)));
    }
    all
}

fn finding(
    rule: &str,
    level: ResultLevel,
    text: String,
    at: Vec<Location>,
    related: Vec<Location>,
) -> Finding {
    Finding::builder()
        .rule_id(rule)
        .level(level)
        .message(Message::builder().text(text).build())
        .locations(at)
        .related_locations(related)
        .build()
}

fn related(held: &Upheld) -> Vec<Location> {
    held.against.iter().filter_map(|against| at(&against.from, Some(against.fact.clone()))).collect()
}

fn at(from: &Provenance, text: Option<String>) -> Option<Location> {
    place(from).map(|place| location(place.file, (place.line, place.column), text))
}

fn location(file: &str, (line, column): (usize, usize), text: Option<String>) -> Location {
    let number = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
    let region = Region::builder().start_line(number(line)).start_column(number(column)).build();
    let physical = PhysicalLocation::builder()
        .artifact_location(ArtifactLocation::builder().uri(uri(file)).build())
        .region(region)
        .build();
    let mut location = Location::builder().physical_location(physical).build();
    location.message = text.map(|text| Message::builder().text(text).build());
    location
}

/// A file's name as a relative reference: what has a meaning in one is percent-encoded (RFC 3986, section 3.3).
fn uri(file: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/!$&'()*+,;=@".contains(&byte);
    let encoded = |byte: u8| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") };
    file.bytes().map(encoded).collect()
}
