//! Where containers stand in a description once something was written into it.

use std::sync::Arc;

use mivask_core::fact::Provenance;
use mivask_core::scene::Workload;
use similar::{DiffOp, TextDiff};

/// The places of a text after a change of it.
pub(super) struct Moved<'t> {
    old: Vec<&'t str>,
    new: Vec<&'t str>,
    ops: Vec<DiffOp>,
}

impl<'t> Moved<'t> {
    pub(super) fn between(old: &'t str, new: &'t str) -> Self {
        let ops = TextDiff::from_lines(old, new).ops().to_vec();
        Self { old: old.lines().collect(), new: new.lines().collect(), ops }
    }

    /// Lets the containers of a workload stand where they are now.
    pub(super) fn follow(&self, workload: &mut Arc<Workload>) {
        for container in &mut Arc::make_mut(workload).containers {
            if let Provenance::Document { line, column, .. } = &mut container.from {
                (*line, *column) = self.place(*line, *column);
            }
        }
    }

    /// Line and column, both from 1. In a line that was changed, what follows the change keeps its distance from the end.
    fn place(&self, line: usize, column: usize) -> (usize, usize) {
        let at = line.saturating_sub(1);
        let Some(op) = self.ops.iter().find(|op| op.old_range().contains(&at)) else { return (line, column) };
        let (from, to) = (op.old_range(), op.new_range());
        let then = (to.start + (at - from.start)).min(to.end.max(to.start + 1) - 1);
        let (Some(old), Some(new)) = (self.old.get(at), self.new.get(then)) else {
            return (then + 1, column);
        };
        let same = |(one, other): &(char, char)| one == other;
        let before = old.chars().zip(new.chars()).take_while(same).count();
        let behind = old.chars().rev().zip(new.chars().rev()).take_while(same).count();
        let (length, now) = (old.chars().count(), new.chars().count());
        let column = if column <= before + 1 || column + behind <= length {
            column
        } else {
            (column + now).saturating_sub(length)
        };
        (then + 1, column)
    }
}

#[cfg(test)]
mod tests {
    use super::Moved;

    #[test]
    fn places_move_with_what_is_written_above_and_before() {
        let old = "a:\n  b: { x: 1 }\n  c: [{ n: 1 }, { n: 2 }]\nd: 1\n";
        let new = "a:\n  b: { x: 1 }\n  more: 1\n  c: [{ n: 1, m: 5 }, { n: 2 }]\nd: 1\n";
        let moved = Moved::between(old, new);
        for (was, is) in [((1, 1), (1, 1)), ((2, 6), (2, 6)), ((4, 1), (5, 1)), ((9, 9), (9, 9))] {
            assert_eq!(moved.place(was.0, was.1), is, "{was:?}");
        }
        // Lines that are changed together are followed one by one.
        let moved = Moved::between("c: [{ n: 1 }, { n: 2 }]\n", "c: [{ n: 1, m: 5 }, { n: 2 }]\n");
        assert_eq!((moved.place(1, 5), moved.place(1, 15)), ((1, 5), (1, 21)));
    }
}
