//! The instructions of one stage.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use mivask_core::fact::Unknown;
use mivask_core::mode::Mode;
use mivask_core::recipe::{
    Base, BuildStage, BuildStep, Command, Copy, CopyFrom, CopySource, Instruction as Told,
};
use mivask_core::tree::Tree;
use parse_dockerfile::{Command as Form, Flag, Instruction, JsonOrStringArray, RunInstruction, Source};

use super::context::Context;
use super::shell::commands;
use super::variables::Variables;
use super::within;
use crate::diagnostic::{Diagnostics, Severity};
use crate::text::SourceText;

/// Characters of a command that are shown in answers.
const SHOWN: usize = 60;

/// Reads instructions.
pub(super) struct Reader<'a> {
    pub source: &'a SourceText,
    pub escape: char,
    pub context: &'a Context<'a>,
    pub args: &'a BTreeMap<String, String>,
    pub global: &'a Variables,
    /// Names of the stages so far.
    pub names: &'a [String],
    pub diagnostics: &'a mut Diagnostics,
}

impl Reader<'_> {
    /// Adds what `instruction` says to `stage`.
    pub(super) fn instruction(
        &mut self,
        instruction: &Instruction<'_>,
        stage: &mut BuildStage,
        variables: &mut Variables,
    ) {
        match instruction {
            Instruction::Arg(arg) => {
                variables.set_args(&arg.arguments.value, self.escape, self.args, Some(self.global));
            }
            Instruction::Env(env) => {
                if let Some(search) = variables.search(&env.arguments.value, self.escape) {
                    self.push(stage, Told::Search(search.into_bytes()), &env.arguments.span, "ENV");
                }
                variables.set_env(&env.arguments.value, self.escape);
            }
            Instruction::Entrypoint(given) => {
                let (word, span) = first_word(&given.arguments, variables);
                self.push(stage, Told::Entrypoint(word), &span, "ENTRYPOINT");
            }
            Instruction::Cmd(given) => {
                let (word, span) = first_word(&given.arguments, variables);
                self.push(stage, Told::Command(word), &span, "CMD");
            }
            Instruction::User(user) => {
                let name = variables.replaced(&user.arguments.value, self.escape).trim().to_owned();
                self.push(stage, Told::User(name), &user.arguments.span, "USER");
            }
            Instruction::Workdir(path) => {
                let to = variables.replaced(unquoted(&path.arguments.value), self.escape);
                self.push(stage, Told::WorkingDirectory(to.into_bytes()), &path.arguments.span, "WORKDIR");
            }
            Instruction::Volume(volume) => self.volumes(&volume.arguments, stage, variables),
            Instruction::Copy(copy) => {
                let parts = (&copy.options[..], &copy.src[..], &*copy.dest.value);
                let span = copy.copy.span.start..copy.dest.span.end;
                self.copy(parts, &span, false, stage, variables);
            }
            Instruction::Add(add) => {
                let parts = (&add.options[..], &add.src[..], &*add.dest.value);
                let span = add.add.span.start..add.dest.span.end;
                self.copy(parts, &span, true, stage, variables);
            }
            Instruction::Run(run) => self.run(run, stage, variables),
            Instruction::Shell(shell) => {
                let name =
                    shell.arguments.first().map(|word| word.value.rsplit('/').next().unwrap_or_default());
                variables.shell = shell.arguments.first().map(|word| word.value.to_string());
                variables.foreign_shell = !matches!(name, Some("sh" | "bash" | "ash" | "dash"));
            }
            // These say nothing about files, or only about images built on this one.
            Instruction::Expose(_)
            | Instruction::From(_)
            | Instruction::Healthcheck(_)
            | Instruction::Label(_)
            | Instruction::Maintainer(_)
            | Instruction::Onbuild(_)
            | Instruction::Stopsignal(_)
            | _ => {}
        }
    }

    fn volumes(&self, given: &JsonOrStringArray<'_, 1>, stage: &mut BuildStage, variables: &mut Variables) {
        let (texts, span) = match given {
            JsonOrStringArray::Json(list) => (&list.value[..], list.span.clone()),
            JsonOrStringArray::String(list) => {
                let start = list.first().map_or(0, |text| text.span.start);
                (&list[..], start..list.last().map_or(0, |text| text.span.end))
            }
        };
        let paths = texts.iter().map(|text| variables.replaced(&text.value, self.escape).into_bytes());
        self.push(stage, Told::Volumes(paths.collect()), &span, "VOLUME");
    }

    fn push(&self, stage: &mut BuildStage, instruction: Told, span: &Range<usize>, keyword: &str) {
        let span = within(span, self.source);
        let words = format!("{keyword} `{}`", shown(&self.source.text[span.clone()], self.escape));
        self.push_called(stage, instruction, &span, keyword, words);
    }

    fn push_called(
        &self,
        stage: &mut BuildStage,
        instruction: Told,
        span: &Range<usize>,
        field: &str,
        words: String,
    ) {
        let from = self.source.place(span, field);
        stage.steps.push(BuildStep { instruction, words: Arc::from(words), from });
    }

    fn run(&mut self, run: &RunInstruction<'_>, stage: &mut BuildStage, variables: &Variables) {
        let value = |name: &str| variables.value(name);
        match &run.arguments {
            Form::Exec(words) => {
                let first = words.value.first().map(|word| word.value.as_bytes());
                if let Some(program) = first.filter(|word| word.first() == Some(&b'/')) {
                    self.push(stage, Told::RunBegins(program.to_vec()), &words.span, "RUN");
                }
                let plain = words.value.iter().map(|word| word.value.to_string()).collect();
                self.push(stage, certain(Command::Plain(plain)), &words.span, "RUN");
            }
            Form::Shell(script) => {
                // A text that is given to a command is its input; one alone is the script.
                let document = run.here_docs.first().filter(|_| script.value.trim().is_empty());
                let start = document.map_or(script.span.start, |document| document.span.start);
                let text = document.map_or(script.value, |document| &document.value);
                let shell = variables.shell.as_deref().unwrap_or("/bin/sh");
                if shell.starts_with('/') {
                    self.push(stage, Told::RunBegins(shell.as_bytes().to_vec()), &script.span, "RUN");
                }
                if variables.foreign_shell {
                    let opaque = Command::Opaque { names: Vec::new() };
                    self.push(stage, certain(opaque), &script.span, "RUN");
                    return;
                }
                for piece in commands(text, self.escape, &value) {
                    let words = format!("RUN `{}`", shown(&text[piece.at.clone()], self.escape));
                    let at = within(&(start + piece.at.start..start + piece.at.end), self.source);
                    let given =
                        Told::Run { command: piece.command, begins: piece.begins, may_fail: piece.may_fail };
                    self.push_called(stage, given, &at, "RUN", words);
                }
            }
            _ => {}
        }
        self.push(stage, Told::RunEnds, &run.run.span, "RUN");
    }

    fn copy(
        &mut self,
        (options, sources, to): (&[Flag<'_>], &[Source<'_>], &str),
        span: &Range<usize>,
        add: bool,
        stage: &mut BuildStage,
        variables: &mut Variables,
    ) {
        let escape = self.escape;
        let option = |name: &str, variables: &mut Variables| {
            let flag = options.iter().find(|flag| flag.name.value == name)?;
            Some(variables.replaced(&flag.value.as_ref()?.value, escape))
        };
        let owner = option("chown", variables);
        let chmod = option("chmod", variables);
        let mode = chmod.as_ref().and_then(|text| self.mode(text, span));
        let unknown_mode = chmod.filter(|_| mode.is_none()).map(|text| {
            let fact = format!("the mode that --chmod={} gives", text.escape_debug());
            Unknown::new(&fact, "write up to four octal digits")
        });
        let from = option("from", variables);
        let paths: Vec<String> = sources
            .iter()
            .filter_map(|source| match source {
                Source::Path(path) => Some(variables.replaced(&path.value, escape)),
                Source::HereDoc(_) | _ => None,
            })
            .collect();
        let to = variables.replaced(to, escape).into_bytes();
        let (addresses, paths): (Vec<String>, Vec<String>) =
            paths.into_iter().partition(|path| add && path.contains("://"));
        let last = |text: &String| text.rsplit('/').next().unwrap_or_default().as_bytes().to_vec();
        let mut given: Vec<CopySource> = addresses.iter().map(|text| CopySource::Made(last(text))).collect();
        let documents = sources.iter().filter(|source| matches!(source, Source::HereDoc(_)));
        given.extend(documents.map(|_| CopySource::Made(Vec::new())));
        let from = match from {
            Some(name) => {
                given.extend(paths.into_iter().map(|path| CopySource::Path(path.into_bytes())));
                CopyFrom::Other(self.other(&name))
            }
            None => CopyFrom::Context(Arc::new(self.taken(&paths, span, add, &mut given))),
        };
        let copy = Copy { from, sources: given, to, owner, mode, unknown_mode };
        let keyword = if add { "ADD" } else { "COPY" };
        let words = format!("`{}`", shown(&self.source.text[within(span, self.source)], escape));
        self.push_called(stage, Told::Copy(Box::new(copy)), &within(span, self.source), keyword, words);
    }

    /// The files of the context that a copy takes, added to `given`.
    fn taken(
        &mut self,
        paths: &[String],
        span: &Range<usize>,
        add: bool,
        given: &mut Vec<CopySource>,
    ) -> Tree {
        match self.context.sources(paths) {
            Ok((sources, tree)) => {
                given.extend(sources.into_iter().map(|source| match &source {
                    CopySource::Path(path) if add && self.context.is_archive(path) => CopySource::Archive,
                    CopySource::Path(_) | CopySource::Made(_) | CopySource::Archive => source,
                }));
                tree
            }
            Err(path) => {
                let message = format!("`{}` is outside the build context", path.escape_debug());
                self.diagnostics.add(Severity::Error, self.source, &within(span, self.source), message, None);
                self.context.sources(&[]).map(|(_, tree)| tree).unwrap_or_else(|_| unreachable!("no path"))
            }
        }
    }

    fn mode(&mut self, text: &str, span: &Range<usize>) -> Option<Mode> {
        let mode = u16::from_str_radix(text, 8).ok().filter(|mode| *mode <= 0o7777).map(Mode::new);
        if mode.is_none() {
            let message =
                format!("--chmod `{}` is not modelled: the mode counts as unknown", text.escape_debug());
            let help = Some("write up to four octal digits".to_owned());
            self.diagnostics.add(Severity::Warning, self.source, &within(span, self.source), message, help);
        }
        mode
    }

    /// A stage by name or number, else an image.
    fn other(&self, name: &str) -> Base {
        let lower = name.to_lowercase();
        let by_name = self.names.iter().rposition(|known| *known == lower && !known.is_empty());
        let by_number = name.parse().ok().filter(|number| *number < self.names.len());
        match by_name.or(by_number) {
            Some(number) => Base::Stage(number),
            None => Base::Image(name.to_owned()),
        }
    }
}

/// The word that names the program, empty where there is none; what is written for a shell starts the shell.
fn first_word(form: &Form<'_>, variables: &Variables) -> (Vec<u8>, Range<usize>) {
    match form {
        Form::Exec(words) => {
            let first = words.value.first().map_or_else(Vec::new, |word| word.value.as_bytes().to_vec());
            (first, words.span.clone())
        }
        // An empty list, as `without_empty_lists` spells it.
        Form::Shell(script) if unquoted(script.value.trim()).trim().is_empty() => {
            (Vec::new(), script.span.clone())
        }
        Form::Shell(script) => {
            let shell = variables.shell.clone().unwrap_or_else(|| "/bin/sh".to_owned());
            (shell.into_bytes(), script.span.clone())
        }
        _ => (Vec::new(), 0..0),
    }
}

/// A command whose failure ends the build.
fn certain(command: Command) -> Told {
    Told::Run { command, begins: true, may_fail: false }
}

fn unquoted(text: &str) -> &str {
    let inner = |quote| text.strip_prefix(quote).and_then(|text| text.strip_suffix(quote));
    inner('"').or_else(|| inner('\'')).unwrap_or(text)
}

/// A command on one line, cut where it is long.
fn shown(text: &str, escape: char) -> String {
    let joined: Vec<&str> = text.split_whitespace().filter(|word| *word != escape.to_string()).collect();
    let joined = joined.join(" ");
    match joined.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}...", &joined[..end]),
        None => joined,
    }
}
