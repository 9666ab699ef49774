//! What a shell puts in the place of `~`, `$` and backquotes, as far as nothing has to be run for it.

use super::words::{Reader, Word, is_end};

impl Reader<'_> {
    /// `~` alone or before a slash; that of somebody else is not known.
    pub(super) fn home(&mut self, word: &mut Word) {
        let rest = &self.text[self.at + 1..];
        let end = rest.find(|letter| letter == '/' || letter == ':' || is_end(letter)).unwrap_or(rest.len());
        let shown = &self.text[self.at..=self.at + end];
        let value = (end == 0).then(|| self.variables.get("HOME").cloned().flatten()).flatten();
        self.at += 1 + end;
        word.take(value, shown);
    }

    /// Something in backquotes, which only a shell can tell.
    pub(super) fn until(&mut self, end: char, word: &mut Word) {
        let begin = self.at - 1;
        let rest = &self.text[self.at..];
        self.at += rest.find(end).map_or(rest.len(), |at| at + 1);
        word.take(None, &self.text[begin..self.at]);
    }

    /// What follows a `$`.
    pub(super) fn expansion(&mut self, word: &mut Word) {
        let begin = self.at - 1;
        match self.peek() {
            Some('(') => {
                self.parenthesis();
                let shown = &self.text[begin..self.at];
                let here = ["$(pwd)", "$(pwd -P)"].contains(&shown);
                word.take(here.then(|| self.value("PWD")).flatten(), shown);
            }
            Some('{') => self.braces(begin, word),
            Some(letter) if letter.is_ascii_alphabetic() || letter == '_' => {
                let rest = &self.text[self.at..];
                let end = rest.find(|letter: char| !(letter.is_ascii_alphanumeric() || letter == '_'));
                let name = &rest[..end.unwrap_or(rest.len())];
                self.at += name.len();
                word.take(self.value(name), &self.text[begin..self.at]);
            }
            Some(letter) if letter.is_ascii_digit() || "@*#?$!-".contains(letter) => {
                self.at += 1;
                word.take(None, &self.text[begin..self.at]);
            }
            Some(_) | None => word.text.push('$'),
        }
    }

    fn value(&self, name: &str) -> Option<String> {
        self.variables.get(name).cloned().flatten()
    }

    fn parenthesis(&mut self) {
        let mut depth = 0;
        while let Some(letter) = self.next() {
            match letter {
                '(' => depth += 1,
                ')' if depth == 1 => return,
                ')' => depth -= 1,
                _ => {}
            }
        }
    }

    /// `${NAME}`, and with a value instead: `:-` where it is empty or not set, `-` where it is not set.
    fn braces(&mut self, begin: usize, word: &mut Word) {
        let rest = &self.text[self.at + 1..];
        let inside = &rest[..rest.find('}').unwrap_or(rest.len())];
        self.at += 1 + (inside.len() + 1).min(rest.len());
        let shown = &self.text[begin..self.at];
        let end = inside.find(|letter: char| !(letter.is_ascii_alphanumeric() || letter == '_'));
        let (name, more) = inside.split_at(end.unwrap_or(inside.len()));
        let given = self.variables.get(name).cloned();
        let default = [":-", ":=", "-", "="].iter().find_map(|sign| more.strip_prefix(sign));
        let plain = default.filter(|text| !text.contains(['$', '`', '"', '\'', '\\'])).map(str::to_owned);
        let value = match (given, more) {
            (Some(given), "") => given,
            // One that the script does not set may be set outside; its default is what is meant, and that is said.
            (None, _) if !self.anything => {
                word.defaults.extend(plain.is_some().then(|| shown.to_owned()));
                plain
            }
            (None, _) => None,
            (Some(Some(text)), _) if text.is_empty() && more.starts_with(':') => plain,
            (Some(given), _) => given.filter(|_| default.is_some()),
        };
        word.take(value, shown);
    }
}
