//! A change of an image written into its build file: at the line that makes the file, or as a command behind it.
//!
//! Where several lines would do, the narrowest comes first. Whether one does is for the caller to try: it is handed the recipe of each
//! text, since who runs a command, and which builder takes which option, only a build tells.

use std::ops::Range;
use std::path::Path;

use mivask_core::recipe::{BuildFile, Recipe};
use parse_dockerfile::{Command, Dockerfile, Flag, Instruction, parse};

use crate::diagnostic::Diagnostics;
use crate::dockerfile::{self, Options};
use crate::files::FileReader;
use crate::text::SourceText;

/// What is to be different about one image.
#[derive(Clone, Debug)]
pub struct Edit<'a> {
    /// The line that leaves the file as it is, from 1, where there is one in this build file.
    pub line: Option<usize>,
    /// Owner and mode that what is copied is to have; `None` where more than one path is changed, or nothing is copied.
    pub copied: Option<Copied>,
    /// Commands that do it as root.
    pub commands: &'a [String],
    /// The user that the image runs as, where it names one.
    pub user: Option<&'a str>,
}

/// What a copied file is to be.
#[derive(Clone, Debug)]
pub struct Copied {
    /// Whether the copy makes nothing else, so that its options give nothing else away.
    pub alone: bool,
    /// Such as `1000:0`; `None` where it stays.
    pub owner: Option<String>,
    /// Such as `640`; `None` where it stays.
    pub mode: Option<String>,
}

/// An instruction with where it is.
type Placed<'p, 't> = (&'p Instruction<'t>, Range<usize>);

/// One place in the text where something goes.
type Place = (Range<usize>, String);

/// A build file with an edit made.
#[derive(Clone, Debug)]
pub struct Edited {
    /// The whole text.
    pub text: String,
    /// Whether an option of a copy gives away all that it copies.
    pub whole_copy: bool,
}

/// `text`, the build file `file`, with `edit` made so that `is_right` says the recipe of it is; `None` where no line of it does.
#[must_use]
pub fn edited(
    text: &str,
    file: &BuildFile,
    edit: &Edit<'_>,
    files: &dyn FileReader,
    is_right: &mut dyn FnMut(&Recipe) -> bool,
) -> Option<Edited> {
    let masked = dockerfile::masked(text);
    let parsed = parse(&masked).ok()?;
    let options = Options { args: file.args.clone(), target: file.target.clone() };
    candidates(text, &parsed, file, edit).into_iter().find_map(|(mut places, whole_copy)| {
        let mut new = text.to_owned();
        places.sort_by_key(|(at, _)| std::cmp::Reverse(at.start));
        for (at, what) in places {
            new.replace_range(at, &what);
        }
        let source = SourceText::new(&file.path, &new);
        let mut said = Diagnostics::default();
        let recipe = dockerfile::read(&source, Path::new(&file.context), &options, files, &mut said)?;
        is_right(&recipe).then_some(Edited { text: new, whole_copy })
    })
}

/// Edits that may do, the narrowest first, and whether each gives away all that a copy makes.
fn candidates(
    text: &str,
    parsed: &Dockerfile<'_>,
    file: &BuildFile,
    edit: &Edit<'_>,
) -> Vec<(Vec<Place>, bool)> {
    let escape = parsed.parser_directives.escape.as_ref().map_or('\\', |escape| escape.value.value);
    let extents = extents(text, parsed);
    let all: Vec<Placed<'_, '_>> = parsed.instructions.iter().zip(extents).collect();
    let line_of = |at: usize| text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1;
    let lines = |extent: &Range<usize>| {
        line_of(extent.start)..=line_of(extent.end.saturating_sub(1).max(extent.start))
    };
    let mut found = Vec::new();
    let maker = edit.line.and_then(|line| all.iter().find(|(_, extent)| lines(extent).contains(&line)));
    let command = edit.commands.join(" && ");
    if let Some((instruction, extent)) = maker {
        let options = edit.copied.as_ref().filter(|copied| copied.alone);
        found.extend(options.and_then(|copied| options_of(instruction, copied)));
        if let Instruction::Run(run) = instruction
            && run.here_docs.is_empty()
            && matches!(run.arguments, Command::Shell(_))
        {
            let end = extent.start + text[extent.clone()].trim_end().len();
            let several = text[extent.start..end].contains('\n');
            let joint = if several { format!(" {escape}\n    && ") } else { " && ".to_owned() };
            found.push(vec![(end..end, format!("{joint}{command}"))]);
        }
        found.push(vec![behind(text, extent.end, &format!("RUN {command}"))]);
    }
    let wide = maker.zip(edit.copied.as_ref().filter(|copied| !copied.alone));
    let wide = wide.and_then(|((instruction, _), copied)| options_of(instruction, copied));
    let narrow = elsewhere(text, stage(&all, file), &command, edit.user, found);
    narrow.into_iter().map(|places| (places, false)).chain(wide.map(|places| (places, true))).collect()
}

/// After `found`, the places that do not depend on the line that makes the file: before a change of the user, and at the end.
fn elsewhere(
    text: &str,
    stage: &[Placed<'_, '_>],
    command: &str,
    user: Option<&str>,
    mut found: Vec<Vec<Place>>,
) -> Vec<Vec<Place>> {
    let users = stage.iter().filter(|(one, _)| matches!(one, Instruction::User(_)));
    for (_, extent) in users.rev() {
        let at = above_comments(text, extent.start);
        found.push(vec![(at..at, format!("RUN {command}\n"))]);
    }
    let Some((_, last)) = stage.last() else { return found };
    found.push(vec![behind(text, last.end, &format!("RUN {command}"))]);
    if let Some(user) = user {
        found.push(vec![behind(text, last.end, &format!("USER root\nRUN {command}\nUSER {user}"))]);
    }
    found
}

/// Where the comment directly above `at` begins, if there is one.
fn above_comments(text: &str, at: usize) -> usize {
    let lines = text[..at].split_inclusive('\n').rev();
    let comments = lines.take_while(|line| line.trim_start().starts_with('#'));
    at - comments.map(str::len).sum::<usize>()
}

/// `line` on a line of its own at `at`, which ends one.
fn behind(text: &str, at: usize, line: &str) -> Place {
    let open = !text[..at].is_empty() && !text[..at].ends_with('\n');
    (at..at, if open { format!("\n{line}") } else { format!("{line}\n") })
}

/// The options of a copy that give what it copies away.
fn options_of(instruction: &Instruction<'_>, copied: &Copied) -> Option<Vec<Place>> {
    let (keyword, options): (&Range<usize>, &[Flag<'_>]) = match instruction {
        Instruction::Copy(copy) => (&copy.copy.span, &copy.options),
        Instruction::Add(add) => (&add.add.span, &add.options),
        Instruction::Run(_) | _ => return None,
    };
    let mut places = Vec::new();
    let mut added = String::new();
    for (name, value) in [("chown", &copied.owner), ("chmod", &copied.mode)] {
        let Some(value) = value else { continue };
        let there = options.iter().find(|flag| flag.name.value == name).and_then(|flag| flag.value.as_ref());
        match there {
            Some(given) => places.push((given.span.clone(), value.clone())),
            None => added.push_str(&format!(" --{name}={value}")),
        }
    }
    if !added.is_empty() {
        places.push((keyword.end..keyword.end, added));
    }
    Some(places)
}

/// The instructions of the stage that becomes the image.
fn stage<'s, 'p, 't>(all: &'s [Placed<'p, 't>], file: &BuildFile) -> &'s [Placed<'p, 't>] {
    let begins = |at: &usize| matches!(all[*at].0, Instruction::From(_));
    let starts: Vec<usize> = (0..all.len()).filter(begins).collect();
    let named = |wanted: &String| {
        let by_name = starts.iter().rposition(|at| match all[*at].0 {
            Instruction::From(from) => {
                from.as_.as_ref().is_some_and(|(_, name)| name.value.eq_ignore_ascii_case(wanted))
            }
            Instruction::Run(_) | _ => false,
        });
        by_name.or_else(|| wanted.parse().ok())
    };
    let number = file.target.as_ref().and_then(named).unwrap_or_else(|| starts.len().saturating_sub(1));
    let Some(start) = starts.get(number) else { return &[] };
    &all[*start..starts.get(number + 1).copied().unwrap_or(all.len())]
}

/// Where each instruction is in `text`, its line end included; comments and blank lines behind it are not.
fn extents(text: &str, parsed: &Dockerfile<'_>) -> Vec<Range<usize>> {
    let starts: Vec<usize> = parsed.instructions.iter().map(start).collect();
    let ends = starts.iter().skip(1).copied().chain([text.len()]);
    let extent = |(start, end): (&usize, usize)| {
        let mut end = end.max(*start);
        while let Some(line) = text[*start..end].split_inclusive('\n').next_back() {
            let bare = line.trim();
            if line.len() == end - start || !(bare.is_empty() || bare.starts_with('#')) {
                break;
            }
            end -= line.len();
        }
        *start..end
    };
    starts.iter().zip(ends).map(extent).collect()
}

fn start(instruction: &Instruction<'_>) -> usize {
    let keyword = match instruction {
        Instruction::Add(one) => &one.add,
        Instruction::Arg(one) => &one.arg,
        Instruction::Cmd(one) => &one.cmd,
        Instruction::Copy(one) => &one.copy,
        Instruction::Entrypoint(one) => &one.entrypoint,
        Instruction::Env(one) => &one.env,
        Instruction::Expose(one) => &one.expose,
        Instruction::From(one) => &one.from,
        Instruction::Healthcheck(one) => &one.healthcheck,
        Instruction::Label(one) => &one.label,
        Instruction::Maintainer(one) => &one.maintainer,
        Instruction::Onbuild(one) => &one.onbuild,
        Instruction::Run(one) => &one.run,
        Instruction::Shell(one) => &one.shell,
        Instruction::Stopsignal(one) => &one.stopsignal,
        Instruction::User(one) => &one.user,
        Instruction::Volume(one) => &one.volume,
        Instruction::Workdir(one) => &one.workdir,
        _ => return 0,
    };
    keyword.span.start
}
