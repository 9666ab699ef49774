//! From the INPUT argument to a stage, with every slip on standard error.

use std::io::Write;
use std::path::Path;

use mivask_core::prepare;
use mivask_core::question::remarks;
use mivask_core::runtime::Runtime;
use mivask_core::scene::Scene;
use mivask_core::stage::{Actor, Stage};
use mivask_read::input::{Disk, Origin, read_input};
use mivask_read::slip::{Severity, Slips};
use mivask_show::sides::{Facet, Side};

use crate::end::{End, Failure};
use crate::options::Input;

/// The stage that `input` describes, under the first runtime it names.
pub(crate) fn stage(input: &Input, err: &mut dyn Write) -> Result<Stage, Failure> {
    let mut scene = scene(input, err)?;
    choose(&mut scene, input.runtime.first().copied())?;
    let stage = prepare::stage(&scene);
    let remarks = remarks(&scene, &stage);
    remarks.iter().try_for_each(|remark| mivask_show::slips::remark(err, remark))?;
    if input.strict && !remarks.is_empty() {
        return Err(Failure::Strict { warnings: remarks.len() });
    }
    Ok(stage)
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
    let scene = read_input(&Origin::of(&input.input), &Disk, &mut slips);
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

/// The actors of these names, all of them where there are none.
pub(crate) fn actors<'a>(stage: &'a Stage, names: &[String]) -> Result<Vec<&'a Actor>, Failure> {
    if names.is_empty() {
        return Ok(stage.actors.iter().collect());
    }
    names.iter().map(|name| Ok(stage.actor(name)?)).collect()
}

/// The bytes of a path argument inside a container.
pub(crate) fn inside_path(path: &Path) -> Result<Vec<u8>, Failure> {
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
    let width = told.or_else(|| {
        terminal_size::terminal_size_of(std::io::stdout()).map(|(width, _)| usize::from(width.0))
    });
    mivask_show::text::Layout { width }
}
