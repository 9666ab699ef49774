//! Build files: `FROM`, `ARG`, `ENV`, `USER`, `WORKDIR`, `VOLUME`, `COPY`, `ADD` and the plain commands of `RUN`.

mod context;
mod shell;
mod stage;
mod texts;
mod variables;

pub(crate) use shell::words;

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::Path;

use mivask_core::listed::listed;
use mivask_core::recipe::{Base, BuildStage, Recipe};
use parse_dockerfile::{Instruction, parse};

use crate::diagnostic::{Diagnostics, Severity};
use crate::files::FileReader;
use crate::text::SourceText;
use context::Context;
use stage::Reader;
use variables::{LONGEST_VALUE, MOST_BYTES, Variables};

/// What a description says about a build.
#[derive(Debug, Default)]
pub(crate) struct Options {
    /// Values of build arguments.
    pub args: BTreeMap<String, String>,
    /// The stage that becomes the image; the last one where none is named.
    pub target: Option<String>,
}

/// `text` with `""` for the empty list of an `ENTRYPOINT` or a `CMD`, which the parser does not take; every byte stays where it is.
fn without_empty_lists(text: &str) -> String {
    let line = |line: &str| {
        let list = line.find('[').map(|at| (&line[..at], &line[at..]));
        let Some((before, list)) = list else { return line.to_owned() };
        let keyword = before.trim();
        let starts = keyword.eq_ignore_ascii_case("ENTRYPOINT") || keyword.eq_ignore_ascii_case("CMD");
        let inside = list.trim_end().strip_prefix('[').and_then(|list| list.strip_suffix(']'));
        if starts && inside.is_some_and(|inside| inside.trim().is_empty()) {
            return format!("{before}{}", list.replace(['[', ']'], "\""));
        }
        line.to_owned()
    };
    text.split_inclusive('\n').map(line).collect()
}

/// `text` as the parser takes it, with every byte where it is.
pub(crate) fn masked(text: &str) -> String {
    texts::without_input(&without_empty_lists(text))
}

/// Reads the build file `source`, whose context is `folder`.
///
/// `None` where it cannot be used; `diagnostics` says why.
pub(crate) fn read(
    source: &SourceText,
    folder: &Path,
    options: &Options,
    files: &dyn FileReader,
    diagnostics: &mut Diagnostics,
) -> Option<Recipe> {
    let text = masked(&source.text);
    let parsed = match parse(&text) {
        Ok(parsed) => parsed,
        Err(error) => {
            let at = byte_of(source, error.line(), error.column());
            let message = error.to_string();
            let message = message.split(" at line").next().unwrap_or(&message).to_owned();
            diagnostics.add(Severity::Error, source, &at, message, None);
            return None;
        }
    };
    let escape = parsed.parser_directives.escape.as_ref().map_or('\\', |escape| escape.value.value);
    let context = Context::new(files, folder);
    let mut global = Variables::default();
    let mut stages: Vec<(String, BuildStage, Variables)> = Vec::new();
    let mut names: Vec<String> = Vec::new();
    let mut target = None;
    for instruction in &parsed.instructions {
        match instruction {
            Instruction::From(from) => {
                let name = global.replaced(&from.image.value, escape);
                let alias = from.as_.as_ref().map(|(_, name)| name.value.to_string());
                let (base, inherited) = base_of(&name, &stages, &global);
                let alias = alias.unwrap_or_default().to_lowercase();
                if options.target.as_ref().is_some_and(|wanted| wanted.to_lowercase() == alias) {
                    target = Some(stages.len());
                }
                let from = source.place(&from.image.span, "FROM");
                names.push(alias.clone());
                stages.push((alias, BuildStage { base, steps: Vec::new(), from }, inherited));
            }
            Instruction::Arg(arg) if stages.is_empty() => {
                global.set_args(&arg.arguments.value, escape, &options.args, None);
            }
            other @ (Instruction::Add(_) | _) => {
                let Some((_, stage, variables)) = stages.last_mut() else { continue };
                let args = &options.args;
                let global = &global;
                let reader = &mut Reader {
                    source,
                    escape,
                    context: &context,
                    args,
                    global,
                    names: &names,
                    diagnostics,
                };
                reader.instruction(other, stage, variables);
            }
        }
    }
    let all = stages.iter().map(|(_, _, variables)| variables).chain([&global]);
    if let Some(message) = grown(all, &global) {
        diagnostics.add(Severity::Error, source, &(0..0), message, None);
        return None;
    }
    warn_of_unset(global.unset, &stages, source, diagnostics);
    finish(stages, target, options, source, diagnostics)
}

/// What is wrong where variables grow without bound.
fn grown<'a>(mut all: impl Iterator<Item = &'a Variables>, global: &Variables) -> Option<String> {
    if let Some(name) = all.find_map(|one| one.long.as_ref()) {
        return Some(format!("the value of `{name}` is longer than {LONGEST_VALUE} bytes"));
    }
    global.is_spent().then(|| format!("its variables make more than {MOST_BYTES} bytes of text"))
}

fn warn_of_unset(
    mut unset: Vec<String>,
    stages: &[(String, BuildStage, Variables)],
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) {
    unset.extend(stages.iter().flat_map(|(_, _, variables)| variables.unset.iter().cloned()));
    unset.sort();
    unset.dedup();
    if !unset.is_empty() {
        let message = format!("no value for {}: each counts as empty", unset.join(", "));
        let help = "give it under `build: { args: ... }`; what a base image sets is not known".to_owned();
        diagnostics.add(Severity::Warning, source, &(0..0), message, Some(help));
    }
}

/// The recipe up to the stage that was asked for.
fn finish(
    stages: Vec<(String, BuildStage, Variables)>,
    target: Option<usize>,
    options: &Options,
    source: &SourceText,
    diagnostics: &mut Diagnostics,
) -> Option<Recipe> {
    let number = options.target.as_ref().and_then(|text| text.parse().ok());
    let target = target.or(number.filter(|number| *number < stages.len()));
    let count = match (&options.target, target) {
        (_, Some(target)) => target + 1,
        (None, None) => stages.len(),
        (Some(name), None) => {
            let names: Vec<&str> = stages.iter().map(|(name, ..)| name.as_str()).collect();
            let help = Some(format!("it has {}", listed(&names)));
            let message = format!("there is no build stage `{}`", name.escape_debug());
            diagnostics.add(Severity::Error, source, &(0..0), message, help);
            return None;
        }
    };
    let stages = stages.into_iter().take(count).map(|(_, stage, _)| stage).collect();
    Some(Recipe { stages, file: None })
}

/// What a name in `FROM` means, with the environment that comes with it.
fn base_of(name: &str, stages: &[(String, BuildStage, Variables)], global: &Variables) -> (Base, Variables) {
    let lower = name.to_lowercase();
    let earlier = stages.iter().rposition(|(alias, ..)| *alias == lower && !alias.is_empty());
    match earlier {
        Some(number) => (Base::Stage(number), stages[number].2.inherited()),
        None if name == "scratch" => (Base::Scratch, global.fresh()),
        None => (Base::Image(name.to_owned()), global.fresh()),
    }
}

/// The character at a line and column, both from 1.
fn byte_of(source: &SourceText, line: usize, column: usize) -> Range<usize> {
    let starts = source.text.match_indices('\n').map(|(at, _)| at + 1);
    let start = std::iter::once(0).chain(starts).nth(line.saturating_sub(1)).unwrap_or(0);
    let at = start + column.saturating_sub(1);
    let at = within(&(at..at), source).start;
    at..at + source.text[at..].chars().next().map_or(0, char::len_utf8)
}

/// A span that the parser gives, within the text: it counts bytes, and places of an inline text are only near.
fn within(span: &Range<usize>, source: &SourceText) -> Range<usize> {
    let bound = |at: usize| {
        let at = at.min(source.text.len());
        (0..=at).rev().find(|at| source.text.is_char_boundary(*at)).unwrap_or(0)
    };
    bound(span.start)..bound(span.end).max(bound(span.start))
}
