//! Reading acts.

use std::ops::Range;

use super::expected::{parse_expectation, parse_mode};
use super::split::{Word, split};
use super::verb::{Shape, id};
use super::{Act, ActError, ActErrorKind, Node, Owner, Subject, Verb};
use crate::acl::AclText;
use crate::mode::{FileKind, Mode};

/// Prepositions as messages name them.
const PREPOSITIONS: [(&str, &str); 8] = [
    ("on", "`on`"),
    ("to", "`to`"),
    ("at", "`at`"),
    ("with", "`with`"),
    ("as", "`as`"),
    ("of", "`of`"),
    ("from", "`from`"),
    ("group", "`group`"),
];

/// The words of a sentence that are still to be read.
pub struct Rest<'a> {
    words: std::slice::Iter<'a, Word>,
    end: usize,
    /// How the sentence is built, once its verb is known.
    form: Option<&'static str>,
}

impl<'a> Rest<'a> {
    /// The words of `text`, which is to be built like `form`.
    #[must_use]
    pub fn of(words: &'a [Word], text: &str, form: &'static str) -> Self {
        Self { words: words.iter(), end: text.trim_end().len(), form: Some(form) }
    }

    /// Whether there are no more words.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.words.as_slice().is_empty()
    }

    /// The end of the sentence.
    ///
    /// # Errors
    /// There are more words.
    pub fn end(&mut self) -> Result<(), ActError> {
        match self.words.next() {
            Some(extra) => Err(self.unexpected(extra)),
            None => Ok(()),
        }
    }

    /// The next word; `what` says in the mistake what is missing.
    ///
    /// # Errors
    /// There is none.
    pub fn next(&mut self, what: &'static str) -> Result<&'a Word, ActError> {
        self.words.next().ok_or_else(|| self.short(what))
    }

    const fn short(&self, what: &'static str) -> ActError {
        ActError { span: self.end..self.end, kind: ActErrorKind::Short { what, form: self.form } }
    }

    /// Who acts.
    ///
    /// # Errors
    /// There is no word, or none behind `as` and `running`.
    pub fn subject(&mut self) -> Result<Subject, ActError> {
        let words = self.words.as_slice();
        let Some((subject, taken)) = Subject::of(words) else { return Err(self.short("an actor")) };
        self.words = words[taken..].iter();
        match self.words.as_slice() {
            [word] if word.text == b"as" => return Err(self.short("a user")),
            [word] if word.text == b"running" => return Err(self.short("the path of a program")),
            [next, ..] if subject.user.as_deref().is_some_and(|user| !names_user(user, next)) => {
                return Err(words[2].error(ActErrorKind::User));
            }
            _ => {}
        }
        if let Some(program) = &subject.program
            && program.first() != Some(&b'/')
        {
            return Err(words[taken - 1].error(ActErrorKind::Relative));
        }
        Ok(subject)
    }

    /// A word that has to be `word`.
    ///
    /// # Errors
    /// It is another, or there is none.
    pub fn preposition(&mut self, word: &'static str) -> Result<(), ActError> {
        let found = self.next(word).map_err(|mut error| {
            if let ActErrorKind::Short { what, .. } = &mut error.kind {
                *what =
                    PREPOSITIONS.iter().find(|(bare, _)| *bare == word).map_or(word, |(_, quoted)| quoted);
            }
            error
        })?;
        if found.text == word.as_bytes() { Ok(()) } else { Err(self.unexpected(found)) }
    }

    /// The mistake that `word` is too much.
    #[must_use]
    pub fn unexpected(&self, word: &Word) -> ActError {
        let form = self.form;
        word.error(|text| ActErrorKind::Detail { text, form })
    }
}

/// Whether `user` can be one, where `next` follows: a verb in front of a path is the verb, and no name has a colon.
fn names_user(user: &str, next: &Word) -> bool {
    let forgotten = Verb::by_word(user).is_some() && next.text.first() == Some(&b'/');
    !forgotten && user.bytes().filter(|byte| *byte == b':').count() < 2
}

/// Reads one act, such as `gauge creates /data/x mode 0600 -> leaves 7101:7300 0600`.
///
/// # Errors
/// The first mistake, with its place in `text`.
pub fn parse_act(text: &str) -> Result<Act, ActError> {
    let words = split(text)?;
    let mut rest = Rest { words: words.iter(), end: text.trim_end().len(), form: None };
    let subject = rest.subject()?;
    let verb_word = rest.next("a verb")?;
    let mut verb = Verb::by_word(&verb_word.as_text()).ok_or_else(|| verb_word.error(ActErrorKind::Verb))?;
    rest.form = Some(verb.form());
    let path = match verb.shape() {
        Shape::Before => {
            take_value(&mut verb, rest.next("a value")?)?;
            rest.preposition("on")?;
            absolute(rest.next("a path")?)?
        }
        Shape::Behind(preposition) => {
            let path = absolute(rest.next("a path")?)?;
            rest.preposition(preposition)?;
            take_target(&mut verb, rest.next("what follows")?)?;
            path
        }
        Shape::Path | Shape::Mode | Shape::Node => absolute(rest.next("a path")?)?,
    };
    let mut expectation = None;
    while let Some(word) = rest.words.next() {
        match (word.text.as_slice(), verb.shape()) {
            (b"->", _) => {
                expectation = Some(parse_expectation(word, rest.words.by_ref(), rest.end)?);
                if let Some(extra) = rest.words.next() {
                    return Err(rest.unexpected(extra));
                }
            }
            (b"mode", Shape::Mode | Shape::Node) => {
                take_mode(&mut verb, parse_mode(rest.next("a mode")?)?);
            }
            (b"as", Shape::Node) => verb = Verb::MakesNode(node(&mut rest)?, verb.mode().unwrap_or_default()),
            _ => return Err(rest.unexpected(word)),
        }
    }
    Ok(Act { actor: subject.name(), verb, path, expectation })
}

/// The bytes of an absolute path.
///
/// # Errors
/// It does not begin with `/`.
pub fn absolute(path: &Word) -> Result<Vec<u8>, ActError> {
    if path.text.first() != Some(&b'/') {
        return Err(path.error(ActErrorKind::Relative));
    }
    without_nul(path)
}

fn without_nul(word: &Word) -> Result<Vec<u8>, ActError> {
    if word.text.contains(&0) { Err(word.error(|_| ActErrorKind::Nul)) } else { Ok(word.text.clone()) }
}

/// Gives a verb the value that is before `on`.
fn take_value(verb: &mut Verb, value: &Word) -> Result<(), ActError> {
    let text = value.as_text();
    if let Verb::SetsMode(change) = verb {
        *change = text.parse().map_err(|_| value.error(ActErrorKind::Change))?;
    } else if let Verb::SetsOwner(owner) | Verb::SetsLinkOwner(owner) = verb {
        *owner = Owner::parse(&text).ok_or_else(|| value.error(ActErrorKind::Owner))?;
    } else if let Verb::SetsGroup(gid) | Verb::SetsLinkGroup(gid) = verb {
        *gid = id(&text).ok_or_else(|| value.error(ActErrorKind::Id))?;
    } else if let Verb::SetsAcl(acl) | Verb::SetsDefaultAcl(acl) = verb {
        let read = AclText::parse(&text);
        *acl = read.map_err(|error| value.error(|_| ActErrorKind::Acl(error.to_string())))?;
    }
    Ok(())
}

/// Gives a verb what is behind `at`, `to` or `with`.
fn take_target(verb: &mut Verb, word: &Word) -> Result<(), ActError> {
    if let Verb::Links(new)
    | Verb::LinksTarget(new)
    | Verb::Renames(new)
    | Verb::RenamesNew(new)
    | Verb::Exchanges(new) = verb
    {
        *new = absolute(word)?;
    } else if let Verb::Points(target) = verb {
        *target = without_nul(word)?;
    } else if let Verb::Tags(name) | Verb::ReadsTag(name) = verb {
        if !matches!(word.text.len(), 1..=255) || word.text.starts_with(b"system.posix_acl_") {
            return Err(word.error(ActErrorKind::Attribute));
        }
        *name = without_nul(word)?;
    }
    Ok(())
}

/// Gives a verb the mode it asks for.
fn take_mode(verb: &mut Verb, mode: Mode) {
    if let Verb::Creates(asked)
    | Verb::MakesDirectory(asked)
    | Verb::MakesFifo(asked)
    | Verb::MakesNode(_, asked) = verb
    {
        *asked = mode;
    }
}

fn node(rest: &mut Rest<'_>) -> Result<Node, ActError> {
    let word = rest.next("what kind of node")?;
    let none = crate::tree::Device { major: 0, minor: 0 };
    let kind = match word.text.as_slice() {
        b"socket" => return Ok(Node { kind: FileKind::Socket, device: none }),
        b"char" => FileKind::CharDevice,
        b"block" => FileKind::BlockDevice,
        _ => return Err(word.error(ActErrorKind::Node)),
    };
    let numbers = rest.next("MAJOR:MINOR")?;
    let text = numbers.as_text();
    let pair = text.split_once(':').and_then(|(major, minor)| Some((id(major)?, id(minor)?)));
    // The kernel's own limits: 12 bits and 20 bits (include/linux/kdev_t.h).
    match pair.filter(|(major, minor)| *major < 1 << 12 && *minor < 1 << 20) {
        Some((major, minor)) => Ok(Node { kind, device: crate::tree::Device { major, minor } }),
        None => Err(numbers.error(ActErrorKind::Node)),
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::act::Expectation;
    use crate::outcome::Errno;
    use crate::tree::Device;

    #[test]
    fn every_verb_reads_back_as_it_prints() {
        let path = b"/data/a b\"\\\x01\xff".to_vec();
        let filled = Verb::ALL.iter().cloned().map(|mut verb| {
            if let Verb::Links(new)
            | Verb::LinksTarget(new)
            | Verb::Renames(new)
            | Verb::RenamesNew(new)
            | Verb::Exchanges(new) = &mut verb
            {
                *new = path.clone();
            } else if let Verb::Tags(name) | Verb::ReadsTag(name) = &mut verb {
                *name = b"user.\xff".to_vec();
            } else if let Verb::SetsAcl(acl) | Verb::SetsDefaultAcl(acl) = &mut verb {
                *acl = AclText::parse("user:3:rw-,o::---,mask::r--").unwrap();
            }
            verb
        });
        let odd = [
            Verb::MakesFifo(Mode::new(0o7000)),
            Verb::MakesNode(
                Node { kind: FileKind::BlockDevice, device: Device { major: 7, minor: 0 } },
                Mode::new(0),
            ),
            Verb::MakesNode(
                Node { kind: FileKind::Socket, device: Device { major: 0, minor: 0 } },
                Mode::new(0o666),
            ),
            Verb::SetsMode("u=rwx,g-w+X,+t,o=g".parse().unwrap()),
            Verb::SetsOwner(Owner { uid: Some(7101), gid: Some(7200) }),
            Verb::SetsLinkOwner(Owner { uid: None, gid: Some(7200) }),
            Verb::SetsAcl(AclText::NONE),
        ];
        for verb in filled.chain(odd) {
            let act = Act { actor: "tide gauge".into(), verb, path: path.clone(), expectation: None };
            assert_eq!(parse_act(&act.to_string()).unwrap(), act, "{act}");
        }
    }

    #[test]
    fn details_and_expectations_are_read() {
        let act = parse_act("gauge creates /data/x mode 600 -> leaves 7101:7300 0600").unwrap();
        assert_eq!(act.verb, Verb::Creates(Mode::new(0o600)));
        let leaves = Expectation::Leaves { uid: Some(7101), gid: Some(7300), mode: Some(Mode::new(0o600)) };
        assert_eq!(act.expectation, Some(leaves));
        let act = parse_act("gauge creates /x -> leaves * 0600").unwrap();
        let leaves = Expectation::Leaves { uid: None, gid: None, mode: Some(Mode::new(0o600)) };
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
            }
        )+};
    }

    refused! {
        nobody_in_its_place: "gauge as" => 8..8, "the act ends where a user is expected";
        no_program: "gauge as root running" => 21..21, "the act ends where the path of a program is expected";
        a_relative_program: "gauge running p reads /x" => 14..15, "`p` is not an absolute path";
        an_empty_act: "" => 0..0, "the act ends where an actor is expected";
        no_path: "gauge reads" => 11..11, "the act ends where a path is expected";
        a_wrong_verb: "gauge writse /x" => 6..12, "`writse` is not a verb";
        a_relative_path: "gauge reads x/y" => 12..15, "`x/y` is not an absolute path";
        a_mode_where_none_belongs: "gauge reads /x mode 0600" => 15..19, "`mode` is not expected here";
        a_mode_that_is_none: "gauge creates /x mode 0900" => 22..26, "`0900` is not an octal mode";
        an_open_quote: "gauge reads \"/x" => 12..15, "the double quote is never closed";
        a_wrong_escape: "gauge reads \"/\\n\"" => 14..16, "only \\\\, \\\" and \\xNN are escapes";
        a_wrong_expectation: "gauge reads /x -> maybe" => 18..23, "`maybe` is not an expectation";
        no_mode_change: "gauge sets-mode rw on /x" => 16..18, "`rw` is not a mode";
        no_on: "gauge sets-mode 0640 /x" => 21..23, "`/x` is not expected here";
        an_owner_by_name: "gauge sets-owner gauge on /x" => 17..22, "`gauge` is not an owner";
        a_group_that_stands_for_none: "gauge sets-group 4294967295 on /x" => 17..27, "`4294967295` is not a numeric id";
        an_acl_with_a_name: "gauge sets-acl user:gauge:r-- on /x" => 15..29, "`gauge` is not a numeric id: ACLs here name ids, not accounts";
        nowhere_to_rename_to: "gauge renames /x to" => 19..19, "the act ends where what follows is expected";
        a_relative_new_name: "gauge links /x to y" => 18..19, "`y` is not an absolute path";
        a_device_out_of_range: "gauge makes-node /x as char 4096:1" => 28..34, "`4096:1` is not a device";
        something_behind_the_expectation: "gauge reads /x -> allowed too" => 26..29, "`too` is not expected here";
    }

    #[test]
    fn all_mistakes_of_a_file_come_back_with_their_places() {
        let errors = parse_acts("# fine\ngauge reads /x\n\ngauge reeds /x\ngauge reads\n").unwrap_err();
        let spans: Vec<_> = errors.into_iter().map(|error| error.span).collect();
        assert_eq!(spans, [29..34, 49..49]);
    }
}
