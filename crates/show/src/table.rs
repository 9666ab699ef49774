//! Aligned columns without lines; the widest cells fold where the terminal ends.
//!
//! A cell folds between words, else behind a separator of a path or a name. What has neither is never cut: a number
//! that is torn in two is worse than a line that is too long.

use std::borrow::Cow;

use mivask_core::prepare::HOST;

use crate::layout::{Layout, columns};
use crate::style::{STRONG, paint};

/// Blanks before every column.
const GAP: usize = 2;

/// Columns of a terminal at least; a narrower one breaks lines itself.
const NARROWEST: usize = 60;

/// Rows under a header.
#[derive(Clone, Debug, Default)]
pub(crate) struct Table {
    rows: Vec<Vec<String>>,
    /// Whom a row is about, where the table is about several.
    actors: Vec<Option<String>>,
    /// The columns whose ids are those that are stored.
    stored: &'static [usize],
}

impl Table {
    /// A table with these column titles.
    pub(crate) fn new(titles: &[&str]) -> Self {
        let titles = titles.iter().map(|title| paint(STRONG, title)).collect();
        Self { rows: vec![titles], actors: vec![None], stored: &[] }
    }

    /// The same with ids as they are stored in some columns.
    pub(crate) fn with_stored(self, stored: &'static [usize]) -> Self {
        Self { stored, ..self }
    }

    /// Adds a row; every cell must be safe to print.
    pub(crate) fn row(&mut self, cells: Vec<String>) {
        self.rows.push(cells);
        self.actors.push(None);
    }

    /// Adds a row about an actor.
    pub(crate) fn row_of(&mut self, actor: &str, cells: Vec<String>) {
        self.rows.push(cells);
        self.actors.push(Some(actor.to_owned()));
    }

    /// With names in place of ids, where that is wanted.
    fn named(&self, layout: Layout<'_>) -> Cow<'_, Self> {
        if layout.names.is_none() {
            return Cow::Borrowed(self);
        }
        let mut table = self.clone();
        for (row, actor) in table.rows.iter_mut().zip(&self.actors) {
            for (column, cell) in row.iter_mut().enumerate() {
                let own = actor.as_deref().unwrap_or(layout.actor);
                let actor = if self.stored.contains(&column) { HOST } else { own };
                *cell = layout.named_at(actor, cell).into_owned();
            }
        }
        Cow::Owned(table)
    }

    /// Whether it can be drawn without folding a cell.
    pub(crate) fn fits(&self, layout: Layout<'_>) -> bool {
        layout.width.is_none_or(|width| total(&self.named(layout).widths(columns)) <= width)
    }

    /// The table as lines, indented by two blanks and folded at the terminal's width if there is one.
    pub(crate) fn render(&self, layout: Layout<'_>) -> String {
        self.named(layout).drawn(layout.width)
    }

    fn drawn(&self, width: Option<usize>) -> String {
        let mut widths = self.widths(columns);
        if let Some(width) = width {
            self.narrow(&mut widths, width.max(NARROWEST));
        }
        let mut out = String::new();
        for row in &self.rows {
            let cells: Vec<Vec<String>> =
                row.iter().zip(&widths).map(|(cell, width)| folded(cell, *width)).collect();
            let height = cells.iter().map(Vec::len).max().unwrap_or_default();
            for line in 0..height {
                let mut text = String::new();
                for (cell, width) in cells.iter().zip(&widths) {
                    let part = cell.get(line).map_or("", String::as_str);
                    text.push_str(&" ".repeat(GAP));
                    text.push_str(part);
                    text.push_str(&" ".repeat(width.saturating_sub(columns(part))));
                }
                out.push_str(text.trim_end());
                out.push('\n');
            }
        }
        out
    }

    /// The widest cell of each column, as `measure` counts one.
    fn widths(&self, measure: fn(&str) -> usize) -> Vec<usize> {
        let count = self.rows.iter().map(Vec::len).max().unwrap_or_default();
        let of = |column| self.rows.iter().filter_map(move |row: &Vec<String>| row.get(column));
        (0..count).map(|column| of(column).map(|cell| measure(cell)).max().unwrap_or_default()).collect()
    }

    /// Takes from the widest column again and again, the rightmost of equals: first as far as its cells fold between
    /// words, then within them.
    fn narrow(&self, widths: &mut [usize], most: usize) {
        for least in [self.widths(longest_word), self.widths(longest_piece)] {
            while total(widths) > most {
                let foldable = (0..widths.len()).filter(|column| widths[*column] > least[*column]);
                let Some(widest) = foldable.max_by_key(|column| widths[*column]) else { break };
                widths[widest] -= 1;
            }
        }
    }
}

fn total(widths: &[usize]) -> usize {
    widths.iter().map(|width| width + GAP).sum()
}

/// Where a word may fold: behind what separates the parts of paths, names and sets of flags.
const SEPARATORS: [char; 5] = ['/', '.', ':', ',', '|'];

/// The parts of a word that stay whole, each with its separator.
fn pieces(word: &str) -> Vec<&str> {
    let mut all = Vec::new();
    let mut start = 0;
    let mut chars = word.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        let Some((next, following)) = chars.peek() else { break };
        // Digits around a separator are one number, and a separator at a beginning belongs to what follows.
        if SEPARATORS.contains(&c) && following.is_alphabetic() && start < at {
            all.push(&word[start..*next]);
            start = *next;
        }
    }
    all.push(&word[start..]);
    all
}

fn longest_word(cell: &str) -> usize {
    let (_, text, _) = painted(cell);
    text.split(' ').map(columns).max().unwrap_or_default()
}

fn longest_piece(cell: &str) -> usize {
    let (_, text, _) = painted(cell);
    text.split(' ').flat_map(pieces).map(columns).max().unwrap_or_default()
}

/// A cell between the code that begins its colour and the one that ends it.
fn painted(cell: &str) -> (&str, &str, &str) {
    let begin = if cell.starts_with('\u{1b}') { cell.rfind("\u{1b}[0m").and(cell.find('m')) } else { None };
    let Some(begin) = begin.map(|at| at + 1) else { return ("", cell, "") };
    // A style may be several codes.
    let begin = cell[begin..]
        .starts_with('\u{1b}')
        .then(|| cell[begin..].find('m'))
        .flatten()
        .map_or(begin, |at| begin + at + 1);
    match cell.rfind("\u{1b}[0m") {
        Some(end) if end >= begin && !cell[begin..end].contains('\u{1b}') => {
            (&cell[..begin], &cell[begin..end], &cell[end..])
        }
        Some(_) | None => ("", cell, ""),
    }
}

/// The lines of a cell, each in the cell's colour.
fn folded(cell: &str, width: usize) -> Vec<String> {
    if columns(cell) <= width {
        return vec![cell.to_owned()];
    }
    let (before, text, after) = painted(cell);
    let mut lines: Vec<String> = Vec::new();
    let mut line = String::new();
    for word in text.split(' ') {
        // A word that has room on a line of its own stays whole.
        let parts = if columns(word) <= width { vec![word] } else { pieces(word) };
        for (index, part) in parts.into_iter().enumerate() {
            let gap = usize::from(index == 0 && !line.is_empty());
            if !line.is_empty() && columns(&line) + gap + columns(part) > width {
                lines.push(std::mem::take(&mut line));
            } else if gap > 0 {
                line.push(' ');
            }
            line.push_str(part);
        }
    }
    lines.push(line);
    lines.iter().map(|line| format!("{before}{}{after}", line.trim_end())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let mut table = Table { rows: vec![vec!["field".to_owned(), "from".to_owned()]], ..Table::default() };
        let from = "station.yaml:29:32 securityContext.allowPrivilegeEscalation";
        table.row(vec!["no-new-privileges".to_owned(), from.to_owned()]);
        table
    }

    fn at(width: usize) -> Layout<'static> {
        Layout { width: Some(width), ..Layout::default() }
    }

    #[test]
    fn columns_are_aligned() {
        assert_eq!(
            table().drawn(None),
            "  field              from\n  no-new-privileges  station.yaml:29:32 securityContext.allowPrivilegeEscalation\n"
        );
        assert!(table().fits(at(80)) && !table().fits(at(70)));
    }

    #[test]
    fn a_cell_folds_between_words_and_begins_with_no_blank() {
        assert_eq!(
            table().drawn(Some(62)),
            "  field              from\n  no-new-privileges  station.yaml:29:32\n                     securityContext.allowPrivilegeEscalation\n"
        );
    }

    #[test]
    fn numbers_and_words_stay_whole() {
        assert_eq!(pieces("0:7300"), ["0:7300"]);
        assert_eq!(pieces("securityContext.runAsUser"), ["securityContext.", "runAsUser"]);
        assert_eq!(folded("one /srv/data", 6), ["one", "/srv/", "data"]);
        assert_eq!(pieces("/srv/data"), ["/srv/", "data"]);
        assert_eq!(folded("supercalifragilistic", 5), ["supercalifragilistic"]);
    }

    #[test]
    fn every_line_of_a_cell_has_its_colour() {
        let cell = paint(STRONG, "one two");
        let lines = folded(&cell, 4);
        assert_eq!(lines, [paint(STRONG, "one"), paint(STRONG, "two")]);
    }
}
