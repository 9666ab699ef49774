//! How an act that depends on missing facts ends where each of them is as usual.

use std::collections::BTreeSet;

use mivask_model::outcome::{Effect, Verdict};
use mivask_model::usual::Usual;

use crate::explore::{Decision, Explored};
use crate::settle::{Outcome, agreed};

/// The ending that is usual. It is never more than that: the outcome stays `depends`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Usually {
    /// How the act ends: allowed or denied.
    pub outcome: Outcome,
    /// What it leaves then.
    pub effect: Effect,
    /// Which usual facts that rests on.
    pub rests_on: BTreeSet<Usual>,
    /// The conditions of the possibilities that are usual, as the endings name them.
    pub conditions: BTreeSet<String>,
}

/// The usual ending; `None` where something it depends on is not usually one thing or the other.
#[must_use]
pub fn usually(explored: &Explored) -> Option<Usually> {
    if explored.cut_short {
        return None;
    }
    let mut found = Found::default();
    let verdicts = found.follow(&explored.decision)?;
    let outcome = match (verdicts.iter().all(|one| one.is_ok()), verdicts.iter().any(|one| one.is_ok())) {
        (true, _) => Outcome::Allowed,
        (false, false) => {
            let mut all: Vec<_> = verdicts.iter().filter_map(|one| one.as_ref().err()).collect();
            all.dedup();
            Outcome::Denied(if let [only] = all.as_slice() { Some(**only) } else { None })
        }
        (false, true) => return None,
    };
    let effect = if outcome == Outcome::Allowed { agreed(verdicts.into_iter()) } else { Effect::default() };
    let Found { rests_on, conditions } = found;
    (!rests_on.is_empty()).then_some(Usually { outcome, effect, rests_on, conditions })
}

#[derive(Default)]
struct Found {
    rests_on: BTreeSet<Usual>,
    conditions: BTreeSet<String>,
}

impl Found {
    /// Every ending that is left where usual facts are as usual; `None` where one of the others decides between allowed and denied.
    fn follow<'d>(&mut self, decision: &'d Decision) -> Option<Vec<&'d Verdict>> {
        match decision {
            Decision::Settled(verdict) => Some(vec![verdict]),
            Decision::Asks { options, usual: Some((usual, at)), .. } => {
                let (when, decision) = options.get(*at)?;
                self.rests_on.insert(usual.clone());
                self.conditions.insert(when.clone());
                self.follow(decision)
            }
            Decision::Asks { options, usual: None, .. } => {
                let mut all = Vec::new();
                for (_, decision) in options {
                    all.extend(self.follow(decision)?);
                }
                let mixed =
                    all.iter().any(|verdict| verdict.is_ok()) && all.iter().any(|verdict| verdict.is_err());
                (!mixed).then_some(all)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use mivask_model::fact::Unknown;
    use mivask_model::outcome::Errno;
    use mivask_model::usual::UsualRule;

    use super::*;
    use crate::explore::{Explorer, explore};
    use crate::witness::{MissingFact, Witness};

    fn ask(w: &mut Explorer, name: &'static str, usual: Option<usize>) -> bool {
        let says = || usual.map(|option| (Usual::new(UsualRule::NewName, name), option));
        let words = (says, |option| format!("{name}={option}"));
        w.choose_usually(MissingFact::Setting(name), &Unknown::new(name, ""), 2, words) == 0
    }

    fn verdict(yes: bool) -> Verdict {
        if yes { Ok(Effect::default()) } else { Err(Errno::EACCES) }
    }

    #[test]
    fn the_usual_possibilities_are_followed() {
        let explored = explore(|w| verdict(ask(w, "a", Some(1)) || ask(w, "b", Some(0))));
        let found = usually(&explored).unwrap();
        assert_eq!(found.outcome, Outcome::Allowed);
        assert_eq!(found.rests_on.len(), 2);
        assert_eq!(found.conditions, ["a=1", "b=0"].map(str::to_owned).into());
    }

    #[test]
    fn a_fact_that_is_not_usual_leaves_no_usual_ending() {
        let explored = explore(|w| verdict(ask(w, "a", None) && ask(w, "b", Some(0))));
        assert_eq!(usually(&explored), None);
        let without = explore(|w| verdict(ask(w, "a", None)));
        assert_eq!(usually(&without), None);
    }

    #[test]
    fn one_that_matters_only_otherwise_is_no_obstacle() {
        let explored = explore(|w| verdict(ask(w, "a", Some(0)) || ask(w, "b", None)));
        assert_eq!(usually(&explored).map(|one| one.outcome), Some(Outcome::Allowed));
    }

    #[test]
    fn two_errnos_are_denied_without_one() {
        let explored = explore(|w| {
            let errno = if ask(w, "a", None) { Errno::ENOENT } else { Errno::EACCES };
            if ask(w, "b", Some(0)) { Err(errno) } else { Ok(Effect::default()) }
        });
        assert_eq!(usually(&explored).map(|one| one.outcome), Some(Outcome::Denied(None)));
    }
}
