//! JUnit XML, one suite an input.

use std::io::{self, Write};

use mivask_core::expect::Standing;
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

use crate::safe::safe;
use crate::upheld::{Run, at, place, sentences};

/// Every expectation as a test case.
///
/// # Errors
/// Whatever `out` refuses.
pub fn junit(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let mut report = Report::new("mivask uphold");
    for input in &run.inputs {
        let mut suite = TestSuite::new(xml(&input.input));
        if let Some(why) = &input.unusable {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
            status.set_type("unusable").set_message(xml(why));
            let mut case = TestCase::new("the input can be used", status);
            case.set_classname(xml(&input.input));
            suite.add_test_case(case);
        }
        for one in &input.held {
            let mut status = match (one.is_held(run.accept), one.standing) {
                (_, Standing::MeetsNothing) => TestCaseStatus::skipped(),
                (true, _) => TestCaseStatus::success(),
                (false, _) => TestCaseStatus::non_success(NonSuccessKind::Failure),
            };
            let lines = sentences(one);
            match (one.standing, lines.first()) {
                (Standing::MeetsNothing, _) => {
                    status.set_message("meets no actor or path");
                }
                (_, Some(first)) if !one.is_held(run.accept) => {
                    status.set_type(one.standing.word()).set_message(xml(first));
                    let lines: Vec<String> = lines.iter().map(|line| xml(line)).collect();
                    status.set_description(format!("{}\n{}", xml(&at(&one.expected.from)), lines.join("\n")));
                }
                (_, _) => {}
            }
            let mut case = TestCase::new(xml(&one.expected.text), status);
            case.set_classname(xml(&input.input)).set_assertions(one.checked);
            if let Some(place) = place(&one.expected.from) {
                case.extra.insert("file".into(), xml(place.file).into());
                case.extra.insert("line".into(), place.line.to_string().into());
            }
            suite.add_test_case(case);
        }
        report.add_test_suite(suite);
    }
    report.serialize(out).map_err(io::Error::other)
}

/// Text without control characters, and without the two that XML does not allow (XML 1.0, section 2.2).
fn xml(text: &str) -> String {
    safe(text).replace('\u{fffe}', "\\u{fffe}").replace('\u{ffff}', "\\u{ffff}")
}
