//! Expectations, as a file of lines or as parts of another text.

use std::ops::Range;

use mivask_core::act::ActError;
use mivask_core::expect::{Claim, Expected, parse_expectation_line, parse_expectation_lines};
use mivask_core::names::with_any_number;

use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;

/// What a file of expectations says; `diagnostics` mentions every mistake.
pub fn read_expectations(source: &SourceText, diagnostics: &mut Diagnostics) -> Vec<Expected> {
    // Lines are read with numbers in place of names, and looked up once it is known whose names they are.
    let lines: String = source.text.split_inclusive('\n').map(with_any_number).collect();
    match parse_expectation_lines(&source.text).or_else(|errors| {
        parse_expectation_lines(&lines).map_err(|_| errors).map(|claims| in_place(claims, &source.text))
    }) {
        Ok(claims) => claims.into_iter().map(|(claim, span)| expected(claim, source, &span)).collect(),
        Err(errors) => {
            for error in errors {
                mistake(&error, &error.span, source, diagnostics);
            }
            Vec::new()
        }
    }
}

/// What one line says that is at `span` of `source`, perhaps in quotes; `text` is the line without them.
pub(crate) fn read_line(
    text: &str,
    span: &Range<usize>,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) -> Option<Expected> {
    match parse_expectation_line(text)
        .or_else(|error| parse_expectation_line(&with_any_number(text)).map_err(|_| error))
    {
        Ok(claim) => {
            let from = source.place(span, "expect");
            let unnamed = parse_expectation_line(text).is_err();
            Some(Expected { claim, text: uncommented(text), from, unnamed })
        }
        Err(error) => {
            // Where the line appears unchanged, its mistake is pointed at; else the whole of it.
            let exact = source.text.get(span.clone()) == Some(text);
            let within = span.start + error.span.start..span.start + error.span.end;
            mistake(&error, if exact { &within } else { span }, source, diagnostics);
            None
        }
    }
}

fn expected(claim: Claim, source: &SourceText, span: &Range<usize>) -> Expected {
    let text = uncommented(source.text.get(span.clone()).unwrap_or_default());
    let unnamed = parse_expectation_line(&text).is_err();
    Expected { claim, text, from: source.place(span, "expectation"), unnamed }
}

/// The claims with the places that their lines have in `text`, which has names where they have numbers.
fn in_place(claims: Vec<(Claim, Range<usize>)>, text: &str) -> Vec<(Claim, Range<usize>)> {
    let mut start = 0;
    let mut spans = Vec::new();
    for line in text.split_inclusive('\n') {
        let content = line.trim_end();
        let indent = content.len() - content.trim_start().len();
        if !content.is_empty() && !content[indent..].starts_with('#') {
            spans.push(start + indent..start + content.len());
        }
        start += line.len();
    }
    claims.into_iter().zip(spans).map(|((claim, _), span)| (claim, span)).collect()
}

fn mistake(error: &ActError, span: &Range<usize>, source: &SourceText, diagnostics: &mut Diagnostics) {
    diagnostics.add(Severity::Error, source, span, error.to_string(), Some(crate::help::help(&error.kind)));
}

/// The line without a comment at its end and without runs of blanks, as it is shown.
fn uncommented(line: &str) -> String {
    let mut quoted = false;
    let mut before = ' ';
    let mut shown = String::new();
    for c in line.trim().chars() {
        match c {
            '#' if !quoted && before == ' ' => break,
            '"' if before != '\\' => quoted = !quoted,
            _ => {}
        }
        let c = if c.is_whitespace() && !quoted { ' ' } else { c };
        if quoted || c != ' ' || before != ' ' {
            shown.push(c);
        }
        before = c;
    }
    shown.trim_end().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_shown_without_comment_and_filling() {
        assert_eq!(uncommented("gauge  reads /x     -> allowed # why"), "gauge reads /x -> allowed");
        assert_eq!(uncommented("a reads \"/a  #b\" # c"), "a reads \"/a  #b\"");
        assert_eq!(uncommented("a reads /x#y"), "a reads /x#y");
    }

    #[test]
    fn a_file_tells_all_its_mistakes() {
        let source = SourceText::new("x.acts", "a reads /x\n\n# so\nb wrotes /y\n  only c\n");
        let mut diagnostics = Diagnostics::default();
        assert!(read_expectations(&source, &mut diagnostics).is_empty());
        let places: Vec<_> =
            diagnostics.iter().map(|diagnostic| source.line_column(diagnostic.span.start)).collect();
        assert_eq!(places, [(4, 3), (5, 9)]);
    }
}
