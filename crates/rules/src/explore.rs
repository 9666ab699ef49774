//! Trying every possibility of the facts that an act turns out to need.
//!
//! The act is decided again and again; each time it asks for an unknown fact, the next
//! untried possibility is taken. Only facts the act really meets are varied, so a scene
//! may lack many facts and still answer quickly. Past [`MOST_RUNS`] runs the rest is
//! left out and the answer says so.

use std::collections::BTreeSet;
use std::sync::Arc;

use mivask_model::fact::Unknown;
use mivask_model::outcome::Verdict;
use mivask_model::usual::Usual;

use crate::trace::Step;
use crate::witness::{MissingFact, Witness};

/// How many combinations of unknown facts are tried for one act.
pub const MOST_RUNS: usize = 64;

#[derive(Clone, PartialEq, Eq, Debug)]
struct Choice {
    question: MissingFact,
    unknown: Unknown,
    /// What it usually is, and which possibility that is.
    usual: Option<(Usual, usize)>,
    taken: usize,
    count: usize,
    when: String,
}

/// A witness that replays the choices of a run and takes the first possibility of new ones.
#[derive(Debug)]
pub struct Explorer {
    choices: Vec<Choice>,
    replayed: usize,
    steps: Vec<Step>,
    assumptions: BTreeSet<Arc<str>>,
    /// Whether new choices are taken as they usually are.
    as_usual: bool,
}

impl Explorer {
    const fn new(choices: Vec<Choice>, as_usual: bool) -> Self {
        Self { choices, replayed: 0, steps: Vec::new(), assumptions: BTreeSet::new(), as_usual }
    }
}

impl Witness for Explorer {
    const TRACING: bool = true;

    fn step(&mut self, step: impl FnOnce() -> Step) {
        self.steps.push(step());
    }

    fn assume(&mut self, text: impl FnOnce() -> Arc<str>) {
        self.assumptions.insert(text());
    }

    fn is_as_usual(&self) -> bool {
        self.as_usual
    }

    fn took_first(&self, is: impl Fn(&MissingFact) -> bool) -> bool {
        self.choices[..self.replayed].iter().any(|choice| choice.taken == 0 && is(&choice.question))
    }

    fn choose_usually(
        &mut self,
        question: MissingFact,
        unknown: &Unknown,
        count: usize,
        (usual, describe): (impl FnOnce() -> Option<(Usual, usize)>, impl Fn(usize) -> String),
    ) -> usize {
        let asked = self.choices[..self.replayed].iter().find(|choice| choice.question == question);
        if let Some(choice) = asked {
            return choice.taken;
        }
        if self.replayed == self.choices.len() {
            let usual = usual().filter(|(_, option)| *option < count);
            let taken = usual.as_ref().filter(|_| self.as_usual).map_or(0, |(_, option)| *option);
            let choice =
                Choice { question, unknown: unknown.clone(), usual, taken, count, when: String::new() };
            self.choices.push(choice);
        }
        let choice = &mut self.choices[self.replayed];
        choice.when = describe(choice.taken);
        self.replayed += 1;
        choice.taken
    }
}

/// The outcome of an act as far as the facts settle it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Decision {
    /// One outcome.
    Settled(Verdict),
    /// The outcome depends on a fact.
    Asks {
        /// The missing fact.
        unknown: Unknown,
        /// Each possibility with what follows from it.
        options: Vec<(String, Self)>,
        /// What it usually is, and which of `options` that is.
        usual: Option<(Usual, usize)>,
    },
}

/// One possible ending with the conditions that lead to it.
#[derive(Clone, PartialEq, Eq, Debug)]
#[non_exhaustive]
pub struct Ending {
    /// The missing facts and what each would have to be.
    pub conditions: Vec<(Unknown, String)>,
    /// How the act then ends.
    pub verdict: Verdict,
}

impl Decision {
    /// Every possible ending, in the order the possibilities were tried.
    #[must_use]
    pub fn endings(&self) -> Vec<Ending> {
        match self {
            Self::Settled(verdict) => vec![Ending { conditions: Vec::new(), verdict: verdict.clone() }],
            Self::Asks { unknown, options, .. } => {
                let mut all = Vec::new();
                for (when, decision) in options {
                    for mut ending in decision.endings() {
                        ending.conditions.insert(0, (unknown.clone(), when.clone()));
                        all.push(ending);
                    }
                }
                all
            }
        }
    }
}

/// Everything that came out of trying the possibilities of one act.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Explored {
    /// The outcome, with facts that turn out not to matter left out.
    pub decision: Decision,
    /// The steps of the first run.
    pub steps: Vec<Step>,
    /// What any run took for granted.
    pub assumptions: BTreeSet<Arc<str>>,
    /// Whether there were more than [`MOST_RUNS`] combinations.
    pub cut_short: bool,
}

/// One act where each missing fact that is usually one thing is so.
#[derive(Clone, Debug)]
pub struct AsUsual {
    /// The checks; the first possibility of the other missing facts.
    pub steps: Vec<Step>,
    /// How it ends, for each possibility of the other missing facts.
    pub verdicts: Vec<Verdict>,
}

/// Decides an act where each missing fact that is usually one thing is so.
pub fn follow_usual(decide: impl FnMut(&mut Explorer) -> Verdict) -> AsUsual {
    let Runs { all, first_steps, .. } = runs(decide, true);
    AsUsual { steps: first_steps, verdicts: all.into_iter().map(|run| run.verdict).collect() }
}

struct Run {
    choices: Vec<Choice>,
    verdict: Verdict,
}

/// Decides an act under every combination of the unknown facts it meets.
pub fn explore(decide: impl FnMut(&mut Explorer) -> Verdict) -> Explored {
    let Runs { all, first_steps, assumptions, cut_short } = runs(decide, false);
    Explored { decision: merge(&all, 0), steps: first_steps, assumptions, cut_short }
}

/// What came out of every combination, in the order they were tried.
struct Runs {
    all: Vec<Run>,
    first_steps: Vec<Step>,
    assumptions: BTreeSet<Arc<str>>,
    cut_short: bool,
}

/// Tries every combination, at most [`MOST_RUNS`]; with `as_usual`, facts that are usually one thing have that one possibility.
fn runs(mut decide: impl FnMut(&mut Explorer) -> Verdict, as_usual: bool) -> Runs {
    let mut all: Vec<Run> = Vec::new();
    let mut choices: Vec<Choice> = Vec::new();
    let mut first_steps = None;
    let mut assumptions = BTreeSet::new();
    let is_done = |choice: &Choice| choice.taken + 1 == choice.count || as_usual && choice.usual.is_some();
    loop {
        let mut explorer = Explorer::new(choices, as_usual);
        let verdict = decide(&mut explorer);
        assumptions.append(&mut explorer.assumptions);
        first_steps.get_or_insert(explorer.steps);
        choices = explorer.choices;
        all.push(Run { choices: choices.clone(), verdict });
        // The next combination: advance the last choice that has possibilities left.
        while choices.last().is_some_and(is_done) {
            choices.pop();
        }
        let cut_short = all.len() >= MOST_RUNS;
        match choices.last_mut() {
            Some(choice) if !cut_short => choice.taken += 1,
            unfinished => {
                let cut_short = unfinished.is_some();
                return Runs { all, first_steps: first_steps.unwrap_or_default(), assumptions, cut_short };
            }
        }
    }
}

fn merge(runs: &[Run], depth: usize) -> Decision {
    let Some(choice) = runs[0].choices.get(depth) else {
        return Decision::Settled(runs[0].verdict.clone());
    };
    // Possibilities with the same consequences are one: "when a, or b".
    let mut options: Vec<(String, Decision)> = Vec::new();
    let mut usual = None;
    for same in runs.chunk_by(|a, b| a.choices[depth].taken == b.choices[depth].taken) {
        let Choice { when, taken, .. } = &same[0].choices[depth];
        let decision = merge(same, depth + 1);
        let at = match options.iter().position(|(_, known)| *known == decision) {
            Some(at) => {
                let whens = &mut options[at].0;
                whens.push_str(", or ");
                whens.push_str(when);
                at
            }
            None => {
                options.push((when.clone(), decision));
                options.len() - 1
            }
        };
        if let Some((known, option)) = &choice.usual
            && option == taken
        {
            usual = Some((known.clone(), at));
        }
    }
    match options.as_slice() {
        [(_, only)] => only.clone(),
        _ => Decision::Asks { unknown: choice.unknown.clone(), options, usual },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_model::outcome::{Effect, Errno};

    fn ask(witness: &mut Explorer, name: &'static str, count: usize) -> usize {
        witness.choose(MissingFact::Setting(name), &Unknown::new(name, ""), count, |option| {
            format!("{name}={option}")
        })
    }

    #[test]
    fn a_fact_that_changes_nothing_is_left_out() {
        let explored = explore(|witness| {
            ask(witness, "a", 3);
            Ok(Effect::default())
        });
        assert_eq!(explored.decision, Decision::Settled(Ok(Effect::default())));
    }

    #[test]
    fn only_the_facts_that_matter_are_listed() {
        let explored = explore(|witness| {
            let irrelevant = ask(witness, "a", 2);
            assert_eq!(irrelevant, ask(witness, "a", 2), "one question, one answer");
            if ask(witness, "b", 2) == 0 { Ok(Effect::default()) } else { Err(Errno::EACCES) }
        });
        let endings = explored.decision.endings();
        let conditions: Vec<_> =
            endings.iter().map(|e| (e.conditions[0].1.as_str(), e.verdict.is_ok())).collect();
        assert_eq!(conditions, [("b=0", true), ("b=1", false)]);
    }

    #[test]
    fn possibilities_with_the_same_consequences_are_one() {
        let explored = explore(|witness| match ask(witness, "a", 3) {
            1 => Ok(Effect::default()),
            _ => Err(Errno::EACCES),
        });
        let endings = explored.decision.endings();
        let whens: Vec<_> = endings.iter().map(|ending| ending.conditions[0].1.as_str()).collect();
        assert_eq!(whens, ["a=0, or a=2", "a=1"]);
    }

    #[test]
    fn a_later_question_may_hang_on_an_earlier_answer() {
        let explored = explore(|witness| {
            if ask(witness, "a", 2) == 1 && ask(witness, "b", 2) == 1 {
                Err(Errno::ENOENT)
            } else {
                Ok(Effect::default())
            }
        });
        assert_eq!(explored.decision.endings().len(), 3);
        assert!(!explored.cut_short);
    }

    #[test]
    fn too_many_combinations_are_cut_and_said_to_be() {
        let names = ["a", "b", "c", "d", "e", "f", "g"];
        let explored = explore(|witness| {
            let sum: usize = names.iter().map(|name| ask(witness, name, 2)).sum();
            if sum.is_multiple_of(2) { Ok(Effect::default()) } else { Err(Errno::EACCES) }
        });
        assert!(explored.cut_short);
    }
}
