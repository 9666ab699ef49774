//! Drawing with our own words for what things are; the style says how they look.

use svg::node::element::{Group, Line, Path, Rectangle, Text};

use super::Figure;
use crate::safe::safe;

/// Columns of the fixed font in units, for folding.
pub(super) const COLUMN: f64 = 7.25;

/// A drawing that grows downwards.
pub(super) struct Pen {
    group: Group,
}

impl Pen {
    pub(super) fn new() -> Self {
        Self { group: Group::new() }
    }

    /// The drawing at a size, with what a reader who cannot see it is given.
    pub(super) fn done(self, size: (f64, f64), title: &str) -> Figure {
        Figure { drawing: self.group, size, title: title.to_owned() }
    }

    /// Text that begins at a place.
    pub(super) fn text(&mut self, (x, y): (f64, f64), class: &str, content: &str) {
        self.add(Text::new(safe(content)).set("x", x).set("y", y).set("class", class));
    }

    /// Text around a place.
    pub(super) fn centred(&mut self, (x, y): (f64, f64), class: &str, content: &str) {
        let text = Text::new(safe(content)).set("x", x).set("y", y).set("class", class);
        self.add(text.set("text-anchor", "middle"));
    }

    pub(super) fn bar(&mut self, (x, y): (f64, f64), (width, height): (f64, f64), class: &str) {
        let bar = Rectangle::new().set("x", x).set("y", y).set("width", width).set("height", height);
        self.add(bar.set("rx", 3).set("class", class));
    }

    pub(super) fn line(&mut self, (x1, y1): (f64, f64), (x2, y2): (f64, f64), class: &str) {
        self.add(Line::new().set("x1", x1).set("y1", y1).set("x2", x2).set("y2", y2).set("class", class));
    }

    /// A soft line from the right of one thing to the left of another.
    pub(super) fn curve(&mut self, (x1, y1): (f64, f64), (x2, y2): (f64, f64), class: &str) {
        let middle = f64::midpoint(x1, x2);
        let way = format!("M{x1} {y1} C{middle} {y1} {middle} {y2} {x2} {y2}");
        self.add(Path::new().set("d", way).set("class", class));
    }

    fn add(&mut self, node: impl svg::Node) {
        svg::Node::append(&mut self.group, node);
    }
}

/// `text` cut to so many columns, with a mark where something is missing.
pub(super) fn cut(text: &str, columns: usize) -> String {
    let text = safe(text);
    if text.chars().count() <= columns {
        return text;
    }
    let kept: String = text.chars().take(columns.saturating_sub(1)).collect();
    format!("{kept}…")
}

/// `text` in lines of so many columns; what is longer than a line is broken.
pub(super) fn folded(text: &str, columns: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in safe(text).split(' ') {
        let mut rest: Vec<char> = word.chars().collect();
        let last = lines.last_mut().expect("there is a first line");
        let taken = last.chars().count();
        if taken > 0 && taken + 1 + rest.len() > columns {
            lines.push(String::new());
        } else if taken > 0 {
            last.push(' ');
        }
        while rest.len() > columns {
            let tail = rest.split_off(columns);
            lines.last_mut().expect("there is a line").extend(rest);
            lines.push(String::new());
            rest = tail;
        }
        lines.last_mut().expect("there is a line").extend(rest);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_texts_are_broken_and_lose_nothing() {
        assert_eq!(folded("a bc def", 4), ["a bc", "def"]);
        assert_eq!(folded("abcdefghij k", 4), ["abcd", "efgh", "ij k"]);
        assert_eq!((cut("abcdef", 4), cut("ab", 4)), ("abc…".to_owned(), "ab".to_owned()));
    }
}
