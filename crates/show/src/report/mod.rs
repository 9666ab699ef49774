//! One page for the review: everything the other commands answer, in one file that needs nothing else.

mod named;
mod page;
mod shared;
mod view;

use std::collections::BTreeSet;
use std::io::{self, BufWriter, Write};
use std::sync::Arc;

use askama::Template;
use mivask_core::exposure::Finding;
use mivask_core::handoff::Handoff;
use mivask_core::names::AccountNames;
use mivask_core::question::{AccessRow, Answer, MountRow, Remark};
use mivask_core::remedy::Remedies;
use mivask_core::stage::{Actor, Stage};

use crate::remedy::Written;
use crate::upheld::Run;

/// Everything that is on the page.
#[derive(Debug)]
pub struct Report<'a> {
    /// What it is about.
    pub title: String,
    /// The input as the user named it.
    pub input: String,
    /// What differs from the input, as sentences.
    pub changes: Vec<String>,
    /// The actors.
    pub stage: &'a Stage,
    /// What is probably not meant.
    pub remarks: Vec<Remark>,
    /// The mounts of an actor: asked for while the page is written, since those of thousands are large.
    pub mounts: fn(&Stage, &Actor) -> Vec<MountRow>,
    /// The matrix, grouped by actor.
    pub access: Vec<AccessRow>,
    /// What is denied, acts with the same reason together.
    pub denied: Vec<Denied>,
    /// How many more reasons there are.
    pub more_denied: usize,
    /// What answers of the matrix depend on.
    pub open: Vec<Open>,
    /// Which containers can use files another one creates.
    pub handoffs: Vec<Handoff>,
    /// What is open wider than needed.
    pub findings: Vec<Finding>,
    /// What is expected, and whether it holds.
    pub upheld: Run,
    /// What was taken for granted.
    pub assumptions: BTreeSet<Arc<str>>,
    /// The account files whose names stand in place of ids; `None` where ids are wanted.
    pub names: Option<&'a AccountNames>,
}

/// Acts that are denied for one reason.
#[derive(Clone, Debug)]
pub struct Denied {
    /// The first of them, with its checks.
    pub answer: Answer,
    /// The others, as sentences.
    pub others: Vec<String>,
    /// The actor and path of each, for the matrix: its cells lead here.
    pub cells: Vec<(String, Vec<u8>, &'static str)>,
    /// What would let the first succeed, with what to paste; `None` where no one looked.
    pub remedies: Option<(Remedies, Vec<Written>)>,
}

/// A missing fact, and that answers depend on.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Open {
    /// The fact.
    pub fact: String,
    /// What would settle it.
    pub settle: String,
    /// One act that depends on it.
    pub act: String,
    /// How many answers of the matrix do.
    pub answers: usize,
}

/// Writes the page.
///
/// # Errors
/// Whatever `out` refuses.
pub fn html(out: &mut dyn Write, report: Report<'_>) -> io::Result<()> {
    let page = page::Page::new(&report);
    // Of thousands of pods each of the three is large: what was answered, its text, and the page, which is never held whole.
    drop(report);
    let mut out = BufWriter::new(out);
    page.write_into(&mut out)?;
    out.flush()
}
