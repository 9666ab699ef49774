//! JUnit XML, one suite an input.

use std::io::{self, Write};

use mivask_core::expect::{Standing, Upheld};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesEnd, BytesStart, BytesText, Event};

use crate::safe::safe;
use crate::upheld::{Checked, Run, at, place, rests_on, sentences};

/// Every expectation as a test case.
///
/// # Errors
/// Whatever `out` refuses.
pub fn junit(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let suites: Vec<(String, Vec<Case>)> =
        run.inputs.iter().map(|input| (xml(&input.input), cases(input, run))).collect();
    let mut writer = Writer::new_with_indent(out, b' ', 4);
    writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let count = Counts::of(suites.iter().flat_map(|(_, cases)| cases));
    let mut all = BytesStart::new("testsuites");
    all.push_attribute(("name", "mivask uphold"));
    count.write(&mut all, ["tests", "skipped", "failures", "errors"]);
    writer.write_event(Event::Start(all))?;
    for (name, cases) in &suites {
        let mut suite = BytesStart::new("testsuite");
        suite.push_attribute(("name", name.as_str()));
        Counts::of(cases.iter()).write(&mut suite, ["tests", "skipped", "errors", "failures"]);
        element(&mut writer, suite, !cases.is_empty(), |writer| {
            cases.iter().try_for_each(|case| case.write(writer))
        })?;
    }
    writer.write_event(Event::End(BytesEnd::new("testsuites")))?;
    writer.write_indent()
}

type Out<'a> = Writer<&'a mut dyn Write>;

/// `start` with what `inside` writes; an empty element where there is nothing to write.
fn element(
    writer: &mut Out<'_>,
    start: BytesStart<'static>,
    filled: bool,
    inside: impl FnOnce(&mut Out<'_>) -> io::Result<()>,
) -> io::Result<()> {
    if !filled {
        return writer.write_event(Event::Empty(start));
    }
    let end = start.to_end().into_owned();
    writer.write_event(Event::Start(start))?;
    inside(writer)?;
    writer.write_event(Event::End(end))
}

/// How many cases ended in which way.
#[derive(Default)]
struct Counts {
    tests: usize,
    skipped: usize,
    failures: usize,
    errors: usize,
}

impl Counts {
    fn of<'c>(cases: impl Iterator<Item = &'c Case>) -> Self {
        cases.fold(Self::default(), |mut counts, case| {
            counts.tests += 1;
            match case.mark.as_ref().map(|mark| mark.tag) {
                Some("skipped") => counts.skipped += 1,
                Some("failure") => counts.failures += 1,
                Some("error") => counts.errors += 1,
                Some(_) | None => {}
            }
            counts
        })
    }

    fn write(&self, start: &mut BytesStart<'_>, order: [&str; 4]) {
        for name in order {
            let count = match name {
                "tests" => self.tests,
                "skipped" => self.skipped,
                "failures" => self.failures,
                _ => self.errors,
            };
            start.push_attribute((name, count.to_string().as_str()));
        }
    }
}

/// One `testcase`.
struct Case {
    /// Its attributes, in order.
    attributes: Vec<(&'static str, String)>,
    /// How it ended; `None` where it passed.
    mark: Option<Mark>,
    /// What it rests on, where it passed.
    notes: Vec<String>,
}

/// The element within a case that did not simply pass.
struct Mark {
    tag: &'static str,
    attributes: Vec<(&'static str, String)>,
    text: Option<String>,
}

impl Case {
    fn write(&self, writer: &mut Out<'_>) -> io::Result<()> {
        let start = start("testcase", &self.attributes);
        element(writer, start, self.mark.is_some() || !self.notes.is_empty(), |writer| {
            self.mark.iter().try_for_each(|mark| mark.write(writer))?;
            if self.notes.is_empty() {
                return Ok(());
            }
            element(writer, BytesStart::new("system-out"), true, |writer| {
                writer.write_event(Event::Text(BytesText::new(&self.notes.join("\n"))))
            })
        })
    }
}

impl Mark {
    fn write(&self, writer: &mut Out<'_>) -> io::Result<()> {
        element(writer, start(self.tag, &self.attributes), self.text.is_some(), |writer| {
            let text = self.text.as_deref().unwrap_or_default();
            writer.write_event(Event::Text(BytesText::new(text)))
        })
    }
}

fn start(tag: &'static str, attributes: &[(&'static str, String)]) -> BytesStart<'static> {
    let mut start = BytesStart::new(tag);
    start.extend_attributes(attributes.iter().map(|(name, value)| (*name, value.as_str())));
    start
}

fn cases(input: &Checked, run: &Run) -> Vec<Case> {
    let unusable = input.unusable.iter().map(|why| Case {
        attributes: vec![("name", "the input can be used".to_owned()), ("classname", xml(&input.input))],
        mark: Some(Mark {
            tag: "error",
            attributes: vec![("message", xml(why)), ("type", "unusable".to_owned())],
            text: None,
        }),
        notes: Vec::new(),
    });
    unusable.chain(input.held.iter().map(|one| case(one, input, run))).collect()
}

fn case(one: &Upheld, input: &Checked, run: &Run) -> Case {
    let mut attributes = vec![
        ("name", xml(&one.expected.text)),
        ("classname", xml(&input.input)),
        ("assertions", one.checked.to_string()),
    ];
    if let Some(place) = place(&one.expected.from) {
        attributes.extend([("file", xml(place.file)), ("line", place.line.to_string())]);
    }
    let mark = match (one.standing, one.is_held(run.accept)) {
        (Standing::MeetsNothing, _) => {
            let message = vec![("message", "meets no actor or path".to_owned())];
            Some(Mark { tag: "skipped", attributes: message, text: None })
        }
        (Standing::Holds | Standing::Broken | Standing::Depends, true) => None,
        (Standing::Holds | Standing::Broken | Standing::Depends, false) => Some(failure(one)),
    };
    let passed = mark.is_none();
    let notes = if passed { rests_on(one).iter().map(|note| xml(note)).collect() } else { Vec::new() };
    Case { attributes, mark, notes }
}

fn failure(one: &Upheld) -> Mark {
    let lines: Vec<String> = sentences(one).iter().map(|line| xml(line)).collect();
    let Some(first) = lines.first() else {
        return Mark { tag: "failure", attributes: Vec::new(), text: None };
    };
    Mark {
        tag: "failure",
        attributes: vec![("message", first.clone()), ("type", one.standing.word().to_owned())],
        text: Some(format!("{}\n{}", xml(&at(&one.expected.from)), lines.join("\n"))),
    }
}

/// Text without control characters, and without the two that XML does not allow (XML 1.0, section 2.2).
fn xml(text: &str) -> String {
    safe(text).replace('\u{fffe}', "\\u{fffe}").replace('\u{ffff}', "\\u{ffff}")
}
