//! Figures as SVG: the walk of an act, what is mounted where, who can use what whom creates.
//!
//! Names come from disks and documents. They are in text nodes alone, which the library escapes; attributes hold
//! numbers and our own words.

mod handoff;
mod mounts;
mod pen;
mod walk;

use std::io::{self, Write};

use mivask_core::handoff::Handoff;
use mivask_core::question::MountRow;
use svg::node::element::{Group, Rectangle, SVG, Style, Title};

use crate::safe::safe;

pub use walk::Walk;

/// A figure, in a page or by itself.
#[derive(Clone, Debug)]
pub struct Figure {
    drawing: Group,
    /// Width and height in units of a screen's pixels.
    size: (f64, f64),
    /// What a reader is given who cannot see it.
    title: String,
}

/// The colours of figures, light and dark; the page has the same names.
pub(crate) const COLOURS: &str = include_str!("../../templates/colours.css");
pub(crate) const STYLE: &str = include_str!("../../templates/figure.css");

impl Figure {
    fn svg(&self) -> SVG {
        let (width, height) = self.size;
        SVG::new()
            .set("viewBox", format!("0 0 {width} {height}"))
            .set("width", width)
            .set("height", height)
            .set("role", "img")
            .set("class", "figure")
            .add(Title::new(safe(&self.title)))
    }

    /// As an element of a page, which brings the style.
    #[must_use]
    pub fn inline(&self) -> String {
        self.svg().add(self.drawing.clone()).to_string()
    }

    /// Writes it as a document with a style and a ground of its own.
    ///
    /// # Errors
    /// Whatever `out` refuses.
    pub fn write(&self, out: &mut dyn Write) -> io::Result<()> {
        let ground = Rectangle::new().set("class", "ground").set("width", "100%").set("height", "100%");
        let whole = self.svg().set("xmlns", "http://www.w3.org/2000/svg");
        let whole = whole.add(Style::new(format!("{COLOURS}{STYLE}"))).add(ground).add(self.drawing.clone());
        writeln!(out, "{whole}")
    }
}

/// How the answer to one act came about, directory by directory.
#[must_use]
pub fn walk(walk: &Walk) -> Figure {
    walk::draw(walk)
}

/// Which volume is mounted where by whom; `rows` come grouped by actor.
#[must_use]
pub fn mounts(rows: &[MountRow]) -> Figure {
    mounts::draw(rows)
}

/// What each can do with what each other one creates, for every shared directory.
#[must_use]
pub fn handoffs(all: &[Handoff]) -> Figure {
    handoff::draw(all)
}
