//! Reading expectations.

use std::ops::Range;

use mivask_model::act::{
    ActError, ActErrorKind, Expectation, Subject, Verb, Word, absolute, parse_act, split,
};

use super::state::State;
use super::{Claim, Paths, Who};

mod state;

const NEVER: &str = "ACTORS never VERB PATHS [except PATHS], or ACTORS never change PATHS [except PATHS]";
const ONLY: &str = "only ACTORS VERB PATHS [except PATHS], or only ACTORS change PATHS [except PATHS]";
const STATE: &str = "[ACTORS] PATHS [except PATHS] at-most MODE | at-least MODE | owned-by UID[:GID] | is [a KIND] [UID:GID] [MODE] | is missing";
const EACH: &str = "ACTORS VERB PATHS [except PATHS] [-> EXPECTATION]";

/// The words of a line, with the line itself: a word in quotes is never a word of the language.
struct Line<'a> {
    text: &'a str,
    words: Vec<Word>,
    at: usize,
}

impl<'a> Line<'a> {
    fn peek(&self) -> Option<&Word> {
        self.words.get(self.at)
    }

    fn is(&self, at: usize, word: &str) -> bool {
        self.words.get(at).is_some_and(|found| &self.text[found.span.clone()] == word)
    }

    fn take(&mut self, word: &str) -> bool {
        let found = self.is(self.at, word);
        self.at += usize::from(found);
        found
    }

    fn next(&mut self, what: &'static str, form: &'static str) -> Result<&Word, ActError> {
        let end = self.text.trim_end().len();
        let short = ActErrorKind::Short { what, form: Some(form) };
        self.at += 1;
        self.words.get(self.at - 1).ok_or(ActError { span: end..end, kind: short })
    }

    /// Words up to the first that is not followed by a comma.
    fn list(&mut self, what: &'static str, form: &'static str) -> Result<Vec<Word>, ActError> {
        let mut all = Vec::new();
        loop {
            let word = self.next(what, form)?;
            let mut text = word.text.clone();
            let span = word.span.clone();
            let more = self.text[span.clone()].ends_with(',');
            if more {
                text.pop();
            }
            if !text.is_empty() {
                all.push(Word { text, span });
            }
            if !more && !self.take(",") {
                return Ok(all);
            }
        }
    }

    fn names(&mut self, form: &'static str) -> Result<Vec<String>, ActError> {
        let mut names = Vec::new();
        loop {
            self.next("an actor", form)?;
            let start = self.at - 1;
            // A name ends at its comma, or where it is whole.
            let whole = Subject::of(&self.words[start..]).map_or(1, |(_, words)| words);
            let comma = (start..start + whole).find(|at| self.ends_with_comma(*at));
            self.at = comma.map_or(start + whole, |at| at + 1);
            if let Some(at) = comma {
                self.words[at].text.pop();
            }
            let subject = Subject::of(&self.words[start..self.at]).map(|(subject, _)| subject);
            names.extend(subject.filter(|subject| !subject.actor.is_empty()).map(|subject| subject.name()));
            if comma.is_none() && !self.take(",") {
                return Ok(names);
            }
        }
    }

    fn ends_with_comma(&self, at: usize) -> bool {
        self.words.get(at).is_some_and(|word| self.text[word.span.clone()].ends_with(','))
    }

    fn who(&mut self, form: &'static str) -> Result<Who, ActError> {
        let names = self.names(form)?;
        let except = if self.take("except") { self.names(form)? } else { Vec::new() };
        Ok(Who { names, except })
    }

    fn path(&mut self, form: &'static str) -> Result<Vec<u8>, ActError> {
        absolute(self.next("a path", form)?)
    }

    /// The paths behind `except`, where that comes next.
    fn exceptions(&mut self, form: &'static str) -> Result<Vec<Vec<u8>>, ActError> {
        if !self.take("except") {
            return Ok(Vec::new());
        }
        let left_out = |word: &Word| {
            // A name without a slash is meant as an actor's.
            let actor = !word.text.contains(&b'/');
            if actor { Err(word.error(ActErrorKind::LeftOut)) } else { absolute(word) }
        };
        self.list("a path", form)?.iter().map(left_out).collect()
    }

    fn detail(&self, form: &'static str) -> Option<ActError> {
        let kind = |text| ActErrorKind::Detail { text, form: Some(form) };
        self.peek().map(|word| word.error(kind))
    }
}

/// Reads one expectation.
///
/// # Errors
/// The first mistake, with its place in `text`.
pub fn parse_expectation_line(text: &str) -> Result<Claim, ActError> {
    let mut line = Line { text, words: split(text)?, at: 0 };
    let only = line.is(0, "only") && line.words.len() > 3 && !line.words[1].text.ends_with(b",");
    let only = only || (line.is(0, "only") && line.words.get(1).is_some_and(|word| verb(word).is_none()));
    line.at = usize::from(only);
    let begins_with_path = |line: &Line<'_>| line.peek().is_some_and(|word| word.text.first() == Some(&b'/'));
    if begins_with_path(&line) {
        return at_most(&mut line, None);
    }
    let who = line.who(if only { ONLY } else { EACH })?;
    if begins_with_path(&line) && !only {
        return at_most(&mut line, Some(who));
    }
    let never = !only && line.take("never");
    let form = if only {
        ONLY
    } else if never {
        NEVER
    } else {
        EACH
    };
    if (only || never) && (line.take("changes") || line.take("change")) {
        let pattern = line.path(form)?;
        let paths = Paths { pattern, except: line.exceptions(form)? };
        return line.detail(form).map_or(Ok(Claim::Unchanged { only, who, paths }), Err);
    }
    let (verb, paths, expectation) = act(&mut line, form)?;
    match (only, never, expectation) {
        (true, _, None) => Ok(Claim::Only { who, verb, paths }),
        (_, true, None) => Ok(Claim::Never { who, verb, paths }),
        (false, false, expected) => {
            Ok(Claim::Each { who, verb, paths, expectation: expected.unwrap_or(Expectation::Allowed) })
        }
        (_, _, Some(_)) => {
            line.at = (0..line.words.len()).find(|at| line.is(*at, "->")).unwrap_or_default();
            Err(line.detail(form).unwrap_or(ActError {
                span: 0..text.len(),
                kind: ActErrorKind::Expectation(text.to_owned()),
            }))
        }
    }
}

/// `writes`, or `write` as several do.
fn verb(word: &Word) -> Option<Verb> {
    let text = word.as_text();
    let (first, rest) =
        text.split_once('-').map_or((text.as_str(), ""), |(first, _)| (first, &text[first.len()..]));
    Verb::by_word(&text).or_else(|| Verb::by_word(&format!("{first}s{rest}")))
}

/// Everything from the verb on: what an act has, and exceptions.
fn act(line: &mut Line<'_>, form: &'static str) -> Result<(Verb, Paths, Option<Expectation>), ActError> {
    let text = line.text;
    let word = line.next("a verb", form)?;
    let behind = word.span.end;
    let verb = verb(word).ok_or_else(|| word.error(ActErrorKind::Verb))?;
    // The act is read as any other, so exceptions are taken out and its places stay where they are.
    let mut rest = text[behind..].to_owned();
    let mut except = Vec::new();
    if let Some(at) = (line.at..line.words.len()).find(|at| line.is(*at, "except")) {
        line.at = at;
        let start = line.words[at].span.start;
        except = line.exceptions(form)?;
        let end = line.peek().map_or(text.len(), |next| next.span.start);
        if let Some(extra) = line.detail(form)
            && !line.is(line.at, "->")
        {
            return Err(extra);
        }
        rest.replace_range(start - behind..end - behind, &" ".repeat(end - start));
    }
    let head = format!("x {}", verb.word());
    let read = parse_act(&format!("{head}{rest}")).map_err(|mut error| {
        let moved = |at: usize| (at + behind).saturating_sub(head.len());
        error.span = moved(error.span.start)..moved(error.span.end);
        error
    })?;
    Ok((read.verb, Paths { pattern: read.path, except }, read.expectation))
}

fn at_most(line: &mut Line<'_>, who: Option<Who>) -> Result<Claim, ActError> {
    let pattern = line.path(STATE)?;
    let except = line.exceptions(STATE)?;
    let paths = Paths { pattern, except };
    let state = state::read(line)?;
    let State { missing: false, kind: None, exactly: None, at_least: None, at_most: Some(mode), owner } =
        state
    else {
        return Ok(Claim::Is { who, paths, state });
    };
    Ok(Claim::AtMost { who, paths, mode, owner })
}

/// Reads expectations, one a line; blank lines and `#` comments are passed over. Each comes with the bytes of its line.
///
/// # Errors
/// Every mistake, with its place in `text`.
pub fn parse_expectation_lines(text: &str) -> Result<Vec<(Claim, Range<usize>)>, Vec<ActError>> {
    let mut claims = Vec::new();
    let mut errors = Vec::new();
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let content = line.trim_end();
        let indent = content.len() - content.trim_start().len();
        if !content.is_empty() && !content[indent..].starts_with('#') {
            match parse_expectation_line(content) {
                Ok(claim) => claims.push((claim, start + indent..start + content.len())),
                Err(mut error) => {
                    error.span = error.span.start + start..error.span.end + start;
                    errors.push(error);
                }
            }
        }
        start += line.len();
    }
    if errors.is_empty() { Ok(claims) } else { Err(errors) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_model::mode::{FileKind, Mode};
    use mivask_model::outcome::Errno;

    fn read(text: &str) -> Claim {
        parse_expectation_line(text).unwrap_or_else(|error| panic!("{text}: {error}"))
    }

    fn words(list: &[&str]) -> Vec<String> {
        list.iter().map(|word| (*word).to_owned()).collect()
    }

    #[test]
    fn one_sentence_for_each_kind_of_claim() {
        let Claim::Each { who, verb, expectation, .. } = read("gauge, press read /data/** -> denied EACCES")
        else {
            panic!("no act")
        };
        assert_eq!((who.names, verb), (words(&["gauge", "press"]), Verb::Reads));
        assert_eq!(expectation, Expectation::Denied(Some(Errno::EACCES)));
        let Claim::Never { who, verb, paths } =
            read("* except prime never writes /etc/** except /etc/mtab, /etc/a")
        else {
            panic!("no never")
        };
        assert_eq!((who.except, verb), (words(&["prime"]), Verb::Writes));
        assert_eq!(paths.except, [b"/etc/mtab".to_vec(), b"/etc/a".to_vec()]);
        let Claim::Only { who, verb, .. } = read("only gauge , prime write /data/**") else {
            panic!("no only")
        };
        assert_eq!((who.names, verb), (words(&["gauge", "prime"]), Verb::Writes));
        let Claim::AtMost { who: None, mode, owner, .. } = read("/keys/* at-most 0600 owned-by 0") else {
            panic!("no limit")
        };
        assert_eq!((mode, owner.map(|owner| owner.uid)), (Mode::new(0o600), Some(Some(0))));
        let Claim::Each { who, .. } = read("gauge as root, press , prime as 7:8 running /p read /x") else {
            panic!("no act")
        };
        assert_eq!(who.names, ["gauge as root", "press", "prime as 7:8 running /p"]);
        let Claim::Unchanged { only: true, paths, .. } = read("only gauge changes /a/** except /a/b") else {
            panic!("no gate")
        };
        assert_eq!(paths.except, [b"/a/b".to_vec()]);
        assert!(matches!(read("* never change /a"), Claim::Unchanged { only: false, .. }));
        let Claim::Is { who: None, state, .. } = read("/keys/* is a file 0:* 0600") else {
            panic!("no state")
        };
        let owner = state.owner.map(|owner| (owner.uid, owner.gid));
        assert_eq!(
            (state.kind, owner, state.exactly),
            (Some(FileKind::File), Some((Some(0), None)), Some(Mode::new(0o600)))
        );
        let Claim::Is { who: Some(_), state, .. } = read("gauge /a at-least 0440 at-most 640 owned-by :7")
        else {
            panic!("no state")
        };
        assert_eq!(state.to_string(), "at-least 0440 at-most 0640 owned-by :7");
        assert!(matches!(read("/x owned-by 0"), Claim::Is { .. }));
        let Claim::Is { state, .. } = read("* /x except /y is missing") else { panic!("no state") };
        assert!(state.missing);
        assert!(matches!(read("gauge /keys/a at-most 0600"), Claim::AtMost { who: Some(_), .. }));
        assert!(matches!(read("a make-directory /x"), Claim::Each { verb: Verb::MakesDirectory(_), .. }));
        assert!(matches!(
            read("a creates /x -> leaves *:7300 *"),
            Claim::Each { expectation: Expectation::Leaves { uid: None, gid: Some(7300), mode: None }, .. }
        ));
    }

    #[test]
    fn words_in_quotes_are_names() {
        assert!(matches!(read("\"only\" writes /x"), Claim::Each { .. }));
        assert!(matches!(read("only writes /x"), Claim::Each { .. }), "an actor may be called so");
        let Claim::Never { paths, .. } = read("a never reads \"/a except b\"") else { panic!("no never") };
        assert_eq!(paths.pattern, b"/a except b");
    }

    #[test]
    fn mistakes_are_pointed_at() {
        let at = |text: &str| parse_expectation_line(text).map_err(|error| text[error.span].to_owned());
        for (text, wrong) in [
            ("gauge wrotes /x", "wrotes"),
            ("gauge never writes x", "x"),
            ("gauge never writes /x -> denied", "->"),
            ("only gauge, prime write /x -> allowed", "->"),
            ("/x at-most rw", "rw"),
            ("/x at-mist 0600", "at-mist"),
            ("/x", ""),
            ("/x is", ""),
            ("/x is a", ""),
            ("/x is a fish", "fish"),
            ("/x is rw", "rw"),
            ("/x is missing 0600", "0600"),
            ("/x at-least 0400 at-least 0600", "at-least"),
            ("/x owned-by", ""),
            ("/x at-most 0600 owned-by me", "me"),
            ("a reads /x except y", "y"),
            ("a reads /x except /y mode 3", "mode"),
            ("a, b read /x -> perhaps", "perhaps"),
            ("a never", ""),
            ("only a, b", ""),
            ("", ""),
        ] {
            assert_eq!(at(text).err().as_deref(), Some(wrong), "{text}");
        }
    }

    /// Whatever is done to a line, a mistake in it has a place in it.
    #[test]
    fn damaged_lines_are_read_or_pointed_into() {
        let lines = [
            "gauge, press read /data/** except /data/x -> denied EACCES",
            "* except prime never sets-mode u+x,g=rw on \"/a \\x41\\\\b\"",
            "only a , b rename /x to /y",
            "/k* except /k1, /k2 at-most 0600 owned-by 0:7",
            "a/b makes-node /x as char 1:3 mode 0600 -> leaves *:* *",
            "größe reads /wasser/**",
        ];
        let mut state = 0x2545_f491_4f6c_dd1d_u64;
        let mut random = |below: usize| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            usize::try_from(state % 1_000_003).unwrap_or_default() % below.max(1)
        };
        let pieces =
            ["except", "->", ",", " ", "\"", "\\", "never", "only", "/", "*", "at-most", "é", "\\x", "#"];
        let mut read = 0;
        let mut refused = 0;
        for _ in 0..40_000 {
            let mut text: Vec<char> = lines[random(lines.len())].chars().collect();
            for _ in 0..=random(4) {
                let at = random(text.len() + 1);
                match random(3) {
                    0 if at < text.len() => {
                        text.remove(at);
                    }
                    1 => text.truncate(at),
                    _ => text.splice(at..at, pieces[random(pieces.len())].chars()).for_each(drop),
                }
            }
            let text: String = text.into_iter().collect();
            match parse_expectation_line(&text) {
                Ok(_) => read += 1,
                Err(error) => {
                    refused += 1;
                    let pointed = text.get(error.span.clone());
                    assert!(pointed.is_some(), "{text:?}: {error:?}");
                }
            }
        }
        assert!(read > 3_000 && refused > 3_000, "{read} read, {refused} refused");
    }
}
