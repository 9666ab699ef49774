//! JUnit XML, one suite an input.

use std::io::{self, Write};

use mivask_core::expect::Standing;
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};

use crate::upheld::{Run, at, place, sentences};

/// Every expectation as a test case.
///
/// # Errors
/// Whatever `out` refuses.
pub fn junit(out: &mut dyn Write, run: &Run) -> io::Result<()> {
    let mut report = Report::new("mivask uphold");
    for input in &run.inputs {
        let mut suite = TestSuite::new(input.input.as_str());
        if let Some(why) = &input.unusable {
            let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
            status.set_type("unusable").set_message(why.as_str());
            let mut case = TestCase::new("the input can be used", status);
            case.set_classname(input.input.as_str());
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
                    status.set_type(one.standing.word()).set_message(first.as_str());
                    status.set_description(format!("{}\n{}", at(&one.expected.from), lines.join("\n")));
                }
                (_, _) => {}
            }
            let mut case = TestCase::new(one.expected.text.as_str(), status);
            case.set_classname(input.input.as_str()).set_assertions(one.checked);
            if let Some(place) = place(&one.expected.from) {
                case.extra.insert("file".into(), place.file.into());
                case.extra.insert("line".into(), place.line.to_string().into());
            }
            suite.add_test_case(case);
        }
        report.add_test_suite(suite);
    }
    report.serialize(out).map_err(io::Error::other)
}
