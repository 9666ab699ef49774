//! One act with every check.

use std::collections::BTreeSet;
use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::question::Answer;
use mivask_core::stage::{Actor, Stage};
use mivask_core::trace::StepResult;

use super::{Layout, acts, paragraph};
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, STRONG, paint};
use crate::table::Table;

/// The answer, who acts and since when, then each check in the kernel's order.
///
/// # Errors
/// Whatever `out` refuses.
pub fn why(
    out: &mut dyn Write,
    stage: &Stage,
    actor: &Actor,
    answer: &Answer,
    layout: Layout,
) -> io::Result<()> {
    acts::act(out, answer, layout)?;
    if !answer.steps.is_empty() {
        background(out, stage, actor, answer, layout)?;
    }
    acts::taken_for_granted(out, std::slice::from_ref(answer), layout)
}

fn background(
    out: &mut dyn Write,
    stage: &Stage,
    actor: &Actor,
    answer: &Answer,
    layout: Layout,
) -> io::Result<()> {
    writeln!(out, "\n{}", paint(STRONG, &format!("Who {} is", safe(&stage.name_of(actor)))))?;
    let mut table = Table::new(&["field", "value", "from"]);
    let shown: BTreeSet<&str> = ["uid", "gid", "group", "umask"].into();
    for fact in actor.facts().iter().filter(|fact| shown.contains(fact.field)) {
        table.row(vec![
            fact.field.to_owned(),
            safe(&fact.value),
            paint(FAINT, &safe(&fact.from.to_string())),
        ]);
    }
    write!(out, "{}", table.render(layout.width))?;
    let title = if answer.depends_on.is_empty() {
        "Checks, in the kernel's order"
    } else {
        "Checks, for the first possibility"
    };
    writeln!(out, "\n{}", paint(STRONG, title))?;
    let mut table = Table::new(&["", "path", "check", "fact", "from"]);
    for step in &answer.steps {
        let result = match step.result {
            StepResult::Passed => paint(GOOD, "ok"),
            StepResult::Failed(errno) => paint(BAD, errno.name()),
        };
        let from = paint(FAINT, &safe(&step.from.to_string()));
        table.row(vec![result, quoted(&step.path), step.check.code().to_owned(), safe(&step.fact), from]);
    }
    write!(out, "{}", table.render(layout.width))?;
    if let Some(errno) = answer.outcome.errno() {
        writeln!(out)?;
        paragraph(out, &format!("{errno}: {}", errno.meaning()), 2, layout)?;
    }
    Ok(())
}
