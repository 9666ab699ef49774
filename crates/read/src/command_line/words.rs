//! Words of a shell script, with where they are, as far as no shell is needed to know them (POSIX.1-2017, shell command language).

use std::collections::BTreeMap;
use std::ops::Range;

/// A word of a command.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct Word {
    /// What it is, quotes and expansions resolved.
    pub text: String,
    /// Why it is not known: the first part of it that only a shell could tell.
    pub unknown: Option<String>,
    /// Whether that part stands in quotes, so that it is one word whatever it is.
    pub quoted: bool,
    /// Defaults that were taken, as they stand there.
    pub defaults: Vec<String>,
    /// The bytes it is at.
    pub span: Range<usize>,
}

/// A simple command.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(super) struct Command {
    pub words: Vec<Word>,
}

/// Values of variables; `None` for one that is set to what nobody can tell.
pub(super) type Variables = BTreeMap<String, Option<String>>;

/// The simple commands of a script in order, assignments made on the way.
pub(super) fn commands(text: &str, variables: Variables) -> Vec<Command> {
    let mut reader = Reader {
        text,
        at: 0,
        variables,
        depth: 0,
        anything: false,
        commands: Vec::new(),
        current: Command::default(),
    };
    reader.everything();
    reader.commands
}

pub(super) struct Reader<'t> {
    pub(super) text: &'t str,
    pub(super) at: usize,
    pub(super) variables: Variables,
    /// How many loops, conditions and functions it is in: what is set there may not be.
    depth: usize,
    /// Whether something was read that may set any variable.
    pub(super) anything: bool,
    commands: Vec<Command>,
    current: Command,
}

/// What begins and ends a part that may run never, or more than once.
const OPENING: [&str; 7] = ["if", "for", "while", "until", "case", "{", "("];
const CLOSING: [&str; 5] = ["fi", "done", "esac", "}", ")"];
/// Words before a command.
const BEFORE: [&str; 6] = ["then", "do", "else", "elif", "!", "time"];
/// What sets variables in the script itself.
const DECLARING: [&str; 5] = ["export", "readonly", "local", "declare", "typeset"];

impl Reader<'_> {
    pub(super) fn peek(&self) -> Option<char> {
        self.text[self.at..].chars().next()
    }

    pub(super) fn next(&mut self) -> Option<char> {
        let letter = self.peek()?;
        self.at += letter.len_utf8();
        Some(letter)
    }

    fn everything(&mut self) {
        while let Some(letter) = self.peek() {
            match letter {
                '\n' | ';' | '&' | '|' => {
                    self.at += 1;
                    self.end();
                }
                '(' | ')' => {
                    self.at += 1;
                    self.end();
                    if letter == '(' { self.depth += 1 } else { self.depth = self.depth.saturating_sub(1) }
                }
                '#' => self.skip_line(),
                '\\' if self.text[self.at + 1..].starts_with(['\n', '\r']) => {
                    let rest = self.text[self.at + 1..].trim_start_matches('\r');
                    self.at = self.text.len() - rest.len() + usize::from(rest.starts_with('\n'));
                }
                ' ' | '\t' | '\r' => self.at += 1,
                '<' | '>' => self.redirection(),
                _ => {
                    let word = self.word();
                    self.current.words.push(word);
                }
            }
        }
        self.end();
    }

    fn skip_line(&mut self) {
        let rest = &self.text[self.at..];
        self.at += rest.find('\n').unwrap_or(rest.len());
    }

    /// What is redirected is no argument, nor is a number right before.
    fn redirection(&mut self) {
        if self.current.words.last().is_some_and(|word| {
            word.span.end == self.at && word.text.bytes().all(|byte| byte.is_ascii_digit())
        }) {
            self.current.words.pop();
        }
        while self.peek().is_some_and(|letter| "<>&|-".contains(letter)) {
            self.at += 1;
        }
        while self.peek().is_some_and(|letter| letter == ' ' || letter == '\t') {
            self.at += 1;
        }
        if self.peek().is_some_and(|letter| !is_end(letter)) {
            self.word();
        }
    }

    /// The end of a command: what it sets is set, and it is kept.
    fn end(&mut self) {
        let mut command = std::mem::take(&mut self.current);
        loop {
            let Some(first) = command.words.first() else { return };
            let word = first.text.clone();
            let known = first.unknown.is_none();
            if known && OPENING.contains(&word.as_str()) {
                self.depth += 1;
                if word == "for" || word == "case" {
                    let named = command.words.get(1).map(|word| word.text.clone()).unwrap_or_default();
                    self.variables.insert(named, None);
                    return;
                }
            } else if known && CLOSING.contains(&word.as_str()) {
                self.depth = self.depth.saturating_sub(1);
            } else if !(known && BEFORE.contains(&word.as_str())) {
                break;
            }
            command.words.remove(0);
        }
        let declares = DECLARING.contains(&command.words[0].text.as_str());
        let all = command.words.iter().all(|word| assignment(&word.text).is_some());
        if declares || all {
            for word in &command.words[usize::from(declares)..] {
                self.assign(word);
            }
            return;
        }
        // What is set for one command alone is in its environment, and changes no word of it.
        while command.words.first().is_some_and(|word| assignment(&word.text).is_some()) {
            command.words.remove(0);
        }
        match command.words.first().map_or("", |word| word.text.as_str()) {
            "." | "source" | "eval" => {
                self.anything = true;
                self.variables.values_mut().for_each(|value| *value = None);
            }
            "read" | "getopts" | "mapfile" | "readarray" | "unset" => {
                let named = command.words[1..].iter().map(|word| (word.text.clone(), None));
                self.variables.extend(named.collect::<Vec<_>>());
            }
            _ => {}
        }
        self.commands.push(command);
    }

    fn assign(&mut self, word: &Word) {
        let Some((name, value)) = assignment(&word.text) else { return };
        let value = (word.unknown.is_none() && self.depth == 0).then(|| value.to_owned());
        self.variables.insert(name.to_owned(), value);
    }

    fn word(&mut self) -> Word {
        let begin = self.at;
        let mut word = Word {
            text: String::new(),
            unknown: None,
            quoted: false,
            defaults: Vec::new(),
            span: begin..begin,
        };
        if self.peek() == Some('~') {
            self.home(&mut word);
        }
        while let Some(letter) = self.peek().filter(|letter| !is_end(*letter)) {
            self.at += letter.len_utf8();
            match letter {
                '\'' => {
                    let rest = &self.text[self.at..];
                    let end = rest.find('\'').unwrap_or(rest.len());
                    word.text.push_str(&rest[..end]);
                    self.at += (end + 1).min(rest.len());
                }
                '"' => {
                    let before = word.unknown.is_some();
                    self.quoted(&mut word);
                    // `"$@"` is as many words as there are.
                    let several = word.unknown.as_deref().is_some_and(|unknown| unknown.contains('@'));
                    word.quoted |= !before && word.unknown.is_some() && !several;
                }
                '\\' => match self.next() {
                    Some('\n') | None => {}
                    Some(letter) => word.text.push(letter),
                },
                '$' => self.expansion(&mut word),
                '`' => self.until('`', &mut word),
                other => word.text.push(other),
            }
        }
        word.span.end = self.at;
        word
    }

    fn quoted(&mut self, word: &mut Word) {
        while let Some(letter) = self.next() {
            match letter {
                '"' => return,
                '\\' => match self.next() {
                    Some('\n') | None => {}
                    Some(letter @ ('"' | '\\' | '$' | '`')) => word.text.push(letter),
                    Some(letter) => word.text.extend(['\\', letter]),
                },
                '$' => self.expansion(word),
                '`' => self.until('`', word),
                other => word.text.push(other),
            }
        }
    }
}

impl Word {
    /// Whether it is one word, whatever it is.
    pub(super) const fn is_one(&self) -> bool {
        self.unknown.is_none() || self.quoted
    }

    /// Adds a value, or that it is not known.
    pub(super) fn take(&mut self, value: Option<String>, shown: &str) {
        match value {
            Some(value) => self.text.push_str(&value),
            None => {
                self.text.push_str(shown);
                self.unknown.get_or_insert_with(|| shown.to_owned());
            }
        }
    }
}

pub(super) fn is_end(letter: char) -> bool {
    letter.is_whitespace() || ";&|<>()".contains(letter)
}

/// `NAME=VALUE`
fn assignment(text: &str) -> Option<(&str, &str)> {
    let (name, value) = text.split_once('=')?;
    let first = name.bytes().next().is_some_and(|byte| byte.is_ascii_alphabetic() || byte == b'_');
    let fits = first && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
    fits.then_some((name, value))
}

/// Whether an unknown word in front of the image, which is no single one, holds options rather than the image: by its name, or by what
/// follows.
pub(super) fn may_be_options(unknown: &str, next: Option<&Word>) -> bool {
    let name = unknown.to_ascii_uppercase();
    let image = ["IMAGE", "IMG", "TAG", "NAME"].iter().any(|part| name.contains(part));
    !image || next.is_some_and(|next| next.text.starts_with('-'))
}

#[cfg(test)]
mod tests {
    use super::{Variables, commands};

    /// The commands, words apart by `|`; an unknown word has what is not known behind a `?`.
    fn read(text: &str) -> Vec<String> {
        let variables = Variables::from([
            ("HOME".to_owned(), Some("/home/tide".to_owned())),
            ("PWD".to_owned(), Some("/w".to_owned())),
        ]);
        let shown = |command: super::Command| {
            let word = |word: &super::Word| match &word.unknown {
                None => word.text.clone(),
                Some(what) => format!("{}?{what}", word.text),
            };
            command.words.iter().map(word).collect::<Vec<_>>().join("|")
        };
        commands(text, variables).into_iter().map(shown).collect()
    }

    #[test]
    fn words_are_those_of_a_shell() {
        for (text, words) in [
            ("a b  c", vec!["a|b|c"]),
            ("a 'b c' \"d e\" f\\ g", vec!["a|b c|d e|f g"]),
            ("a \\\n  b \\\r\n c # d\ne", vec!["a|b|c", "e"]),
            ("a; b && c || d | e &", vec!["a", "b", "c", "d", "e"]),
            ("a >x 2>&1 <y b", vec!["a|b"]),
            ("X=1 a $X", vec!["a|$X?$X"]),
            ("X=1\na $X ${X}y \"$X z\" '$X'", vec!["a|1|1y|1 z|$X"]),
            ("export X=1 Y=2; a $X$Y", vec!["a|12"]),
            ("a ${X:-d} ${X-} ${X:=d}", vec!["a|d||d"]),
            ("X=; a ${X:-d} ${X-d}", vec!["a|d|"]),
            (
                "a $(id -u):$(id -g) `date` $1 $@",
                vec!["a|$(id -u):$(id -g)?$(id -u)|`date`?`date`|$1?$1|$@?$@"],
            ),
            ("a $(pwd)/x $PWD ~ ~/x ~other/x", vec!["a|/w/x|/w|/home/tide|/home/tide/x|~other/x?~other"]),
            ("if t; then X=1; fi; a $X", vec!["t", "a|$X?$X"]),
            ("for i in 1 2; do a $i; done", vec!["a|$i?$i"]),
            ("f() { X=1; a; }\nb $X", vec!["f", "a", "b|$X?$X"]),
            (". ./env; a ${X:-d}", vec![".|./env", "a|${X:-d}?${X:-d}"]),
            ("read X; a ${X:-d}", vec!["read|X", "a|${X:-d}?${X:-d}"]),
            ("a \"b", vec!["a|b"]),
            ("a 'b", vec!["a|b"]),
            ("a ${", vec!["a|${?${"]),
            ("a $(", vec!["a|$(?$("]),
            ("", vec![]),
        ] {
            assert_eq!(read(text), words, "{text}");
        }
    }
}
