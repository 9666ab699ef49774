//! Constraints: what must hold of two contexts beside the rules that allow (kernel: `policydb.c`, `read_cons_helper`).

use crate::Bitmap;
use crate::bytes::{Bytes, PolicyError};

/// Permissions of one class that need something to hold of the two contexts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Constraint {
    /// The bits of the permissions.
    pub permissions: u32,
    /// What must hold, operands before their operators.
    pub terms: Vec<Term>,
}

/// One word of a constraint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Term {
    /// Turns what stands before it.
    Not,
    /// Both of the two before it.
    And,
    /// One of the two before it.
    Or,
    /// The users of both contexts compared; `true` for "the same", `false` for "not the same".
    Users(bool),
    /// The types of both contexts compared.
    Types(bool),
    /// The roles of both contexts compared.
    Roles(Test),
    /// Two of their four levels compared.
    Levels(Levels, Test),
    /// Whether one side's user, role or type is one of a set (`true`) or not.
    Named {
        /// Whose.
        side: Side,
        /// Which part of the context.
        part: Part,
        /// Whether it must be in the set.
        within: bool,
        /// The values, less 1.
        values: Bitmap,
        /// The types and attributes as they were written, less 1; empty if not known.
        written: Bitmap,
    },
}

/// A part of a context.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// The user.
    User,
    /// The role.
    Role,
    /// The type.
    Type,
}

/// Whose context.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Who acts (`u1`, `r1`, `t1`).
    Source,
    /// What is acted on (`u2`, `r2`, `t2`).
    Target,
    /// Who changes a label, in `validatetrans` (`u3`, `r3`, `t3`).
    Changer,
}

/// How two roles or levels are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Test {
    /// They are the same.
    Same,
    /// They are not.
    Other,
    /// The first dominates the second.
    Dominates,
    /// The second dominates the first.
    DominatedBy,
    /// Neither dominates the other.
    Incomparable,
}

/// Which two levels are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Levels {
    /// Both low ones.
    L1L2,
    /// The source's low one, the target's high one.
    L1H2,
    /// The source's high one, the target's low one.
    H1L2,
    /// Both high ones.
    H1H2,
    /// The source's own.
    L1H1,
    /// The target's own.
    L2H2,
}

impl Constraint {
    /// Whether it compares levels, so that the policy's word for it is `mlsconstrain`.
    #[must_use]
    pub fn compares_levels(&self) -> bool {
        self.terms.iter().any(|term| matches!(term, Term::Levels(..)))
    }
}

/// The kernel's limit of operands that wait (`CEXPR_MAXDEPTH`).
const DEPTH: usize = 5;

/// Reads `count` constraints.
pub(crate) fn read(bytes: &mut Bytes<'_>, count: u32) -> Result<Vec<Constraint>, PolicyError> {
    const WHAT: &str = "a constraint";
    let mut all = Vec::new();
    for _ in 0..count {
        let permissions = bytes.u32(WHAT)?;
        let length = bytes.count(12, WHAT)?;
        let mut terms = Vec::with_capacity(length.min(64));
        let mut depth = 0_usize;
        for _ in 0..length {
            let term = term(bytes)?;
            // Two before an operator are needed, one stays; an operand adds one.
            let (needs, adds) = match term {
                Term::Not => (1, 1),
                Term::And | Term::Or => (2, 1),
                Term::Users(_) | Term::Types(_) | Term::Roles(_) | Term::Levels(..) | Term::Named { .. } => {
                    (0, 1)
                }
            };
            depth = depth
                .checked_sub(needs)
                .ok_or_else(|| bytes.bad("an operator of a constraint without operands"))?
                + adds;
            if depth > DEPTH {
                return Err(bytes.bad("a constraint that is nested too deeply"));
            }
            terms.push(term);
        }
        if depth != 1 {
            return Err(bytes.bad("a constraint that is no single expression"));
        }
        all.push(Constraint { permissions, terms });
    }
    Ok(all)
}

/// One word (kernel: `struct constraint_expr`).
fn term(bytes: &mut Bytes<'_>) -> Result<Term, PolicyError> {
    const WHAT: &str = "a constraint";
    let (kind, attribute, test) = (bytes.u32(WHAT)?, bytes.u32(WHAT)?, bytes.u32(WHAT)?);
    match kind {
        1 => Ok(Term::Not),
        2 => Ok(Term::And),
        3 => Ok(Term::Or),
        4 => compared(attribute, test).ok_or_else(|| bytes.bad("a comparison of a constraint that is none")),
        5 => {
            let values = bytes.bitmap()?;
            let (written, _without, _flags) = (bytes.bitmap()?, bytes.bitmap()?, bytes.u32(WHAT)?);
            named(attribute, test, values, written)
                .ok_or_else(|| bytes.bad("a set of a constraint that is none"))
        }
        _ => Err(bytes.bad("a word of a constraint that is none")),
    }
}

fn test(number: u32) -> Option<Test> {
    Some(match number {
        1 => Test::Same,
        2 => Test::Other,
        3 => Test::Dominates,
        4 => Test::DominatedBy,
        5 => Test::Incomparable,
        _ => return None,
    })
}

fn compared(attribute: u32, number: u32) -> Option<Term> {
    let levels = match attribute {
        1 | 4 => {
            let same = match number {
                1 => true,
                2 => false,
                _ => return None,
            };
            return Some(if attribute == 1 { Term::Users(same) } else { Term::Types(same) });
        }
        2 => return test(number).map(Term::Roles),
        32 => Levels::L1L2,
        64 => Levels::L1H2,
        128 => Levels::H1L2,
        256 => Levels::H1H2,
        512 => Levels::L1H1,
        1024 => Levels::L2H2,
        _ => return None,
    };
    test(number).map(|test| Term::Levels(levels, test))
}

fn named(attribute: u32, number: u32, values: Bitmap, written: Bitmap) -> Option<Term> {
    let side = match attribute & 24 {
        0 => Side::Source,
        8 => Side::Target,
        16 => Side::Changer,
        _ => return None,
    };
    let part = match attribute & !24 {
        1 => Part::User,
        2 => Part::Role,
        4 => Part::Type,
        _ => return None,
    };
    let within = match number {
        1 => true,
        2 => false,
        _ => return None,
    };
    Some(Term::Named { side, part, within, values, written })
}
