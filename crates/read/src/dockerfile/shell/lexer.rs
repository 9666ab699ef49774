//! Words of a shell script, with the variables in them.

use super::Values;

/// Bytes of `{a,b}` that are looked at.
const MOST_OF_BRACES: usize = 1 << 8;

#[derive(Clone, Debug, Default)]
pub(super) struct Word {
    pub text: String,
    /// Where the first unquoted pattern character is.
    pub pattern: Option<usize>,
    /// The variables it uses.
    pub variables: Vec<String>,
    /// Whether it opens a group: `(`.
    pub grouped: bool,
}

impl Word {
    /// The path it names: up to the last slash before a pattern.
    pub(super) fn path(&self) -> Option<Vec<u8>> {
        let text = match self.pattern {
            Some(at) => &self.text[..self.text[..at].rfind('/')?],
            None => &self.text,
        };
        // Options and assignments may carry a path behind the sign.
        let text = text.split_once('=').map_or(text, |(_, value)| value);
        (text.contains('/') && !text.contains("://")).then(|| text.as_bytes().to_vec())
    }
}

pub(super) struct Lexer<'a> {
    pub script: &'a str,
    pub at: usize,
    pub escape: char,
    pub values: Values<'a>,
    pub words: Vec<Word>,
    pub opaque: bool,
    /// Whether the command ended in `&&`.
    pub chained: bool,
    /// Whether it holds `||`.
    pub alternative: bool,
}

impl<'a> Lexer<'a> {
    pub(super) fn new(script: &'a str, escape: char, values: Values<'a>) -> Self {
        let opaque = false;
        let chained = true;
        let alternative = false;
        Self { script, at: 0, escape, values, words: Vec::new(), opaque, chained, alternative }
    }

    pub(super) fn rest(&self) -> &str {
        &self.script[self.at..]
    }

    pub(super) fn peek(&self) -> Option<char> {
        self.rest().chars().next()
    }

    fn bump(&mut self) -> Option<char> {
        let next = self.peek()?;
        self.at += next.len_utf8();
        Some(next)
    }

    /// A line that goes on: the escape, blanks and the line's end; comment lines behind it vanish too.
    fn continuation(&mut self) -> bool {
        let Some(behind) = self.rest().strip_prefix(self.escape) else { return false };
        let line = behind.trim_start_matches([' ', '\t', '\r']);
        let Some(mut next) = line.strip_prefix('\n') else { return false };
        while next.trim_start().starts_with('#') {
            let comment = next.trim_start();
            next = comment.find('\n').map_or("", |end| &comment[end + 1..]);
        }
        self.at = self.script.len() - next.len();
        true
    }

    pub(super) fn skip_separators(&mut self) {
        while let Some(c) = self.peek() {
            if self.continuation() {
                continue;
            }
            match c {
                '#' => self.skip_line(),
                ' ' | '\t' | '\r' | '\n' | ';' | '&' => {
                    self.bump();
                }
                _ => return,
            }
        }
    }

    pub(super) fn skip_line(&mut self) {
        self.at += self.rest().find('\n').unwrap_or(self.rest().len());
    }

    /// Words up to what ends the command; with `whole` up to the end of the script.
    pub(super) fn command(&mut self, whole: bool) {
        while let Some(c) = self.peek() {
            if self.continuation() {
                continue;
            }
            match c {
                ' ' | '\t' | '\r' => {
                    self.bump();
                }
                '\n' | ';' if whole => {
                    self.bump();
                }
                '\n' | ';' => return,
                '&' if self.rest().starts_with("&&") && !whole => {
                    self.at += 2;
                    self.chained = true;
                    return;
                }
                '|' | '<' | '>' | '&' => {
                    self.opaque = true;
                    self.alternative |= self.rest().starts_with("||");
                    self.bump();
                }
                '(' | ')' => {
                    self.opaque = true;
                    self.bump();
                    self.words.push(Word { grouped: true, ..Word::default() });
                }
                '#' => self.skip_line(),
                _ => self.word(),
            }
        }
    }

    fn word(&mut self) {
        let mut word = Word::default();
        if self.peek() == Some('~') {
            self.opaque = true;
        }
        while let Some(c) = self.peek() {
            if self.continuation() {
                continue;
            }
            match c {
                ' ' | '\t' | '\r' | '\n' | ';' | '&' | '|' | '<' | '>' | '(' | ')' => break,
                '\'' => {
                    self.bump();
                    let end = self.rest().find('\'').unwrap_or(self.rest().len());
                    word.text.push_str(&self.rest()[..end]);
                    self.at = (self.at + end + 1).min(self.script.len());
                }
                '"' => self.quoted(&mut word),
                '\\' => {
                    self.bump();
                    word.text.extend(self.bump());
                }
                '$' => self.variable(&mut word),
                '`' => {
                    self.opaque = true;
                    self.bump();
                }
                '*' | '?' | '[' => self.pattern(c, &mut word),
                '{' if self.is_braces() => {
                    self.pattern(c, &mut word);
                }
                _ => {
                    self.bump();
                    word.text.push(c);
                }
            }
        }
        self.words.push(word);
    }

    /// Whether a word of braces with a comma begins here, as far as one looks.
    fn is_braces(&self) -> bool {
        let near = self.rest().bytes().take(MOST_OF_BRACES).take_while(|byte| !byte.is_ascii_whitespace());
        near.into_iter().any(|byte| byte == b',')
    }

    fn pattern(&mut self, c: char, word: &mut Word) {
        self.opaque = true;
        word.pattern.get_or_insert(word.text.len());
        self.bump();
        word.text.push(c);
    }

    fn quoted(&mut self, word: &mut Word) {
        self.bump();
        while let Some(c) = self.peek() {
            if self.continuation() {
                continue;
            }
            match c {
                '"' => {
                    self.bump();
                    return;
                }
                '\\' if self.rest()[1..].starts_with(['"', '\\', '$', '`']) => {
                    self.bump();
                    word.text.extend(self.bump());
                }
                '$' => self.variable(word),
                '`' => {
                    self.opaque = true;
                    self.bump();
                }
                _ => {
                    self.bump();
                    word.text.push(c);
                }
            }
        }
    }

    /// `$NAME`, `${NAME}`, `${NAME:-default}`; anything else only a shell can carry out.
    fn variable(&mut self, word: &mut Word) {
        self.bump();
        let braced = self.peek() == Some('{');
        if braced {
            self.bump();
        }
        let length =
            self.rest().find(|c: char| c != '_' && !c.is_ascii_alphanumeric()).unwrap_or(self.rest().len());
        let name = self.rest()[..length].to_owned();
        self.at += length;
        let mut value = if name.is_empty() { None } else { (self.values)(&name) };
        if braced {
            let end = self.rest().find('}').unwrap_or(self.rest().len());
            let form = self.rest()[..end].to_owned();
            self.at = (self.at + end + 1).min(self.script.len());
            value = match form.strip_prefix(":-").or(form.strip_prefix('-')) {
                Some(default) if !default.contains('$') => Some(value.unwrap_or_else(|| default.to_owned())),
                _ if form.is_empty() => value,
                _ => None,
            };
        }
        word.variables.push(name);
        match value {
            Some(value) if !value.contains([' ', '\t', '\n', '*', '?', '[']) => word.text.push_str(&value),
            Some(_) | None => {
                self.opaque = true;
                word.pattern.get_or_insert(word.text.len());
            }
        }
    }
}
