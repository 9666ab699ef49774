//! `exposure`: what is open wider than needed.

use std::io::Write;

use clap::ValueEnum;
use mivask_core::exposure::{Accepted, Finding, Limit, PathPatternError, Severity, exposure};
use mivask_core::fact::{Fact, Provenance};
use mivask_disk::process::Reach;
use mivask_show::{json, text};

use crate::change::Patterns;
use crate::end::{CommandError, End, Failure};
use crate::load::{Whole, layout};
use crate::options::{Common, Format};
use crate::terminal;

/// What is open wider than it needs to be, worst first, and what follows from it.
///
/// World-writable files, setuid and setgid programs, keys that others can read, host paths that containers can
/// write, programs they can rewrite, umasks that leak, special bits without their x. And the opposite: modes that
/// strict programs refuse as too wide.
///
/// Accept an intended finding in the scene file, with a reason: `accept: [{ finding: world-writable, path: /spool,
/// reason: ... }]`. A declared limit (`at-most:` in the scene, or --at-most) that is broken makes the exit status
/// 1.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  mivask exposure tides.scene.yaml\n  mivask exposure tides.scene.yaml --severity medium \\\n      --at-most '/data/calibration.toml at-most 0600 owned-by 0'"
)]
pub(crate) struct Args {
    #[command(flatten)]
    common: Common,
    /// The widest mode a path may have: '[ACTOR] PATH at-most MODE [owned-by UID[:GID]]'. May be repeated.
    #[arg(long, value_name = "LIMIT")]
    at_most: Vec<Limit>,
    /// Only findings of at least this severity.
    #[arg(long, value_name = "LEVEL", default_value = "low")]
    severity: Level,
}

/// A severity as an argument.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
enum Level {
    /// Worth knowing.
    Low,
    /// One compromised actor harms another.
    Medium,
    /// One compromised actor takes the host, a secret or everyone's data.
    High,
}

impl Level {
    const fn severity(self) -> Severity {
        match self {
            Self::Low => Severity::Low,
            Self::Medium => Severity::Medium,
            Self::High => Severity::High,
        }
    }
}

impl CommandError for PathPatternError {}

/// What the scene accepts and nothing is any more: it would hide what comes later.
fn stale<'a>(accepted: &'a [Accepted], found: &[Finding]) -> Vec<&'a Accepted> {
    let used = |one: &&Accepted| found.iter().any(|finding| finding.accepted.as_ref() == Some(*one));
    accepted.iter().filter(|one| !used(one)).collect()
}

pub(crate) fn run(args: &Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let input = &args.common.input;
    if input.facts.runtime.len() > 1 {
        return Err(Failure::OneRuntimeAtATime("exposure"));
    }
    let whole = Whole::read(input, &Reach { paths: Vec::new(), whole: true }.into(), err)?;
    let mut limits = whole.policy.limits.clone();
    let from = Provenance::rule("--at-most");
    limits.extend(args.at_most.iter().map(|limit| Fact::new(limit.clone(), from.clone())));
    for name in limits.iter().filter_map(|limit| limit.value.actor.as_ref()) {
        whole.stage.actor(name)?;
    }
    let mut names = Vec::new();
    for name in &args.common.actor {
        names.push(whole.stage.actor(name)?.name.to_string());
    }
    let working = terminal::working("looking at what each actor sees");
    let found = exposure(&whole.stage, &limits, &whole.policy.accepted, &Patterns)?;
    drop(working);
    for one in stale(&whole.policy.accepted, &found) {
        writeln!(
            err,
            "warning: nothing is found that is accepted at {}",
            mivask_show::safe(&one.from.to_string())
        )?;
    }
    let wanted = |finding: &Finding| {
        finding.severity >= args.severity.severity()
            && (names.is_empty() || finding.actors.iter().any(|actor| names.contains(actor)))
    };
    let found: Vec<Finding> = found.into_iter().filter(wanted).collect();
    match args.common.format {
        Format::Text => text::findings(out, &found, layout())?,
        Format::Json => json::findings(out, &found)?,
    }
    let broken = found.iter().any(|finding| finding.declared && finding.accepted.is_none());
    Ok(if broken { End::NotUpheld } else { End::Answered })
}
