//! Reading acts.

use std::ops::Range;

use super::{Act, Expectation, Verb};
use crate::mode::Mode;
use crate::outcome::Errno;
use crate::words::nearest;

/// A mistake in an act, with the bytes it stands at.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[error("{kind}")]
pub struct ActError {
    /// Byte range within the text that was parsed.
    pub span: Range<usize>,
    /// What is wrong.
    pub kind: ActErrorKind,
}

/// What can be wrong with an act.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ActErrorKind {
    /// Something is missing at the end.
    #[error("the act ends where {0} is expected")]
    Short(&'static str),
    /// The verb is not one.
    #[error("`{0}` is no verb")]
    Verb(String),
    /// The path is not absolute.
    #[error("`{0}` is no absolute path")]
    Relative(String),
    /// The mode is not octal.
    #[error("`{0}` is no octal mode")]
    Mode(String),
    /// A detail this verb does not take.
    #[error("`{0}` is not expected here")]
    Detail(String),
    /// The expectation is not one.
    #[error("`{0}` is no expectation")]
    Expectation(String),
    /// A quoted word without its end.
    #[error("the double quote is never closed")]
    Quote,
    /// An escape that is none.
    #[error("only \\\\, \\\" and \\xNN are escapes")]
    Escape,
    /// A NUL byte in a path.
    #[error("no path holds a NUL byte")]
    Nul,
}

impl ActErrorKind {
    /// What to do about it.
    #[must_use]
    pub fn help(&self) -> String {
        let form =
            "an act is `ACTOR VERB PATH [mode M] [-> EXPECTATION]`, such as `gauge writes /data/level.csv`";
        match self {
            Self::Short(_) | Self::Detail(_) => form.to_owned(),
            Self::Verb(word) => match nearest(word, Verb::ALL.map(Verb::word)) {
                Some(verb) => format!("did you mean `{verb}`?"),
                None => format!("the verbs are {}", Verb::ALL.map(Verb::word).join(", ")),
            },
            Self::Relative(_) => {
                "write the path from the container's root, such as /data/level.csv".to_owned()
            }
            Self::Mode(_) => "write four digits from 0 to 7, such as 0640".to_owned(),
            Self::Expectation(_) => {
                "write allowed, denied, denied EACCES, or leaves 1000:3000 0640".to_owned()
            }
            Self::Quote => "close it, or write \\\" for a quote within the path".to_owned(),
            Self::Escape => "write \\\\ for a backslash".to_owned(),
            Self::Nul => "remove the \\x00".to_owned(),
        }
    }
}

#[derive(Debug)]
struct Word {
    text: Vec<u8>,
    span: Range<usize>,
}

impl Word {
    fn as_text(&self) -> String {
        String::from_utf8_lossy(&self.text).into_owned()
    }

    fn error(&self, kind: impl FnOnce(String) -> ActErrorKind) -> ActError {
        ActError { span: self.span.clone(), kind: kind(self.as_text()) }
    }
}

/// Reads one act, such as `gauge creates /data/x mode 0600 -> leaves 7101:7300 0600`.
///
/// # Errors
/// The first mistake, with its place in `text`.
pub fn parse_act(text: &str) -> Result<Act, ActError> {
    let words = split(text)?;
    let mut rest = words.iter();
    let end = text.trim_end().len();
    let mut next = |what| rest.next().ok_or(ActError { span: end..end, kind: ActErrorKind::Short(what) });
    let actor = next("an actor")?;
    let verb_word = next("a verb")?;
    let path = next("a path")?;
    let mut verb = Verb::by_word(&verb_word.as_text()).ok_or_else(|| verb_word.error(ActErrorKind::Verb))?;
    if path.text.first() != Some(&b'/') {
        return Err(path.error(ActErrorKind::Relative));
    }
    if path.text.contains(&0) {
        return Err(path.error(|_| ActErrorKind::Nul));
    }
    let mut expectation = None;
    while let Some(word) = rest.next() {
        match (word.text.as_slice(), verb) {
            (b"->", _) => {
                expectation = Some(parse_expectation(word, rest.by_ref(), end)?);
                if let Some(extra) = rest.next() {
                    return Err(extra.error(ActErrorKind::Detail));
                }
            }
            (b"mode", Verb::Creates(_)) => verb = Verb::Creates(parse_mode(rest.next(), end)?),
            (b"mode", Verb::MakesDirectory(_)) => verb = Verb::MakesDirectory(parse_mode(rest.next(), end)?),
            _ => return Err(word.error(ActErrorKind::Detail)),
        }
    }
    Ok(Act { actor: actor.as_text(), verb, path: path.text.clone(), expectation })
}

/// Reads acts, one a line; blank lines and `#` comments are passed over. Each act comes with
/// the bytes of its line.
///
/// # Errors
/// Every mistake, with its place in `text`.
pub fn parse_acts(text: &str) -> Result<Vec<(Act, Range<usize>)>, Vec<ActError>> {
    let mut acts = Vec::new();
    let mut errors = Vec::new();
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let content = line.trim_end();
        match parse_act(content) {
            _ if is_blank(content) => {}
            Ok(act) => {
                let indent = content.len() - content.trim_start().len();
                acts.push((act, start + indent..start + content.len()));
            }
            Err(mut error) => {
                error.span = error.span.start + start..error.span.end + start;
                errors.push(error);
            }
        }
        start += line.len();
    }
    if errors.is_empty() { Ok(acts) } else { Err(errors) }
}

fn is_blank(line: &str) -> bool {
    let line = line.trim_start();
    line.is_empty() || line.starts_with('#')
}

fn parse_mode(word: Option<&Word>, end: usize) -> Result<Mode, ActError> {
    let word = word.ok_or(ActError { span: end..end, kind: ActErrorKind::Short("a mode") })?;
    word.as_text().parse().map_err(|_| word.error(ActErrorKind::Mode))
}

fn parse_expectation<'a>(
    arrow: &Word,
    mut words: impl Iterator<Item = &'a Word>,
    end: usize,
) -> Result<Expectation, ActError> {
    let short = || ActError { span: arrow.span.start..end, kind: ActErrorKind::Short("an expectation") };
    let word = words.next().ok_or_else(short)?;
    match word.text.as_slice() {
        b"allowed" => Ok(Expectation::Allowed),
        b"denied" => match words.next() {
            None => Ok(Expectation::Denied(None)),
            Some(name) => {
                let errno =
                    Errno::by_name(&name.as_text()).ok_or_else(|| name.error(ActErrorKind::Expectation))?;
                Ok(Expectation::Denied(Some(errno)))
            }
        },
        b"leaves" => {
            let owner = words.next().ok_or_else(short)?;
            let text = owner.as_text();
            let ids =
                text.split_once(':').and_then(|(uid, gid)| Some((uid.parse().ok()?, gid.parse().ok()?)));
            let (uid, gid) = ids.ok_or_else(|| owner.error(ActErrorKind::Expectation))?;
            Ok(Expectation::Leaves { uid, gid, mode: parse_mode(words.next(), end)? })
        }
        _ => Err(word.error(ActErrorKind::Expectation)),
    }
}

/// Splits at blanks; double quotes hold a word together, `#` at a word's start begins a comment.
fn split(text: &str) -> Result<Vec<Word>, ActError> {
    let bytes = text.as_bytes();
    let mut words = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            byte if byte.is_ascii_whitespace() => at += 1,
            b'#' => break,
            b'"' => {
                let word = quoted_word(bytes, at)?;
                at = word.span.end;
                words.push(word);
            }
            _ => {
                let length = bytes[at..].iter().position(u8::is_ascii_whitespace).unwrap_or(bytes.len() - at);
                words.push(Word { text: bytes[at..at + length].to_vec(), span: at..at + length });
                at += length;
            }
        }
    }
    Ok(words)
}

fn quoted_word(bytes: &[u8], start: usize) -> Result<Word, ActError> {
    let mut text = Vec::new();
    let mut at = start + 1;
    let escape = |at: usize| ActError { span: at..(at + 2).min(bytes.len()), kind: ActErrorKind::Escape };
    while let Some(byte) = bytes.get(at) {
        match (byte, bytes.get(at + 1)) {
            (b'"', _) => {
                return Ok(Word { text, span: start..at + 1 });
            }
            (b'\\', Some(b'x')) => {
                let digits = bytes.get(at + 2..at + 4).and_then(|digits| std::str::from_utf8(digits).ok());
                let byte = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
                text.push(byte.ok_or_else(|| escape(at))?);
                at += 4;
            }
            (b'\\', Some(next @ (b'\\' | b'"'))) => {
                text.push(*next);
                at += 2;
            }
            (b'\\', _) => return Err(escape(at)),
            (byte, _) => {
                text.push(*byte);
                at += 1;
            }
        }
    }
    Err(ActError { span: start..bytes.len(), kind: ActErrorKind::Quote })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_verb_reads_back_as_it_prints() {
        for verb in Verb::ALL {
            let act = Act {
                actor: "gauge".into(),
                verb,
                path: b"/data/a b\"\\\x01\xff".to_vec(),
                expectation: None,
            };
            assert_eq!(parse_act(&act.to_string()).unwrap(), act, "{act}");
        }
    }

    #[test]
    fn details_and_expectations_are_read() {
        let act = parse_act("gauge creates /data/x mode 600 -> leaves 7101:7300 0600").unwrap();
        assert_eq!(act.verb, Verb::Creates(Mode::new(0o600)));
        let leaves = Expectation::Leaves { uid: 7101, gid: 7300, mode: Mode::new(0o600) };
        assert_eq!(act.expectation, Some(leaves));
        let act = parse_act("tide/gauge writes /x -> denied EROFS # why").unwrap();
        assert_eq!(act.expectation, Some(Expectation::Denied(Some(Errno::EROFS))));
    }

    macro_rules! refused {
        ($($name:ident: $text:literal => $span:expr, $message:literal;)+) => {$(
            #[test]
            fn $name() {
                let error = parse_act($text).unwrap_err();
                assert_eq!((error.span.clone(), error.to_string().as_str()), ($span, $message));
                assert!(!error.kind.help().is_empty());
            }
        )+};
    }

    refused! {
        an_empty_act: "" => 0..0, "the act ends where an actor is expected";
        no_path: "gauge reads" => 11..11, "the act ends where a path is expected";
        a_wrong_verb: "gauge writse /x" => 6..12, "`writse` is no verb";
        a_relative_path: "gauge reads x/y" => 12..15, "`x/y` is no absolute path";
        a_mode_where_none_belongs: "gauge reads /x mode 0600" => 15..19, "`mode` is not expected here";
        a_mode_that_is_none: "gauge creates /x mode 0900" => 22..26, "`0900` is no octal mode";
        an_open_quote: "gauge reads \"/x" => 12..15, "the double quote is never closed";
        a_wrong_escape: "gauge reads \"/\\n\"" => 14..16, "only \\\\, \\\" and \\xNN are escapes";
        a_wrong_expectation: "gauge reads /x -> maybe" => 18..23, "`maybe` is no expectation";
        something_behind_the_expectation: "gauge reads /x -> allowed too" => 26..29, "`too` is not expected here";
    }

    #[test]
    fn all_mistakes_of_a_file_come_back_with_their_places() {
        let errors = parse_acts("# fine\ngauge reads /x\n\ngauge reeds /x\ngauge reads\n").unwrap_err();
        let spans: Vec<_> = errors.into_iter().map(|error| error.span).collect();
        assert_eq!(spans, [29..34, 49..49]);
    }
}
