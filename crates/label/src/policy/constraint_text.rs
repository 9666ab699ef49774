//! A constraint in the policy language's words.

use super::Policy;
use super::constraint::{Constraint, Levels, Part, Side, Term, Test};

impl Policy {
    /// What a constraint demands, such as `l1 dom l2 or t1 == { mlsfileread }`, in the words of the policy language.
    #[must_use]
    pub fn constraint_text(&self, constraint: &Constraint) -> String {
        // Each operand with whether it needs brackets inside a larger expression.
        let mut stack: Vec<(String, bool)> = Vec::new();
        let bracketed = |(text, compound): (String, bool)| if compound { format!("({text})") } else { text };
        for term in &constraint.terms {
            let written = match term {
                Term::Not => {
                    let inner = stack.pop().map(bracketed).unwrap_or_default();
                    (format!("not {inner}"), false)
                }
                Term::And | Term::Or => {
                    let second = stack.pop().map(bracketed).unwrap_or_default();
                    let first = stack.pop().map(bracketed).unwrap_or_default();
                    let word = if *term == Term::And { "and" } else { "or" };
                    (format!("{first} {word} {second}"), true)
                }
                Term::Users(same) => (format!("u1 {} u2", sign(*same)), false),
                Term::Types(same) => (format!("t1 {} t2", sign(*same)), false),
                Term::Roles(test) => (format!("r1 {} r2", word(*test)), false),
                Term::Levels(levels, test) => {
                    let (first, second) = level_names(*levels);
                    (format!("{first} {} {second}", word(*test)), false)
                }
                Term::Named { side, part, within, values, written } => {
                    (self.named(*side, *part, *within, values, written), false)
                }
            };
            stack.push(written);
        }
        stack.pop().map(|(text, _)| text).unwrap_or_default()
    }

    fn named(
        &self,
        side: Side,
        part: Part,
        within: bool,
        values: &crate::Bitmap,
        written: &crate::Bitmap,
    ) -> String {
        let names = match part {
            Part::User => &self.symbols.user_names,
            Part::Role => &self.symbols.role_names,
            Part::Type => &self.symbols.type_names,
        };
        let letter = match part {
            Part::User => 'u',
            Part::Role => 'r',
            Part::Type => 't',
        };
        let number = match side {
            Side::Source => 1,
            Side::Target => 2,
            Side::Changer => 3,
        };
        let shown = if written.is_empty() { values } else { written };
        let list: Vec<&str> = shown.iter().filter_map(|value| names.name(value + 1)).collect();
        let set = match list.as_slice() {
            [] => "{ }".to_owned(),
            [one] => (*one).to_owned(),
            several => format!("{{ {} }}", several.join(" ")),
        };
        format!("{letter}{number} {} {set}", sign(within))
    }
}

const fn sign(same: bool) -> &'static str {
    if same { "==" } else { "!=" }
}

const fn word(test: Test) -> &'static str {
    match test {
        Test::Same => "eq",
        Test::Other => "!=",
        Test::Dominates => "dom",
        Test::DominatedBy => "domby",
        Test::Incomparable => "incomp",
    }
}

const fn level_names(levels: Levels) -> (&'static str, &'static str) {
    match levels {
        Levels::L1L2 => ("l1", "l2"),
        Levels::L1H2 => ("l1", "h2"),
        Levels::H1L2 => ("h1", "l2"),
        Levels::H1H2 => ("h1", "h2"),
        Levels::L1H1 => ("l1", "h1"),
        Levels::L2H2 => ("l2", "h2"),
    }
}
