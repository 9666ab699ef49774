//! From the INPUT argument to a stage, with every slip on standard error.

use std::collections::BTreeSet;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use mivask_core::act::Act;
use mivask_core::prepare::{self, Staging};
use mivask_core::question::{Remark, remarks};
use mivask_core::runtime::Runtime;
use mivask_core::scene::Scene;
use mivask_core::stage::{Actor, Stage};
use mivask_read::input::{Disk, Origin, read_input, read_merged};
use mivask_read::slip::{Severity, Slips};
use mivask_show::sides::{Facet, Side};

use crate::end::{End, Failure};
use crate::options::{Common, Format, Input};

/// A whole scene on one stage, for questions that name their actors themselves.
pub(crate) struct Whole {
    scene: Scene,
    strict: bool,
    /// Every actor.
    pub stage: Stage,
}

impl Whole {
    /// What `input` describes, under the first runtime it names.
    pub(crate) fn read(input: &Input, err: &mut dyn Write) -> Result<Self, Failure> {
        let mut scene = scene(input, err)?;
        choose(&mut scene, input.runtime.first().copied())?;
        let stage = prepare::stage(&scene);
        Ok(Self { scene, strict: input.strict, stage })
    }

    /// Prints the remarks on those who act.
    pub(crate) fn remark(&self, acts: &[Act], err: &mut dyn Write) -> Result<(), Failure> {
        let found = acts.iter().map(|act| self.stage.cast().find(&act.actor));
        let chosen: BTreeSet<usize> = found.collect::<Result<_, _>>()?;
        let names: BTreeSet<&str> = chosen.iter().map(|at| &*self.stage.cast().names()[*at]).collect();
        let mut told = Told::default();
        told.remarks(remarks(&self.scene, &self.stage, &|actor| names.contains(&*actor.name)), err)?;
        told.refuse(self.strict)
    }
}

/// Remarks that were printed.
#[derive(Default)]
struct Told(BTreeSet<Remark>);

impl Told {
    /// Prints those that are new.
    fn remarks(&mut self, remarks: Vec<Remark>, err: &mut dyn Write) -> Result<(), Failure> {
        for remark in remarks {
            if !self.0.contains(&remark) {
                mivask_show::slips::remark(err, &remark)?;
                self.0.insert(remark);
            }
        }
        Ok(())
    }

    /// Ends where remarks count as errors.
    fn refuse(&self, strict: bool) -> Result<(), Failure> {
        if strict && !self.0.is_empty() { Err(Failure::Strict { warnings: self.0.len() }) } else { Ok(()) }
    }
}

/// Prints rows.
type Printing<'a, R> = &'a dyn Fn(&mut dyn Write, R) -> io::Result<()>;

/// A question about single actors, and how its answers are shown.
pub(crate) struct Table<'a, R> {
    /// The rows about one actor.
    pub ask: &'a dyn Fn(&Stage, &Actor) -> Vec<R>,
    /// What is compared under several runtimes.
    pub facets: &'a dyn Fn(&[R]) -> Vec<Facet>,
    /// Prints for people.
    pub text: Printing<'a, Vec<R>>,
    /// Prints one JSON document.
    pub json: Printing<'a, Vec<R>>,
}

impl<R> Table<'_, R> {
    /// Answers for every actor that is asked about, workload by workload: only the rows stay.
    pub(crate) fn answer(
        &self,
        common: &Common,
        out: &mut dyn Write,
        err: &mut dyn Write,
    ) -> Result<End, Failure> {
        let mut scene = scene(&common.input, err)?;
        let runtimes = &common.input.runtime;
        if runtimes.len() < 2 {
            choose(&mut scene, runtimes.first().copied())?;
            let mut told = Told::default();
            let rows = self.rows(&scene, &common.actor, &mut |remarks| told.remarks(remarks, err))?;
            told.refuse(common.input.strict)?;
            match common.format {
                Format::Text => (self.text)(out, rows)?,
                Format::Json => (self.json)(out, rows)?,
            }
            return Ok(End::Answered);
        }
        let mut sides = Vec::new();
        for runtime in runtimes {
            choose(&mut scene, Some(*runtime))?;
            let rows = self.rows(&scene, &common.actor, &mut |_| Ok(()))?;
            sides.push(Side { runtime: runtime.word(), facets: (self.facets)(&rows) });
        }
        print_sides(out, &sides, common.format == Format::Json)
    }

    fn rows(
        &self,
        scene: &Scene,
        names: &[String],
        remarked: &mut dyn FnMut(Vec<Remark>) -> Result<(), Failure>,
    ) -> Result<Vec<R>, Failure> {
        let staging = Staging::new(scene);
        let found = names.iter().map(|name| staging.cast().find(name));
        let chosen: BTreeSet<usize> = found.collect::<Result<_, _>>()?;
        let mut rows = Vec::new();
        for stage in staging {
            let number = |actor: &Actor| stage.actors.iter().position(|other| std::ptr::eq(other, actor));
            let wanted = |actor: &Actor| {
                names.is_empty() || number(actor).is_some_and(|at| chosen.contains(&(stage.first + at)))
            };
            remarked(remarks(scene, &stage, &wanted))?;
            let actors = stage.actors.iter().filter(|actor| wanted(actor));
            rows.extend(actors.flat_map(|actor| (self.ask)(&stage, actor)));
        }
        Ok(rows)
    }
}

/// Answers a question on one stage.
type Answering<'a> = dyn FnMut(&Stage, &mut dyn Write) -> Result<Vec<Facet>, Failure> + 'a;

/// The answers under several runtimes, where `input` names several.
pub(crate) fn sides(
    input: &Input,
    err: &mut dyn Write,
    answer: &mut Answering<'_>,
) -> Result<Option<Vec<Side>>, Failure> {
    if input.runtime.len() < 2 {
        return Ok(None);
    }
    let mut scene = scene(input, err)?;
    let mut sides = Vec::new();
    for runtime in &input.runtime {
        choose(&mut scene, Some(*runtime))?;
        let facets = answer(&prepare::stage(&scene), err)?;
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

fn scene(input: &Input, err: &mut dyn Write) -> Result<Scene, Failure> {
    let mut slips = Slips::default();
    let scene = if input.merge.is_empty() {
        read_input(&Origin::of(&input.input), &Disk, &mut slips)
    } else {
        let all: Vec<PathBuf> = std::iter::once(&input.input).chain(&input.merge).cloned().collect();
        read_merged(&all, &Disk, &mut slips)
    };
    report(&slips, err)?;
    let scene = scene?;
    refuse_errors(&slips)?;
    let warnings = slips.iter().filter(|slip| slip.severity == Severity::Warning).count();
    if input.strict && warnings > 0 {
        return Err(Failure::Strict { warnings });
    }
    Ok(scene)
}

/// Puts the scene under a runtime that can run some of it.
fn choose(scene: &mut Scene, runtime: Option<Runtime>) -> Result<(), Failure> {
    let Some(runtime) = runtime else { return Ok(()) };
    match scene.workloads.iter().find(|workload| !runtime.runs(workload.flavour)) {
        Some(workload) => {
            let fitting = Runtime::NAMED.into_iter().filter(|other| other.runs(workload.flavour));
            let fitting: Vec<&str> = fitting.map(Runtime::word).collect();
            Err(Failure::Runtime {
                runtime: runtime.word(),
                workload: format!("{} {}", workload.kind, workload.name),
                fitting: fitting.join(", "),
            })
        }
        None => {
            scene.runtime = Some(runtime);
            Ok(())
        }
    }
}

/// Prints every slip.
pub(crate) fn report(slips: &Slips, err: &mut dyn Write) -> Result<(), Failure> {
    slips.iter().try_for_each(|slip| mivask_show::slips::slip(err, slip)).map_err(Failure::Output)
}

/// Ends where an error is among the slips.
pub(crate) fn refuse_errors(slips: &Slips) -> Result<(), Failure> {
    match slips.iter().filter(|slip| slip.severity == Severity::Error).count() {
        0 => Ok(()),
        errors => Err(Failure::Mistakes { errors }),
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
pub(crate) fn layout() -> mivask_show::text::Layout {
    let told = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    let width =
        told.or_else(|| terminal_size::terminal_size_of(io::stdout()).map(|(width, _)| usize::from(width.0)));
    mivask_show::text::Layout { width }
}
