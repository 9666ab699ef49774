//! Random acts in random scenarios, from a seed.

use std::collections::BTreeMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use fastrand::Rng;
use mivask_core::act::Act;
use mivask_core::observed::Observed;
use mivask_core::question::{Comparison, Held};
use mivask_kernel::{Bench, Choice, Filesystem, unavailable};

use crate::TrialError;
use crate::hold::{hold, predict};
use crate::scenario::{Kind, Scenario, generate, random_act};
use crate::shrink::shrink;

/// What is to be tried.
#[derive(Clone, Debug)]
pub struct Plan {
    /// How many acts.
    pub acts: usize,
    /// Where the random numbers start; the same seed gives the same scenarios whatever the number of threads.
    pub seed: u64,
    /// What the scenarios are on, in turn.
    pub kinds: Vec<Kind>,
    /// How many acts each scenario meets.
    pub acts_a_scenario: usize,
    /// How many scenarios are tried at once.
    pub threads: usize,
}

/// What came of it.
#[derive(Debug, Default)]
pub struct Report {
    /// Acts that were held against the kernel.
    pub checked: usize,
    /// Acts that could not be, by reason.
    pub not_checked: BTreeMap<String, usize>,
    /// How the acts ended on the kernel: `allowed` or an errno.
    pub outcomes: BTreeMap<String, usize>,
    /// How many acts each kind of filesystem met.
    pub kinds: BTreeMap<Kind, usize>,
    /// The first difference, made small.
    pub failure: Option<Failure>,
}

/// A difference between prediction and kernel.
#[derive(Debug)]
pub struct Failure {
    /// The smallest scenario that shows it.
    pub scenario: Scenario,
    /// The act.
    pub act: Act,
    /// Prediction and kernel.
    pub held: Held,
}

/// Why scenarios of that kind cannot be built here.
#[must_use]
pub fn kind_unavailable(kind: Kind) -> Option<String> {
    let tool = |tool: &str| {
        let found = mivask_kernel::has_tool(tool);
        (!found).then(|| format!("{tool} is not installed"))
    };
    let known = || {
        let all = std::fs::read_to_string("/proc/filesystems").unwrap_or_default();
        let found = all.split_whitespace().any(|word| word == kind.name());
        (!found).then(|| format!("this kernel has no {}", kind.name()))
    };
    match kind {
        Kind::Tmpfs => None,
        Kind::Ext4 => Filesystem::Ext4.unavailable(),
        Kind::Xfs => Filesystem::Xfs.unavailable(),
        Kind::Btrfs => Filesystem::Btrfs.unavailable(),
        Kind::Overlay => known(),
        Kind::Erofs => known().or_else(|| tool("mkfs.erofs")),
        Kind::Squashfs => known().or_else(|| tool("mksquashfs")),
    }
}

/// Carries the plan out, until a difference is found. `progress` hears of every scenario: how many acts it met.
///
/// # Errors
/// The kernel side cannot be set up, or fails.
pub fn run(plan: &Plan, progress: impl Fn(usize) + Sync) -> Result<Report, TrialError> {
    if let Some(reason) = unavailable() {
        return Err(mivask_kernel::KernelError::Unavailable(reason).into());
    }
    let next = AtomicUsize::new(0);
    let stop = AtomicBool::new(false);
    let total = Mutex::new(Ok(Report::default()));
    let scenarios = plan.acts.div_ceil(plan.acts_a_scenario);
    std::thread::scope(|scope| {
        for _ in 0..plan.threads.max(1) {
            scope.spawn(|| {
                let worked = work(plan, scenarios, &next, &stop, &progress);
                stop.fetch_or(worked.is_err(), Ordering::Relaxed);
                let mut total = total.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                match (&mut *total, worked) {
                    (Ok(total), Ok(report)) => total.add(report),
                    (Ok(_), Err(error)) => *total = Err(error),
                    (Err(_), _) => {}
                }
            });
        }
    });
    total.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner)
}

fn work(
    plan: &Plan,
    scenarios: usize,
    next: &AtomicUsize,
    stop: &AtomicBool,
    progress: &(impl Fn(usize) + Sync),
) -> Result<Report, TrialError> {
    let bench = Bench::new(Choice::AsTold)?;
    let mut report = Report::default();
    while !stop.load(Ordering::Relaxed) {
        let index = next.fetch_add(1, Ordering::Relaxed);
        if index >= scenarios {
            break;
        }
        let kind = plan.kinds[index % plan.kinds.len()];
        // Each scenario has a stream of its own, so that threads do not change what is tried.
        let start = plan.seed.wrapping_add((index as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let mut rng = Rng::with_seed(start);
        let scenario = generate(&mut rng, kind);
        let acts: Vec<Act> = (0..plan.acts_a_scenario).map(|_| random_act(&mut rng, &scenario)).collect();
        let stage = scenario.stage()?;
        let answers = predict(&stage, &acts).map_err(|error| TrialError::Scenario(error.to_string()))?;
        let held = hold(&stage, answers, &bench)?;
        progress(held.len());
        for held in held {
            report.count(kind, &held);
            if let Comparison::Different(_) = held.result {
                stop.store(true, Ordering::Relaxed);
                report.failure = Some(smallest(&scenario, held, &bench));
                return Ok(report);
            }
        }
    }
    Ok(report)
}

/// Whether `act` parts prediction and kernel in `scenario`, and how; one that cannot be read or built does not.
fn difference(scenario: &Scenario, act: &Act, bench: &Bench) -> Option<Held> {
    let stage = scenario.stage().ok()?;
    let answers = predict(&stage, std::slice::from_ref(act)).ok()?;
    let held = hold(&stage, answers, bench).ok()?;
    held.into_iter().find(|held| matches!(held.result, Comparison::Different(_)))
}

fn smallest(scenario: &Scenario, held: Held, bench: &Bench) -> Failure {
    let act = held.answer.act.clone();
    let scenario = shrink(scenario, |candidate| difference(candidate, &act, bench).is_some());
    let held = difference(&scenario, &act, bench).unwrap_or(held);
    Failure { scenario, act, held }
}

impl Report {
    fn count(&mut self, kind: Kind, held: &Held) {
        let word = match &held.result {
            Comparison::NotChecked(reason) => {
                *self.not_checked.entry(reason.clone()).or_default() += 1;
                return;
            }
            Comparison::Same(observed) | Comparison::Different(observed) => word(observed),
        };
        self.checked += 1;
        *self.outcomes.entry(word).or_default() += 1;
        *self.kinds.entry(kind).or_default() += 1;
    }

    fn add(&mut self, other: Self) {
        self.checked += other.checked;
        let sums = [(&mut self.not_checked, other.not_checked), (&mut self.outcomes, other.outcomes)];
        for (total, part) in sums {
            for (key, count) in part {
                *total.entry(key).or_default() += count;
            }
        }
        for (kind, count) in other.kinds {
            *self.kinds.entry(kind).or_default() += count;
        }
        if self.failure.is_none() {
            self.failure = other.failure;
        }
    }
}

/// `allowed`, or the errno's name or number.
fn word(observed: &Observed) -> String {
    match observed {
        Observed::Allowed(_) => "allowed".to_owned(),
        Observed::Denied(errno) => errno.name().to_owned(),
        Observed::Other(number) => format!("errno {number}"),
    }
}
