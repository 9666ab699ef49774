//! From the INPUT argument to a stage, with every diagnostic on standard error.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Instant;

use mivask_core::act::Act;
use mivask_core::change::Changes;
use mivask_core::handoff::{Handoff, handoffs, may_be_usual, with_usual};
use mivask_core::names::AccountNames;
use mivask_core::policy::Policy;
use mivask_core::prepare;
use mivask_core::question::{Remark, remarks};
use mivask_core::runtime::{Flavour, Runtime};
use mivask_core::scene::Scene;
use mivask_core::stage::Stage;
use mivask_read::described::Described;
use mivask_read::diagnostic::{Diagnostics, MOST_OF_A_KIND, Severity, kind};
use mivask_read::input::{FileReader, InputError, Origin, read_described, read_merged};
use mivask_read::outline::Outline;
use mivask_read::text::SourceText;
use mivask_show::sides::{Facet, Side};

use crate::change;
use crate::dataset;
use crate::diagnostics;
use crate::end::{End, Failure};
use crate::facts;
use crate::here;
use crate::images;
use crate::inputs::Files;
use crate::options::Input;
use crate::plain;
use crate::reach::Asked;
use crate::running::running;
use crate::terminal;

/// A whole scene on one stage, for questions that name their actors themselves.
pub(crate) struct Whole {
    scene: Scene,
    /// What the scene demands.
    pub policy: Policy,
    strict: bool,
    /// What was changed.
    pub changes: Changes,
    /// Every actor.
    pub stage: Stage,
}

impl Whole {
    /// What `input` describes, under the first runtime it names.
    pub(crate) fn read(input: &Input, asked: &Asked, err: &mut dyn Write) -> Result<Self, Failure> {
        let whole = Self::read_by(&Files::beside(&input.facts), input, asked, err)?;
        terminal::keep_names(|| AccountNames::of(&whole.scene));
        Ok(whole)
    }

    /// The same through another reader of files.
    pub(crate) fn read_by(
        files: &dyn FileReader,
        input: &Input,
        asked: &Asked,
        err: &mut dyn Write,
    ) -> Result<Self, Failure> {
        let (Described { mut scene, policy }, changes) = changed(files, input, asked, err)?;
        let begun = Instant::now();
        let stage = staged(&mut scene, input.facts.runtime.first().copied(), &changes)?;
        log::info!(
            "{}: {} actors staged in {} ms",
            input.input.display(),
            stage.actors.len(),
            begun.elapsed().as_millis()
        );
        Ok(Self { scene, policy, strict: input.facts.strict, changes, stage })
    }

    /// What was given, with what was changed about it.
    pub(crate) const fn scene(&self) -> &Scene {
        &self.scene
    }

    /// What each creates and what the others can do with it, with what is usual.
    pub(crate) fn handoffs(&self, paths: &[Vec<u8>]) -> Result<Vec<Handoff>, Failure> {
        let found = handoffs(&self.stage, paths);
        if !may_be_usual(&self.stage, &found) {
            return Ok(found);
        }
        let mut usual = prepare::stage(&self.scene.as_usual());
        self.changes.apply_to_files(&mut usual)?;
        Ok(with_usual(found, &usual, paths))
    }

    /// The names of accounts that the scene gives.
    pub(crate) fn names(&self) -> AccountNames {
        AccountNames::of(&self.scene)
    }

    /// Sentences with numbers in place of the names of accounts that the scene gives.
    pub(crate) fn numbered(&self, sentences: &[String]) -> Vec<String> {
        let names = self.names();
        sentences.iter().map(|text| names.numbered(text)).collect()
    }

    /// The scene, and the changes of files that are not made in it.
    pub(crate) fn into_scene(self) -> (Scene, Changes) {
        (self.scene, self.changes)
    }

    /// Prints the remarks on those who act.
    pub(crate) fn remark(&self, acts: &[Act], err: &mut dyn Write) -> Result<(), Failure> {
        let found = acts.iter().map(|act| self.stage.actor(&act.actor).map(|actor| &*actor.name));
        let names: BTreeSet<&str> = found.collect::<Result<_, _>>()?;
        let mut given = Told::default();
        given.remarks(
            remarks(&self.scene, &self.scene.workloads, &self.stage, &|actor| names.contains(&*actor.name)),
            err,
        )?;
        given.refuse(self.strict, err)
    }
}

/// Remarks that were printed, and how many there were of each kind.
#[derive(Default)]
pub(crate) struct Told {
    seen: BTreeSet<Remark>,
    kinds: BTreeMap<String, (usize, Remark)>,
}

impl Told {
    /// Prints those that are new, of each kind the first few.
    pub(crate) fn remarks(&mut self, remarks: Vec<Remark>, err: &mut dyn Write) -> Result<(), Failure> {
        for remark in remarks {
            let said = |known: &Remark| remark.note && known.note && known.message == remark.message;
            if self.seen.contains(&remark) || self.seen.iter().any(said) {
                continue;
            }
            // What is to be done about them tells kinds apart: messages begin with names.
            let kind = remark.help.clone().unwrap_or_else(|| kind(&remark.message));
            let (count, _) = self.kinds.entry(kind).or_insert_with(|| (0, remark.clone()));
            *count += 1;
            if *count <= MOST_OF_A_KIND {
                mivask_show::diagnostics::remark(err, &remark)?;
            }
            self.seen.insert(remark);
        }
        Ok(())
    }

    /// Says how many were left out, and ends where remarks count as errors.
    pub(crate) fn refuse(&self, strict: bool, err: &mut dyn Write) -> Result<(), Failure> {
        for (count, first) in self.kinds.values().filter(|(count, _)| *count > MOST_OF_A_KIND) {
            mivask_show::diagnostics::more_remarks(err, count - MOST_OF_A_KIND, first)?;
        }
        let warnings = self.seen.iter().filter(|remark| !remark.note).count();
        if strict && warnings > 0 { Err(Failure::Strict { warnings }) } else { Ok(()) }
    }
}

/// Answers a question on one stage.
type Answering<'a> = dyn FnMut((&Stage, &AccountNames), &mut dyn Write) -> Result<Vec<Facet>, Failure> + 'a;

/// The answers under several runtimes, where `input` names several.
pub(crate) fn sides(
    input: &Input,
    asked: &Asked,
    err: &mut dyn Write,
    answer: &mut Answering<'_>,
) -> Result<Option<Vec<Side>>, Failure> {
    if input.facts.runtime.len() < 2 {
        return Ok(None);
    }
    let (Described { mut scene, .. }, changes) = changed(&Files::beside(&input.facts), input, asked, err)?;
    let names = AccountNames::of(&scene);
    terminal::keep_names(|| names.clone());
    let mut sides = Vec::new();
    for runtime in &input.facts.runtime {
        let stage = staged(&mut scene, Some(*runtime), &changes)?;
        let facets = answer((&stage, &names), err)?;
        sides.push(Side { runtime: runtime.word(), facets });
    }
    Ok(Some(sides))
}

/// Prints the sides.
pub(crate) fn print_sides(out: &mut dyn Write, sides: &[Side], json: bool) -> Result<End, Failure> {
    if json {
        mivask_show::sides::json(out, sides)?;
    } else {
        mivask_show::sides::text(out, sides, layout())?;
    }
    Ok(End::Answered)
}

/// What `input` describes, with all that `--change` makes of it before anything is staged.
fn changed(
    files: &dyn FileReader,
    input: &Input,
    asked: &Asked,
    err: &mut dyn Write,
) -> Result<(Described, Changes), Failure> {
    change::check(&input.facts.change, err)?;
    let mut described = described(files, input, asked, err)?;
    let changes = change::read(&input.facts.change, &described.scene, err)?;
    for runtime in &input.facts.runtime {
        fits_scene(*runtime, &described.scene)?;
    }
    change::scene(&changes, &mut described.scene, err)?;
    Ok((described, changes))
}

/// The scene on a stage under `runtime`, or under its own where none is named, with every change of files made.
fn staged(scene: &mut Scene, runtime: Option<Runtime>, changes: &Changes) -> Result<Stage, Failure> {
    scene.runtime = runtime.or(scene.runtime);
    let mut stage = prepare::stage(scene);
    changes.apply_to_files(&mut stage)?;
    Ok(stage)
}

fn described(
    files: &dyn FileReader,
    input: &Input,
    asked: &Asked,
    err: &mut dyn Write,
) -> Result<Described, Failure> {
    let asked = asked.with_changes(&input.facts.change);
    let facts_alone = |scene| Described { scene, policy: Policy::default() };
    let mut described = match (running(input, &asked.reach, err)?, plain::scene(input, &asked)?) {
        (Some(scene), _) => facts_alone(scene),
        (None, Some(scene)) => facts_alone(scene),
        (None, None) => checked(input, err, |diagnostics| match merged(input) {
            None => read_described(&Origin::of(&input.input), files, diagnostics),
            Some(all) => read_merged(&all, files, diagnostics).map(facts_alone),
        })?,
    };
    let workloads = std::mem::take(&mut described.scene.workloads);
    let added = facts::add(&mut described.scene, Some(&workloads), input, err);
    here::note(&described.scene, &workloads, input, err)?;
    described.scene.workloads = workloads;
    let mut wanted = images::Wanted::default();
    described.scene.workloads.iter().for_each(|workload| wanted.take(workload));
    images::add(&mut described.scene, wanted, input, err)?;
    dataset::of_scene(&mut described.scene, &input.facts, err)?;
    let mut asked = asked;
    described.policy.actors().for_each(|name| asked.guest(name));
    described.scene.guests = asked.guests;
    added.map(|()| described)
}

/// Keeps the names of every place, where they are wanted.
fn keep_names(outline: &Outline) -> Result<(), Failure> {
    if terminal::by_name() {
        let mut names = AccountNames::of(&outline.scene);
        outline.each(&Files::default(), &mut |workload| {
            names.take(workload);
            Ok::<(), Failure>(())
        })?;
        terminal::keep_names(|| names);
    }
    Ok(())
}

/// The same with the workloads apart, so that they need not all be held.
pub(crate) fn outline(input: &Input, asked: &Asked, err: &mut dyn Write) -> Result<Outline, Failure> {
    let asked = asked.with_changes(&input.facts.change);
    let mut outline = match (running(input, &asked.reach, err)?, plain::scene(input, &asked)?) {
        (Some(scene), _) => Outline::of(scene),
        (None, Some(scene)) => Outline::of(scene),
        (None, None) => checked(input, err, |diagnostics| match merged(input) {
            None => Outline::read(&Origin::of(&input.input), &Files::beside(&input.facts), diagnostics),
            Some(all) => read_merged(&all, &Files::default(), diagnostics).map(Outline::of),
        })?,
    };
    let (scene, held) = outline.parts();
    facts::add(scene, held, input, err)?;
    here::note(scene, held.unwrap_or_default(), input, err)?;
    scene.guests = asked.guests;
    if images::are_looked_for(&outline.scene, input) {
        let mut wanted = images::Wanted::default();
        outline.each(&Files::default(), &mut |workload| {
            wanted.take(workload);
            Ok::<(), Failure>(())
        })?;
        images::add(&mut outline.scene, wanted, input, err)?;
    }
    dataset::of_outline(&mut outline, &input.facts, err)?;
    keep_names(&outline)?;
    Ok(outline)
}

/// The files to be merged, where there are several.
fn merged(input: &Input) -> Option<Vec<PathBuf>> {
    let all = std::iter::once(&input.input).chain(&input.facts.merge).cloned().collect();
    (!input.facts.merge.is_empty()).then_some(all)
}

/// Reads, prints every diagnostic, and ends where one makes the input unusable.
fn checked<T>(
    input: &Input,
    err: &mut dyn Write,
    read: impl FnOnce(&mut Diagnostics) -> Result<T, InputError>,
) -> Result<T, Failure> {
    let mut diagnostics = Diagnostics::default();
    let result = read(&mut diagnostics);
    diagnostics::report(&diagnostics, err)?;
    let result = result?;
    diagnostics::refuse_errors(&diagnostics)?;
    let warnings = diagnostics.count(Severity::Warning);
    if input.facts.strict && warnings > 0 {
        return Err(Failure::Strict { warnings });
    }
    Ok(result)
}

fn fits_scene(runtime: Runtime, scene: &Scene) -> Result<(), Failure> {
    fits(runtime, scene.workloads.iter().map(|one| (one.kind.as_str(), one.name.as_str(), one.flavour)))
}

/// Puts an input under a runtime that can run all of it.
pub(crate) fn choose(outline: &mut Outline, runtime: Option<Runtime>) -> Result<(), Failure> {
    if let Some(runtime) = runtime {
        fits(runtime, outline.headings.iter().map(|one| (&*one.kind, &*one.name, one.flavour)))?;
        outline.scene.runtime = Some(runtime);
    }
    Ok(())
}

/// Whether `runtime` can run workloads of these kinds, names and flavours.
fn fits<'a>(
    runtime: Runtime,
    mut workloads: impl Iterator<Item = (&'a str, &'a str, Flavour)>,
) -> Result<(), Failure> {
    let Some((kind, name, flavour)) = workloads.find(|(_, _, flavour)| !runtime.runs(*flavour)) else {
        return Ok(());
    };
    let fitting = Runtime::NAMED.into_iter().filter(|other| other.runs(flavour));
    let fitting: Vec<&str> = fitting.map(Runtime::word).collect();
    let runtime = runtime.word();
    let workload = format!("{kind} {name}");
    Err(Failure::Runtime { runtime, workload, fitting: fitting.join(", ") })
}

/// The text of a file beside the input, such as one of acts; `-` is standard input.
pub(crate) fn text(path: &Path) -> Result<SourceText, Failure> {
    let origin = Origin::of(path);
    let bytes = match &origin {
        Origin::Standard => Files::default().standard_input(),
        Origin::File(path) => Files::default().read(path),
    };
    let bytes = bytes.map_err(|error| Failure::File { path: path.to_path_buf(), error })?;
    match std::str::from_utf8(&bytes) {
        // Some editors put a mark at the beginning that is not part of the text.
        Ok(text) => Ok(SourceText::new(&origin.name(), text.trim_start_matches('\u{feff}'))),
        Err(error) => {
            let before = &bytes[..error.valid_up_to()];
            let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
            Err(Failure::NotText { file: origin.name(), line, byte: bytes[error.valid_up_to()] })
        }
    }
}

/// The bytes of path arguments inside a container.
pub(crate) fn inside_paths(paths: &[PathBuf]) -> Result<Vec<Vec<u8>>, Failure> {
    paths.iter().map(|path| inside_path(path)).collect()
}

/// The bytes of a path argument inside a container.
fn inside_path(path: &Path) -> Result<Vec<u8>, Failure> {
    let bytes = path.as_os_str().as_encoded_bytes();
    if bytes.first() == Some(&b'/') {
        Ok(bytes.to_vec())
    } else {
        Err(Failure::Relative(path.display().to_string()))
    }
}

/// How text is laid out: folded at the terminal's width, or not at all where there is no terminal.
pub(crate) fn layout() -> mivask_show::text::Layout<'static> {
    let given = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let width = given.or_else(|| {
        terminal_size::terminal_size_of(terminal::stdout()).map(|(width, _)| usize::from(width.0))
    });
    mivask_show::text::Layout {
        width,
        all_assumptions: terminal::lists_all_assumptions(),
        all_ways: terminal::lists_all(),
        names: terminal::names(),
        ..Default::default()
    }
}
