//! One act with every check.

use std::io::{self, Write};

use mivask_core::act::quoted;
use mivask_core::identity::IdentityField;
use mivask_core::question::Answer;
use mivask_core::stage::Actor;
use mivask_core::trace::{Step, StepResult};

use super::{Layout, acts, folded, paragraph};
use crate::layout::Counted;
use crate::safe::safe;
use crate::style::{BAD, FAINT, GOOD, STRONG, paint};
use crate::table::Table;

/// The answer, who acts and since when, then each check in the kernel's order.
///
/// # Errors
/// Whatever `out` refuses.
pub fn why(out: &mut dyn Write, actor: &Actor, answer: &Answer, layout: Layout<'_>) -> io::Result<()> {
    let out = &mut Counted::new(out);
    let layout = layout.of(&actor.name);
    acts::act(out, answer, layout)?;
    if !answer.steps.is_empty() {
        background(out, actor, answer, layout)?;
    }
    acts::taken_for_granted(out, std::slice::from_ref(answer), layout)
}

fn background(out: &mut dyn Write, actor: &Actor, answer: &Answer, layout: Layout<'_>) -> io::Result<()> {
    writeln!(out, "\n{}", paint(STRONG, &format!("Who {} is", safe(&actor.name))))?;
    let mut table = Table::new(&["field", "value", "from"]);
    let shown = [IdentityField::Uid, IdentityField::Gid, IdentityField::Group, IdentityField::Umask];
    for fact in actor.facts().iter().filter(|fact| shown.contains(&fact.field)) {
        table.row(vec![
            fact.field.word().to_owned(),
            super::identity::value(fact, layout),
            paint(FAINT, &safe(&fact.from.to_string())),
        ]);
    }
    write!(out, "{}", table.render(layout))?;
    let title = match (answer.depends_on.is_empty(), &answer.usually) {
        (true, _) => "Checks, in the kernel's order",
        (false, Some(_)) => "Checks, where it is as usual",
        (false, None) => "Checks, for the first possibility",
    };
    writeln!(out, "\n{}", paint(STRONG, title))?;
    steps(out, &answer.steps, layout)?;
    if let Some(errno) = answer.outcome.errno() {
        writeln!(out)?;
        paragraph(out, &format!("{errno}: {}", errno.meaning()), 2, layout)?;
    }
    Ok(())
}

/// One line a check where the terminal is wide enough, else the fact and its place below it.
fn steps(out: &mut dyn Write, steps: &[Step], layout: Layout<'_>) -> io::Result<()> {
    let mut table = Table::new(&["", "path", "check", "fact", "from"]);
    for step in steps {
        let result = match step.result {
            StepResult::Passed => paint(GOOD, "ok"),
            StepResult::Failed(errno) => paint(BAD, errno.name()),
        };
        let from = paint(FAINT, &safe(&step.from.to_string()));
        table.row(vec![result, quoted(&step.path), step.check.code().to_owned(), safe(&step.fact), from]);
    }
    if table.fits(layout) {
        return write!(out, "{}", table.render(layout));
    }
    for step in steps {
        let (style, word) = match step.result {
            StepResult::Passed => (GOOD, "ok"),
            StepResult::Failed(errno) => (BAD, errno.name()),
        };
        let head = format!("{} ({})", quoted(&step.path), step.check.code());
        writeln!(out, "  {}{}", paint(style, &format!("{word:<8}")), folded(&head, 10, layout.width))?;
        paragraph(out, &safe(&step.fact), 10, layout)?;
        let from = folded(&safe(&step.from.to_string()), 10, layout.width);
        writeln!(out, "          {}", paint(FAINT, &from))?;
    }
    Ok(())
}
