//! Words of a shell script, with the variables in them.

use mivask_core::recipe::Output;

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
    /// Files that output goes to.
    pub outputs: Vec<Output>,
    /// Whether a word that is a pattern stands among them.
    pub expands: bool,
    /// Lines that end the texts given to commands, the next one first.
    ends: Vec<String>,
    /// Whether the command ended in `&&`.
    pub chained: bool,
    /// Whether it holds `||`.
    pub alternative: bool,
    /// Whether that is one that cannot fail, so that what is chained to it runs.
    pub forgiven: bool,
}

impl<'a> Lexer<'a> {
    pub(super) fn new(script: &'a str, escape: char, values: Values<'a>) -> Self {
        let opaque = false;
        let chained = true;
        let alternative = false;
        let (outputs, ends, expands) = (Vec::new(), Vec::new(), false);
        let words = Vec::new();
        Self {
            script,
            at: 0,
            escape,
            values,
            words,
            opaque,
            outputs,
            expands,
            ends,
            chained,
            alternative,
            forgiven: false,
        }
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
                '\n' => {
                    self.bump();
                    self.skip_texts();
                }
                ' ' | '\t' | '\r' | ';' | '&' => {
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
                '|' if !whole && self.forgives() => return,
                '&' if self.rest().starts_with("&>") => self.redirection(),
                '<' | '>' => self.redirection(),
                '|' | '&' => {
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

    /// `|| true` and `|| :`, which say no more than that failure does not matter; read over, if it is that.
    fn forgives(&mut self) -> bool {
        let Some(behind) = self.rest().strip_prefix("||") else { return false };
        let behind = behind.trim_start_matches([' ', '\t']);
        let Some(rest) = ["true", ":"].iter().find_map(|word| behind.strip_prefix(word)) else {
            return false;
        };
        let ends = rest.trim_start_matches([' ', '\t', '\r']);
        if !(ends.is_empty() || ends.starts_with(['\n', ';']) || ends.starts_with("&&")) {
            return false;
        }
        let chained = ends.starts_with("&&");
        self.at = self.script.len() - ends.len() + if chained { 2 } else { 0 };
        self.chained |= chained;
        (self.alternative, self.forgiven) = (true, true);
        true
    }

    /// `> FILE`, `2>&1`, `< FILE`, `<< END`.
    fn redirection(&mut self) {
        // A number right before is the descriptor's.
        let digits = self.script[..self.at].ends_with(|c: char| c.is_ascii_digit());
        if digits && self.words.last().is_some_and(|word| word.text.bytes().all(|byte| byte.is_ascii_digit()))
        {
            self.words.pop();
        }
        if self.peek() == Some('&') {
            self.bump();
        }
        let into = self.bump() == Some('>');
        let doubled = self.peek() == Some(if into { '>' } else { '<' });
        if doubled {
            self.bump();
        }
        if !into && doubled && self.peek() == Some('<') {
            // A text of one word is input.
            self.bump();
        } else if !into && doubled {
            let strip = self.peek() == Some('-');
            if strip {
                self.bump();
            }
            if let Some(word) = self.target() {
                self.ends.push(word.text);
            }
            return;
        }
        match self.peek() {
            Some('&') => {
                self.bump();
                self.at +=
                    self.rest().find(|c: char| c != '-' && !c.is_ascii_digit()).unwrap_or(self.rest().len());
                return;
            }
            Some('(') => {
                self.opaque = true;
                return;
            }
            Some('|') if into => {
                self.bump();
            }
            _ => {}
        }
        let Some(word) = self.target() else { return };
        if word.pattern.is_some() {
            self.opaque = true;
        }
        if into {
            self.outputs.push(Output { path: word.text, appends: doubled });
        }
    }

    /// The word that a redirection goes to.
    fn target(&mut self) -> Option<Word> {
        self.at += self.rest().len() - self.rest().trim_start_matches([' ', '\t']).len();
        let (before, expands) = (self.words.len(), self.expands);
        if self.peek().is_none_or(|c| "\n;&|<>()".contains(c)) {
            return None;
        }
        self.word();
        self.expands = expands;
        if self.words.len() > before { self.words.pop() } else { None }
    }

    /// Texts that begin behind this line end, up to the lines that end them; a text that is elsewhere leaves the script as it is.
    fn skip_texts(&mut self) {
        for end in std::mem::take(&mut self.ends) {
            let mut at = self.at;
            let found = self.script[self.at..].split_inclusive('\n').find_map(|line| {
                at += line.len();
                (line.trim_end_matches(['\n', '\r']).trim_start_matches('\t') == end).then_some(at)
            });
            self.at = found.unwrap_or(self.at);
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
                '*' | '?' | '[' => {
                    self.expands = true;
                    self.pattern(c, &mut word);
                }
                '{' if self.is_braces() => {
                    self.opaque = true;
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
