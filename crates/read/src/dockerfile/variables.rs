//! `ARG` and `ENV`: which value a variable has where.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::rc::Rc;

use super::shell;

/// Bytes of one value; the kernel hands a program 131,072 at most (`MAX_ARG_STRLEN`).
pub(super) const LONGEST_VALUE: usize = 1 << 17;

/// Bytes that all variables of a file may put in their place together: each line may double the one before.
pub(super) const MOST_BYTES: usize = 32 << 20;

/// The variables of one stage.
#[derive(Clone, Debug, Default)]
pub(super) struct Variables {
    args: BTreeMap<String, String>,
    env: BTreeMap<String, String>,
    /// The program of `SHELL`.
    pub shell: Option<String>,
    /// Whether commands are for a shell whose language is not known here.
    pub foreign_shell: bool,
    /// Names that had no value where they were used.
    pub unset: Vec<String>,
    /// The name of one whose value is longer than [`LONGEST_VALUE`], which counts as empty.
    pub long: Option<String>,
    /// Bytes of values that were put in their place in the whole file.
    spent: Rc<Cell<usize>>,
}

impl Variables {
    /// The environment that a stage hands on to one built on it.
    pub(super) fn inherited(&self) -> Self {
        let (env, shell) = (self.env.clone(), self.shell.clone());
        Self { env, shell, foreign_shell: self.foreign_shell, ..self.fresh() }
    }

    /// The variables of another stage of the file.
    pub(super) fn fresh(&self) -> Self {
        Self { spent: self.spent.clone(), ..Self::default() }
    }

    /// Whether they made more than [`MOST_BYTES`] of text; what is left has no values.
    pub(super) fn is_spent(&self) -> bool {
        self.spent.get() > MOST_BYTES
    }

    /// What a command's shell sees: the environment wins.
    pub(super) fn value(&self, name: &str) -> Option<String> {
        let value = self.env.get(name).or_else(|| self.args.get(name))?;
        self.spent.set(self.spent.get().saturating_add(value.len()));
        (!self.is_spent()).then(|| value.clone())
    }

    /// `text` with its variables in place; one without a value counts as empty.
    pub(super) fn replaced(&mut self, text: &str, escape: char) -> String {
        let mut out = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(at) = rest.find(['$', escape]) {
            out.push_str(&rest[..at]);
            let behind = &rest[at..];
            if let Some(escaped) = behind.strip_prefix(escape) {
                let kept = escaped.chars().next();
                out.extend(kept);
                rest = &escaped[kept.map_or(0, char::len_utf8)..];
                continue;
            }
            let (form, end) = variable(&behind[1..]);
            match form {
                Some((name, operator, word)) => {
                    let value = self.value(&name).filter(|value| !value.is_empty() || operator.is_empty());
                    let new = match (operator, value) {
                        ("+", Some(_)) => self.replaced(word, escape),
                        ("-", None) => self.replaced(word, escape),
                        (_, Some(value)) => value,
                        (_, None) => {
                            if operator.is_empty() {
                                self.unset.push(name);
                            }
                            String::new()
                        }
                    };
                    out.push_str(&new);
                }
                None => out.push('$'),
            }
            rest = &behind[1 + end..];
        }
        out.push_str(rest);
        out
    }

    /// What an `ENV` makes of `PATH`, with a zero byte where the base's stays; `None` where it leaves it alone.
    pub(super) fn search(&self, text: &str, escape: char) -> Option<String> {
        if !text.contains("PATH") {
            return None;
        }
        let mut probe = self.clone();
        probe.env.entry("PATH".to_owned()).or_insert_with(|| "\0".to_owned());
        let before = probe.env.get("PATH").cloned();
        probe.set_env(text, escape);
        probe.env.remove("PATH").filter(|after| Some(after) != before.as_ref())
    }

    /// `ENV NAME=value ...`, or `ENV NAME the rest of the line`.
    pub(super) fn set_env(&mut self, text: &str, escape: char) {
        let first = text.split_whitespace().next().unwrap_or_default();
        if first.contains('=') {
            for (name, value) in self.pairs(text, escape) {
                let value = self.bounded(&name, value.unwrap_or_default());
                self.env.insert(name, value);
            }
        } else {
            let value = self.replaced(text[first.len()..].trim(), escape);
            let value = self.bounded(first, value);
            self.env.insert(first.to_owned(), value);
        }
    }

    /// `ARG NAME[=default] ...`: a value given to the build wins; `global` gives those from before the first stage.
    pub(super) fn set_args(
        &mut self,
        text: &str,
        escape: char,
        given: &BTreeMap<String, String>,
        global: Option<&Self>,
    ) {
        for (name, default) in self.pairs(text, escape) {
            let global = || global.and_then(|global| global.args.get(&name).cloned());
            if let Some(value) = given.get(&name).cloned().or(default).or_else(global) {
                let value = self.bounded(&name, value);
                self.args.insert(name, value);
            }
        }
    }

    fn bounded(&mut self, name: &str, value: String) -> String {
        if value.len() <= LONGEST_VALUE {
            return value;
        }
        self.long.get_or_insert_with(|| name.to_owned());
        String::new()
    }

    fn pairs(&self, text: &str, escape: char) -> Vec<(String, Option<String>)> {
        let words = shell::words(text, escape, &|name| Some(self.value(name).unwrap_or_default()));
        let pair = |word: String| match word.split_once('=') {
            Some((name, value)) => (name.to_owned(), Some(value.to_owned())),
            None => (word, None),
        };
        words.into_iter().map(pair).collect()
    }
}

/// The variable that begins behind a dollar sign: name, operator and its word; and how many bytes it takes.
fn variable(text: &str) -> (Option<(String, &str, &str)>, usize) {
    let is_name = |c: char| c == '_' || c.is_ascii_alphanumeric();
    if let Some(inner) = text.strip_prefix('{') {
        let Some(end) = inner.find('}') else { return (None, 0) };
        let form = &inner[..end];
        let length = form.find(|c| !is_name(c)).unwrap_or(form.len());
        let (name, rest) = form.split_at(length);
        let rest = rest.strip_prefix(':').unwrap_or(rest);
        let (operator, word) = if rest.starts_with(['-', '+']) { rest.split_at(1) } else { ("", rest) };
        return (Some((name.to_owned(), operator, word)), end + 2);
    }
    let length = text.find(|c| !is_name(c)).unwrap_or(text.len());
    if length == 0 {
        return (None, 0);
    }
    (Some((text[..length].to_owned(), "", "")), length)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn variables() -> Variables {
        let mut variables = Variables::default();
        variables.set_env(r#"HOME=/home/gauge EMPTY="" TEXT="a b""#, '\\');
        variables.set_env("OLD the rest", '\\');
        let given = [("VERSION".to_owned(), "3".to_owned())].into();
        variables.set_args("VERSION=1 TAG=x NONE", '\\', &given, None);
        variables
    }

    macro_rules! replaced {
        ($($name:ident: $text:literal => $expected:literal;)+) => {$(
            #[test]
            fn $name() {
                assert_eq!(variables().replaced($text, '\\'), $expected);
            }
        )+};
    }

    replaced! {
        bare_and_braced: "$HOME/${TAG}" => "/home/gauge/x";
        a_given_argument_wins: "v$VERSION" => "v3";
        the_old_form_of_env: "$OLD" => "the rest";
        quoted_values: "$TEXT" => "a b";
        defaults: "${NONE:-d}${EMPTY:-e}${TAG:-f}" => "dex";
        alternatives: "${TAG:+yes}${NONE:+no}" => "yes";
        escaped: "\\$TAG" => "$TAG";
        a_lone_dollar: "5$ ${" => "5$ ${";
    }

    #[test]
    fn what_has_no_value_is_empty_and_remembered() {
        let mut variables = variables();
        assert_eq!(variables.replaced("/a/$NONE", '\\'), "/a/");
        assert_eq!(variables.unset, ["NONE"]);
    }

    #[test]
    fn a_stage_sees_what_stands_before_the_first_one_only_if_it_names_it() {
        let mut global = Variables::default();
        global.set_args("BASE=tides:1", '\\', &BTreeMap::new(), None);
        let mut stage = global.inherited();
        assert_eq!(stage.value("BASE"), None);
        stage.set_args("BASE", '\\', &BTreeMap::new(), Some(&global));
        assert_eq!(stage.value("BASE").as_deref(), Some("tides:1"));
    }
}
