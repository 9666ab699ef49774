//! Reading what an act is expected to come to.

use super::split::Word;
use super::verb::id;
use super::{ActError, ActErrorKind, Expectation};
use crate::mode::Mode;
use crate::outcome::Errno;

pub(super) fn parse_mode(word: &Word) -> Result<Mode, ActError> {
    word.as_text().parse().map_err(|_| word.error(ActErrorKind::Mode))
}

/// What is behind `->`.
pub(super) fn parse_expectation<'a>(
    arrow: &Word,
    mut words: impl Iterator<Item = &'a Word>,
    end: usize,
) -> Result<Expectation, ActError> {
    let kind = ActErrorKind::Short { what: "an expectation", form: None };
    let short = || ActError { span: arrow.span.start..end, kind: kind.clone() };
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
        // What somebody sees who only looks.
        b"leaves" | b"shows" => {
            let owner = words.next().ok_or_else(short)?;
            let text = owner.as_text();
            let part = |part: &str| if part == "*" { Some(None) } else { id(part).map(Some) };
            // One `*` is any owner and any group.
            let ids = if text == "*" { Some(("*", "*")) } else { text.split_once(':') };
            let ids = ids.and_then(|(uid, gid)| Some((part(uid)?, part(gid)?)));
            let (uid, gid) = ids.ok_or_else(|| owner.error(ActErrorKind::Expectation))?;
            let mode = words.next().ok_or_else(short)?;
            let mode = if mode.text == b"*" { None } else { Some(parse_mode(mode)?) };
            Ok(Expectation::Leaves { uid, gid, mode })
        }
        _ => Err(word.error(ActErrorKind::Expectation)),
    }
}
