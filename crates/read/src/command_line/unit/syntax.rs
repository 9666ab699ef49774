//! The syntax of unit files (systemd.syntax(7)): sections of `KEY=VALUE`, with comments and lines that go on.

use std::ops::Range;

use super::super::words::Word;

/// One file.
#[derive(Clone, Debug, Default)]
pub(crate) struct Unit {
    sections: Vec<(String, Vec<Setting>)>,
}

/// One assignment.
#[derive(Clone, Debug)]
pub(crate) struct Setting {
    pub key: String,
    pub value: String,
    /// The bytes of the value, as far as it is in the first line.
    pub span: Range<usize>,
    /// The bytes of its lines, without the last line's end.
    pub lines: Range<usize>,
}

impl Unit {
    /// Reads a file; lines that are none are left out and given to `odd`.
    pub(crate) fn parse(text: &str, odd: &mut dyn FnMut(Range<usize>)) -> Self {
        let mut unit = Self::default();
        let mut lines = Lines { text, at: 0 };
        while let Some((line, span, whole)) = lines.next_joined() {
            let line = line.trim();
            if line.is_empty() || line.starts_with(['#', ';']) {
                continue;
            }
            if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
                unit.sections.push((name.to_owned(), Vec::new()));
                continue;
            }
            let given = line.split_once('=').filter(|(key, _)| !key.trim().is_empty());
            let (Some((key, value)), Some((_, settings))) = (given, unit.sections.last_mut()) else {
                odd(span);
                continue;
            };
            let (key, value) = (key.trim().to_owned(), value.trim().to_owned());
            settings.push(Setting { key, value, span, lines: whole });
        }
        unit
    }

    /// Whether it has a section of this name.
    pub(crate) fn has(&self, section: &str) -> bool {
        self.sections.iter().any(|(name, _)| name == section)
    }

    /// Every assignment in sections of this name.
    pub(crate) fn settings<'a>(&'a self, section: &'a str) -> impl Iterator<Item = &'a Setting> {
        self.sections.iter().filter(move |(name, _)| name == section).flat_map(|(_, settings)| settings)
    }

    /// The last value of a key, where that is not empty.
    pub(crate) fn last<'a>(&'a self, section: &'a str, key: &str) -> Option<&'a Setting> {
        self.settings(section).filter(|one| one.key == key).last().filter(|one| !one.value.is_empty())
    }

    /// Every value of a key; an empty one takes those before it away.
    pub(crate) fn all<'a>(&'a self, section: &'a str, key: &str) -> Vec<&'a Setting> {
        let mut all = Vec::new();
        for one in self.settings(section).filter(|one| one.key == key) {
            if one.value.is_empty() {
                all.clear();
            } else {
                all.push(one);
            }
        }
        all
    }

    /// Adds what a drop-in says, at `span`.
    pub(crate) fn drop_in(&mut self, other: Self, span: &Range<usize>) {
        for (name, mut settings) in other.sections {
            for one in &mut settings {
                one.span = span.clone();
            }
            self.sections.push((name, settings));
        }
    }
}

struct Lines<'t> {
    text: &'t str,
    at: usize,
}

impl Lines<'_> {
    fn next(&mut self) -> Option<(&str, usize)> {
        let rest = self.text.get(self.at..).filter(|rest| !rest.is_empty())?;
        let end = rest.find('\n').map_or(rest.len(), |end| end + 1);
        let begin = self.at;
        self.at += end;
        Some((rest[..end].trim_end_matches(['\n', '\r']), begin))
    }

    /// A line with those it goes on in, the bytes of the value and those of all of it: a backslash at the end is a blank, and comments in between are left out.
    fn next_joined(&mut self) -> Option<(String, Range<usize>, Range<usize>)> {
        let (line, begin) = self.next().map(|(line, begin)| (line.to_owned(), begin))?;
        let mut joined = line;
        let comment = |line: &str| line.trim_start().starts_with(['#', ';']);
        if comment(&joined) {
            let end = begin + joined.len();
            return Some((joined, begin..end, begin..end));
        }
        let mut end = begin + joined.len();
        while joined.ends_with('\\') {
            joined.pop();
            joined.push(' ');
            let Some((more, at)) = self.next() else { break };
            if !comment(more) {
                joined.push_str(more);
                end = at + more.len();
            } else {
                joined.push('\\');
            }
        }
        // A mark is at the value, as far as that is in the first line.
        let start = self.text[begin..end].find('=').map_or(begin, |at| begin + at + 1);
        let first = self.text[start..end].find('\n').map_or(end, |at| start + at);
        let value = self.text[start..first].trim_end_matches([' ', '\t', '\r', '\\']);
        let blank = value.len() - value.trim_start().len();
        Some((joined, start + blank..start + value.len().max(blank), begin..end))
    }
}

/// The words of a value, quotes resolved.
pub(crate) fn split(setting: &Setting) -> Vec<Word> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut quote = None;
    let mut letters = setting.value.chars();
    while let Some(letter) = letters.next() {
        match (letter, quote) {
            ('\\', None | Some('"')) => word.get_or_insert_default().extend(letters.next()),
            ('"' | '\'', None) => {
                quote = Some(letter);
                word.get_or_insert_default();
            }
            (letter, Some(open)) if letter == open => quote = None,
            (letter, None) if letter.is_whitespace() => words.extend(word.take()),
            (letter, _) => word.get_or_insert_default().push(letter),
        }
    }
    words.extend(word);
    words
        .into_iter()
        .map(|text| Word { text, quoted: true, span: setting.span.clone(), ..Word::default() })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::{Unit, split};

    fn unit(text: &str) -> Unit {
        Unit::parse(text, &mut |_| {})
    }

    #[test]
    fn lines_go_on_and_comments_are_left_out() {
        let unit = unit("[Container]\n# no\nExec=a \\\n; in between\n  b\\\n c\nImage = x \n");
        let exec = unit.last("Container", "Exec").unwrap();
        assert_eq!(exec.value.split_whitespace().collect::<Vec<_>>(), ["a", "b", "c"]);
        assert_eq!(unit.last("Container", "Image").unwrap().value, "x");
    }

    #[test]
    fn an_empty_value_takes_those_before_it_away() {
        let unit = unit("[Container]\nVolume=a:/a\nVolume=\nVolume=b:/b\n[Container]\nVolume=c:/c\n");
        let all: Vec<&str> = unit.all("Container", "Volume").iter().map(|one| one.value.as_str()).collect();
        assert_eq!(all, ["b:/b", "c:/c"]);
        assert!(self::unit("[Container]\nUser=1\nUser=\n").last("Container", "User").is_none());
    }

    #[test]
    fn a_mark_is_at_the_value() {
        let text = "[Container]\r\nUser = 7101 \r\nExec=a \\\n b\n";
        let unit = unit(text);
        assert_eq!(&text[unit.last("Container", "User").unwrap().span.clone()], "7101");
        assert_eq!(&text[unit.last("Container", "Exec").unwrap().span.clone()], "a");
    }

    #[test]
    fn words_keep_what_is_quoted_together() {
        let unit = unit("[Container]\nExec=a \"b c\" 'd \"' e\\ f \"\"\n");
        let words = split(unit.last("Container", "Exec").unwrap());
        let words: Vec<&str> = words.iter().map(|word| word.text.as_str()).collect();
        assert_eq!(words, ["a", "b c", "d \"", "e f", ""]);
    }
}
