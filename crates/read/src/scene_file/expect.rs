//! What a scene says is to hold.

use mivask_core::expect::Expected;

use super::convert::Reading;
use super::types::ExpectSection;
use crate::diagnostic::Severity;
use crate::expectations::{read_expectations, read_line};
use crate::text::SourceText;
use crate::yaml::Node;

impl Reading<'_> {
    /// The expectations under `expect`.
    pub(super) fn expectations(&mut self, given: Option<&ExpectSection>, node: &Node) -> Vec<Expected> {
        let (Some(given), Some(at)) = (given, node.get("expect")) else { return Vec::new() };
        match given {
            ExpectSection::Lines(lines) => {
                let items = lines.iter().zip(at.items());
                items
                    .filter_map(|(line, at)| read_line(line, &at.span, self.source, self.diagnostics))
                    .collect()
            }
            ExpectSection::Text(text) if text.trim_end().contains('\n') => {
                let mut all = Vec::new();
                // The lines are below each other in the source, each with the indentation of the block.
                let mut behind = at.span.start;
                for line in text.lines().map(str::trim) {
                    let start = self.source.text.get(behind..).and_then(|rest| rest.find(line));
                    let span =
                        start.map_or(at.span.clone(), |start| behind + start..behind + start + line.len());
                    behind = if start.is_some() { span.end } else { behind };
                    if !line.is_empty() && !line.starts_with('#') {
                        all.extend(read_line(line, &span, self.source, self.diagnostics));
                    }
                }
                all
            }
            ExpectSection::Text(path) => match self.read_file(path) {
                Ok((name, text)) => {
                    let text = text.trim_start_matches('\u{feff}');
                    read_expectations(&SourceText::new(&name, text), self.diagnostics)
                }
                Err(message) => {
                    let help = "name a file of expectations, or write them as a list".to_owned();
                    self.diagnostics.add(Severity::Error, self.source, &at.span, message, Some(help));
                    Vec::new()
                }
            },
        }
    }
}
