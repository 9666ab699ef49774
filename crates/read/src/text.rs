//! A text that was read, with the means to point into it.

use std::ops::Range;
use std::sync::Arc;

use mivask_core::fact::Provenance;

/// Bytes between two counts of characters.
const BLOCK: usize = 1 << 10;

/// A document's text with its name.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SourceText {
    /// The file as the user named it, or `standard input`.
    pub name: Arc<str>,
    /// The whole text.
    pub text: Arc<str>,
    line_starts: Arc<[usize]>,
    /// How many characters there are before each block of [`BLOCK`] bytes, so that a column costs the same wherever it is: a
    /// minified document is one line.
    characters: Arc<[usize]>,
    /// The number of the first line, where this is a part of a longer text.
    first_line: usize,
    /// Where several texts stand one behind the other: the byte and line each begins at, and its name.
    parts: Arc<[(usize, usize, Arc<str>)]>,
}

impl SourceText {
    /// Names `text` and finds its lines.
    #[must_use]
    pub fn new(name: &str, text: &str) -> Self {
        Self::starting_at(name, text, 1)
    }

    /// The part of a longer text that begins at `first_line`, from 1.
    #[must_use]
    pub fn starting_at(name: &str, text: &str, first_line: usize) -> Self {
        let starts = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1);
        let line_starts = std::iter::once(0).chain(starts).collect();
        let mut count = 0;
        let blocks = text.as_bytes().chunks(BLOCK).map(|block| {
            let before = count;
            count += characters(block);
            before
        });
        let characters = blocks.collect();
        let parts = Arc::default();
        Self { name: Arc::from(name), text: Arc::from(text), line_starts, characters, first_line, parts }
    }

    /// Whether values of it are nobody's business: it holds a Secret of a cluster, or the environment of a container.
    #[must_use]
    pub fn has_secrets(&self) -> bool {
        let is_kind = |at: usize| {
            let before = self.text[..at].trim_end_matches(['"', '\'', ' ']);
            let key = before.strip_suffix(':').map(|key| key.trim_end_matches(['"', '\'', ' ']));
            key.is_some_and(|key| key.ends_with("kind"))
        };
        self.text.match_indices("Secret").any(|(at, _)| is_kind(at))
            || self.text.contains("\"HostConfig\"") && self.text.contains("\"Env\"")
    }

    /// How many characters begin before byte `at`.
    fn characters_before(&self, at: usize) -> usize {
        let block = at / BLOCK;
        let Some(before) = self.characters.get(block).copied() else {
            let last = self.characters.len().saturating_sub(1);
            let counted = self.characters.last().copied().unwrap_or_default();
            return counted + characters(self.text.as_bytes().get(last * BLOCK..).unwrap_or_default());
        };
        before + characters(&self.text.as_bytes()[block * BLOCK..at])
    }

    /// Several texts one behind the other; places point into each by its own name and lines.
    #[must_use]
    pub fn joined(texts: &[Self]) -> Self {
        let mut whole = String::new();
        let mut parts = Vec::new();
        let mut lines = 0;
        for text in texts {
            parts.push((whole.len(), lines, text.name.clone()));
            lines += text.line_starts.len();
            whole.push_str(&text.text);
            // Each begins on a line of its own.
            whole.push('\n');
        }
        let name = texts.first().map_or("", |text| &text.name);
        Self { parts: parts.into(), ..Self::new(name, &whole) }
    }

    /// The bytes a text takes among joined ones.
    #[must_use]
    pub fn joined_length(&self) -> usize {
        self.text.len() + 1
    }

    /// The name of the file that byte `at` is in.
    #[must_use]
    pub fn name_at(&self, at: usize) -> &Arc<str> {
        self.part(at).map_or(&self.name, |(_, _, name)| name)
    }

    fn part(&self, at: usize) -> Option<&(usize, usize, Arc<str>)> {
        let behind = self.parts.partition_point(|(start, ..)| *start <= at);
        self.parts.get(behind.checked_sub(1)?)
    }

    /// Line and column, both from 1, of byte `at`; the column counts characters.
    #[must_use]
    pub fn line_column(&self, at: usize) -> (usize, usize) {
        let at = at.min(self.text.len());
        let line = self.line_starts.partition_point(|start| *start <= at);
        let start = self.line_starts[line - 1];
        let before = self.characters_before(at) - self.characters_before(start);
        let before_part = self.part(at).map_or(0, |(_, lines, _)| *lines);
        (line - before_part + self.first_line - 1, before + 1)
    }

    /// The provenance of a field whose value is at `span`.
    #[must_use]
    pub fn place(&self, span: &Range<usize>, field: &str) -> Provenance {
        let (line, column) = self.line_column(span.start);
        Provenance::Document { file: self.name_at(span.start).clone(), line, column, field: Arc::from(field) }
    }
}

/// How many characters begin in `bytes` of UTF-8.
fn characters(bytes: &[u8]) -> usize {
    bytes.iter().filter(|byte| **byte & 0xc0 != 0x80).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_of_long_lines_are_counted_in_characters() {
        let line = "aé水😀".repeat(2000);
        let text = SourceText::new("x", &format!("{line}\n{line}"));
        for (index, (at, _)) in line.char_indices().enumerate().step_by(37) {
            assert_eq!(text.line_column(at), (1, index + 1), "byte {at}");
            assert_eq!(text.line_column(line.len() + 1 + at), (2, index + 1), "byte {at} of the second line");
        }
        assert_eq!(text.line_column(usize::MAX), (2, 8001));
        assert_eq!(SourceText::new("x", "").line_column(9), (1, 1));
        let whole = "a".repeat(BLOCK);
        assert_eq!(SourceText::new("x", &whole).line_column(BLOCK), (1, BLOCK + 1));
    }

    #[test]
    fn joined_texts_count_their_own_lines() {
        let joined = SourceText::joined(&[SourceText::new("a", "1\n2"), SourceText::new("b", "3\n4\n")]);
        let at = joined.text.find('4').expect("it is in there");
        assert_eq!((joined.line_column(at), &**joined.name_at(at)), ((2, 1), "b"));
    }

    #[test]
    fn places_count_lines_and_characters_from_one() {
        let text = SourceText::new("x", "é: 1\nbé: 2\n");
        assert_eq!(text.line_column(0), (1, 1));
        assert_eq!(text.line_column("é: 1\nbé".len()), (2, 3));
        assert_eq!(text.line_column(999), (3, 1));
    }
}
