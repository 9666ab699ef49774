//! Random acts in random scenarios.

use std::io::Write;
use std::path::Path;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use mivask_core::question::{Comparison, Held};
use mivask_trial::random::{Failure as Difference, Plan, Report, kind_unavailable, run as try_random};
use mivask_trial::scenario::Kind;

use super::Args;
use super::error::ConfirmError;
use crate::end::{End, Failure};
use crate::load;
use crate::options::Format;
use crate::output;

pub(super) fn run(
    args: &Args,
    acts: usize,
    out: &mut dyn Write,
    err: &mut dyn Write,
) -> Result<End, Failure> {
    let kinds = kinds(&args.filesystem, err)?;
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let plan = Plan { acts, seed: args.seed, kinds, acts_a_scenario: 40, threads };
    let bar = progress_bar(acts);
    let report = try_random(&plan, |done| bar.inc(done as u64)).map_err(ConfirmError::from)?;
    bar.finish_and_clear();
    if let Some(difference) = &report.failure {
        save(difference, &args.output)?;
    }
    let held: Vec<Held> = report.failure.iter().map(|difference| difference.held.clone()).collect();
    let summary = summary(&report, args);
    match args.format {
        Format::Text => mivask_show::text::random_acts(out, &held, &summary, load::layout())?,
        Format::Json => mivask_show::json::random_acts(out, &held, &summary)?,
    }
    Ok(match (report.failure.is_some(), report.checked) {
        (true, _) => End::NotUpheld,
        (false, 0) if acts > 0 => End::Unchecked,
        (false, _) => End::Answered,
    })
}

fn summary(report: &Report, args: &Args) -> mivask_show::RandomSummary {
    mivask_show::RandomSummary {
        checked: report.checked,
        seed: args.seed,
        not_checked: report.not_checked.clone().into_iter().collect(),
        outcomes: report.outcomes.clone().into_iter().collect(),
        filesystems: report.kinds.iter().map(|(kind, count)| (kind.name().to_owned(), *count)).collect(),
        scene: report.failure.as_ref().map(|_| args.output.display().to_string()),
    }
}

/// The kinds asked for, or all that can be had here; what cannot be had is said.
fn kinds(names: &[String], err: &mut dyn Write) -> Result<Vec<Kind>, Failure> {
    let mut kinds = Vec::new();
    for name in names {
        let known = Kind::ALL.map(Kind::name).join(", ");
        let unknown =
            || ConfirmError::Filesystem(format!("random acts cannot be tried on `{name}`: there is {known}"));
        let kind = Kind::by_name(name).ok_or_else(unknown)?;
        if let Some(reason) = kind_unavailable(kind) {
            return Err(ConfirmError::Filesystem(reason).into());
        }
        kinds.push(kind);
    }
    if kinds.is_empty() {
        for kind in Kind::ALL {
            if let Some(reason) = kind_unavailable(kind) {
                writeln!(err, "note: nothing is tried on {}: {reason}", kind.name())?;
            }
        }
        kinds.extend(Kind::WEIGHTED.into_iter().filter(|kind| kind_unavailable(*kind).is_none()));
    }
    Ok(kinds)
}

/// On a terminal only.
fn progress_bar(acts: usize) -> ProgressBar {
    let bar = ProgressBar::with_draw_target(Some(acts as u64), ProgressDrawTarget::stderr_with_hz(4));
    let template = "{human_pos} of {human_len} acts  {wide_bar}  {eta} left";
    if let Ok(style) = ProgressStyle::with_template(template) {
        bar.set_style(style);
    }
    bar
}

/// Writes the scene file, whole or not at all.
fn save(difference: &Difference, path: &Path) -> Result<(), Failure> {
    let comments = [
        format!("predicted: {}", mivask_show::words::predicted(&difference.held)),
        format!("the kernel: {}", observed(&difference.held)),
        format!("again: mivask confirm --filesystem told {} '{}'", path.display(), difference.act),
    ];
    let text = difference.scenario.with_comments(&difference.act, &comments);
    output::replace(path, |out| out.write_all(text.as_bytes()).map_err(Failure::Output))
}

fn observed(held: &Held) -> String {
    match &held.result {
        Comparison::Same(observed) | Comparison::Different(observed) => {
            mivask_show::words::observed(&held.answer.act.verb, observed)
        }
        Comparison::NotChecked(reason) => reason.clone(),
    }
}
