//! Aligned columns without lines; the widest cells fold where the terminal ends.

use tabled::builder::Builder;
use tabled::settings::peaker::PriorityMax;
use tabled::settings::{Padding, Style, Width};

use crate::style::{STRONG, paint};

/// Rows under a header.
#[derive(Debug, Default)]
pub(crate) struct Table {
    rows: Vec<Vec<String>>,
}

impl Table {
    /// A table with these column titles.
    pub(crate) fn new(titles: &[&str]) -> Self {
        Self { rows: vec![titles.iter().map(|title| paint(STRONG, title)).collect()] }
    }

    /// Adds a row; every cell must be safe to print.
    pub(crate) fn row(&mut self, cells: Vec<String>) {
        self.rows.push(cells);
    }

    /// Whether it can be drawn at `width` columns without folding a cell.
    pub(crate) fn fits(&self, width: Option<usize>) -> bool {
        width.is_none_or(|width| self.build().total_width() <= width)
    }

    /// The table as lines, indented by two blanks and folded at `width` columns if there is a limit.
    pub(crate) fn render(&self, width: Option<usize>) -> String {
        let mut table = self.build();
        if let Some(width) = width {
            let fold = Width::wrap(width.max(60)).keep_words(true).priority(PriorityMax::right());
            table.with(fold);
        }
        let text = table.to_string();
        let lines = text.lines().map(|line| format!("{}\n", line.trim_end()));
        lines.collect()
    }

    fn build(&self) -> tabled::Table {
        let mut builder = Builder::default();
        self.rows.iter().for_each(|row| builder.push_record(row));
        let mut table = builder.build();
        table.with(Style::empty()).with(Padding::new(2, 0, 0, 0));
        table
    }
}
