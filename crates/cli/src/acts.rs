//! Acts of the command line and of files, read with the names of the stage at hand.

use std::io::Write;
use std::path::PathBuf;

use mivask_core::act::{Act, ActError, Subject, parse_act, parse_acts};
use mivask_core::names::AccountNames;
use mivask_core::stage::Stage;
use mivask_read::diagnostic::{Diagnostics, Severity};
use mivask_read::text::SourceText;

use crate::diagnostics;
use crate::end::Failure;
use crate::load;
use crate::options::Input;

/// Every act of the command line and of files, or every mistake in them.
pub(crate) fn gather(
    input: &Input,
    sentences: &[String],
    files: &[PathBuf],
    (stage, names): (&Stage, &AccountNames),
    err: &mut dyn Write,
) -> Result<Vec<Act>, Failure> {
    let standard = std::path::Path::new("-");
    if input.input == standard && files.iter().any(|file| file == standard) {
        return Err(Failure::StandardInputTwice);
    }
    let mut acts = Vec::new();
    let mut diagnostics = Diagnostics::default();
    for (index, text) in sentences.iter().enumerate() {
        acts.extend(one(&names.numbered(text), index, stage, &mut diagnostics));
    }
    for path in files {
        let text = numbered(load::text(path)?, names);
        match parse_acts(&text.text) {
            Ok(read) => {
                for (act, span) in read {
                    known_actor(&act, &text, &span, stage, &mut diagnostics);
                    acts.push(act);
                }
            }
            Err(errors) => errors.iter().for_each(|error| mistake(error, &text, &mut diagnostics)),
        }
    }
    diagnostics::settle(&diagnostics, err)?;
    if acts.is_empty() { Err(Failure::NoAct) } else { Ok(acts) }
}

/// Lines with numbers in place of the names of accounts.
pub(crate) fn numbered(source: SourceText, names: &AccountNames) -> SourceText {
    let text: String = source.text.split_inclusive('\n').map(|line| names.numbered(line)).collect();
    if *text == *source.text { source } else { SourceText::new(&source.name, &text) }
}

/// The only act of a command that takes one.
pub(crate) fn only(text: &str, stage: &Stage, err: &mut dyn Write) -> Result<Act, Failure> {
    let mut diagnostics = Diagnostics::default();
    let act = one(text, 0, stage, &mut diagnostics);
    diagnostics::settle(&diagnostics, err)?;
    act.ok_or(Failure::NoAct)
}

/// The act of argument `index` (from 0).
pub(crate) fn one(text: &str, index: usize, stage: &Stage, diagnostics: &mut Diagnostics) -> Option<Act> {
    let source = SourceText::new(&format!("act {}", index + 1), text);
    match parse_act(text) {
        Ok(act) => {
            known_actor(&act, &source, &(0..text.len()), stage, diagnostics);
            Some(act)
        }
        Err(error) => {
            mistake(&error, &source, diagnostics);
            None
        }
    }
}

/// A mistake in a sentence of `source`.
pub(crate) fn mistake(error: &ActError, source: &SourceText, diagnostics: &mut Diagnostics) {
    diagnostics.add(
        Severity::Error,
        source,
        &error.span,
        error.to_string(),
        Some(mivask_read::help::help(&error.kind)),
    );
}

/// An actor that is not there is pointed at like any other mistake.
fn known_actor(
    act: &Act,
    source: &SourceText,
    span: &std::ops::Range<usize>,
    stage: &Stage,
    diagnostics: &mut Diagnostics,
) {
    known_name(&act.actor, source, span, stage, diagnostics);
}

/// The same for the name that a line begins with.
pub(crate) fn known_name(
    name: &str,
    source: &SourceText,
    span: &std::ops::Range<usize>,
    stage: &Stage,
    diagnostics: &mut Diagnostics,
) {
    if stage.actor(name).is_ok() {
        return;
    }
    let place = Subject::named(name).actor;
    let Err(error) = stage.actor_names().find(&place) else { return };
    let name = place.as_str();
    let names = stage.actor_names().names().iter().map(|name| &**name);
    let help = mivask_read::nearest::nearest(name, names);
    let help = help.map(|meant| format!("did you mean `{meant}`?"));
    let end = (span.start + name.len()).min(span.end);
    diagnostics.add(Severity::Error, source, &(span.start..end), error.to_string(), help);
}
