//! The lines of a rehearsal, from arguments and files.

use std::io::Write;
use std::ops::Range;
use std::path::{Path, PathBuf};

use mivask_core::change::{Sentence, parse_sentence};
use mivask_core::prepare::HOST;
use mivask_core::rehearse::{Rehearsal, RehearsalError, RehearsalStep};
use mivask_core::stage::Stage;
use mivask_read::diagnostic::{Diagnostics, Severity};
use mivask_read::input::{FileReader, Origin};
use mivask_read::text::SourceText;

use super::{Args, is_file};
use crate::acts::{known_name, mistake, numbered};
use crate::diagnostics;
use crate::end::Failure;
use crate::inputs::Files;
use crate::load::Whole;
use crate::plain;

/// What was given, before it is read as sentences.
pub(super) struct Script(Vec<SourceText>);

/// One line with its place.
pub(super) struct Line {
    source: SourceText,
    span: Range<usize>,
    sentence: Sentence,
}

impl Script {
    /// Arguments and files in the order they were given; files of `--acts` come last.
    pub(super) fn read(args: &Args) -> Result<Self, Failure> {
        let standard = |path: &Path| path == Path::new("-");
        let mut all = Vec::new();
        let mut number = 0;
        let mut paths: Vec<PathBuf> = Vec::new();
        for text in &args.acts {
            if is_file(text) {
                paths.push(text.into());
            } else {
                number += 1;
                let text = plain::spoken(&args.input, &args.who.actor, std::slice::from_ref(text)).concat();
                all.push(SourceText::new(&format!("act {number}"), &text));
            }
        }
        for path in paths.iter().chain(&args.file) {
            if standard(path) && standard(&args.input.input) {
                return Err(Failure::StandardInputTwice);
            }
            let origin = Origin::of(path);
            let bytes = match &origin {
                Origin::Standard => Files::default().standard_input(),
                Origin::File(path) => Files::default().read(path),
            };
            let bytes = bytes.map_err(|error| Failure::File { path: path.clone(), error })?;
            all.push(SourceText::new(&origin.name(), &String::from_utf8_lossy(&bytes)));
        }
        if all.is_empty() && !args.interactive {
            return Err(Failure::NoAct);
        }
        Ok(Self(all))
    }

    /// The same with numbers in place of the names of accounts that the scene gives.
    pub(super) fn numbered(self, whole: &Whole) -> Self {
        let names = whole.names();
        Self(self.0.into_iter().map(|source| numbered(source, &names)).collect())
    }

    /// Every line.
    pub(super) fn texts(&self) -> Vec<String> {
        self.0.iter().flat_map(|source| source.text.lines().map(ToOwned::to_owned)).collect()
    }

    /// Every sentence, or every mistake.
    pub(super) fn sentences(self, stage: &Stage, err: &mut dyn Write) -> Result<Vec<Line>, Failure> {
        let mut lines = Vec::new();
        let mut diagnostics = Diagnostics::default();
        for source in &self.0 {
            let mut start = 0;
            for text in source.text.split_inclusive('\n') {
                let content = text.trim_end();
                let indent = content.len() - content.trim_start().len();
                let span = start + indent..start + content.len();
                start += text.len();
                if matches!(content.trim_start().chars().next(), None | Some('#')) {
                    continue;
                }
                match parse_sentence(content) {
                    Ok(sentence) => {
                        known(&sentence, (source, &span), stage, &mut diagnostics);
                        lines.push(Line { source: source.clone(), span, sentence });
                    }
                    Err(mut error) => {
                        let line = span.start - indent;
                        error.span = error.span.start + line..error.span.end + line;
                        mistake(&error, source, &mut diagnostics);
                    }
                }
            }
        }
        diagnostics::settle(&diagnostics, err)?;
        Ok(lines)
    }
}

/// An actor that is not there is pointed at.
fn known(
    sentence: &Sentence,
    (source, span): (&SourceText, &Range<usize>),
    stage: &Stage,
    diagnostics: &mut Diagnostics,
) {
    let name = match sentence {
        Sentence::Act(act) => act.actor.clone(),
        Sentence::Change(change) => {
            let changes = mivask_core::change::Changes::new(vec![change.clone()]);
            match changes.actors().next() {
                Some((_, name)) => name.to_owned(),
                None => return,
            }
        }
    };
    known_name(&name, source, span, stage, diagnostics);
}

impl Line {
    /// The next step of the rehearsal.
    pub(super) fn rehearse<'r>(
        &self,
        rehearsal: &'r mut Rehearsal,
        err: &mut dyn Write,
    ) -> Result<&'r RehearsalStep, Failure> {
        let before = rehearsal.steps().len();
        if let Err(error) = rehearsal.next(&self.sentence) {
            let mut diagnostics = Diagnostics::default();
            let help = match &error {
                RehearsalError::Actor(_) => Some(format!("`{HOST}` is root on the host")),
                RehearsalError::Change(_) | RehearsalError::Pattern { .. } => None,
            };
            diagnostics.add(Severity::Error, &self.source, &self.span, error.to_string(), help);
            diagnostics::settle(&diagnostics, err)?;
        }
        rehearsal.steps().get(before).ok_or(Failure::NoAct)
    }
}
