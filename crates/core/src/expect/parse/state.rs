//! What is to be at paths: `at-most`, `at-least`, `owned-by`, `is`.

use mivask_model::act::{ActError, ActErrorKind, Owner, Word, id};
use mivask_model::mode::{FileKind, Mode};

use super::{Line, STATE};
use crate::expect::state::State;

/// Every clause up to the end of the line.
pub(super) fn read(line: &mut Line<'_>) -> Result<State, ActError> {
    let mut state = State::default();
    let mut any = false;
    while line.peek().is_some() {
        if line.take("at-most") && state.at_most.is_none() {
            state.at_most = Some(mode(line.next("a mode", STATE)?)?);
        } else if line.take("at-least") && state.at_least.is_none() {
            state.at_least = Some(mode(line.next("a mode", STATE)?)?);
        } else if line.take("owned-by") && state.owner.is_none() {
            let word = line.next("an owner", STATE)?;
            state.owner = Some(owner(word).ok_or_else(|| word.error(ActErrorKind::Owner))?);
        } else if line.take("is") && !state.missing {
            is(line, &mut state)?;
        } else if !(any && line.take("and")) {
            // A clause that comes again was read past.
            line.at -= usize::from(line.at > 0 && is_clause(line, line.at - 1) && !is_clause(line, line.at));
            return Err(line.detail(STATE).unwrap_or_else(|| end(line, "what is to be there")));
        }
        any = true;
    }
    if any { Ok(state) } else { Err(end(line, "`at-most`")) }
}

fn is_clause(line: &Line<'_>, at: usize) -> bool {
    ["at-most", "at-least", "owned-by", "is"].iter().any(|word| line.is(at, word))
}

/// Behind `is`: `missing`, or any of a kind, an owner and a mode.
fn is(line: &mut Line<'_>, state: &mut State) -> Result<(), ActError> {
    if line.take("missing") {
        state.missing = true;
        return line.detail(STATE).map_or(Ok(()), Err);
    }
    let mut any = false;
    loop {
        if state.kind.is_none() && (line.take("a") || line.take("an")) {
            let word = line.next("a kind of file", STATE)?;
            let detail = |text| ActErrorKind::Detail { text, form: Some(STATE) };
            state.kind = Some(FileKind::by_noun(&word.as_text()).ok_or_else(|| word.error(detail))?);
        } else {
            let Some(word) = line.peek().filter(|_| !is_clause(line, line.at) && !line.is(line.at, "and"))
            else {
                break;
            };
            if word.text.contains(&b':') && state.owner.is_none() {
                state.owner = Some(owner(word).ok_or_else(|| word.error(ActErrorKind::Owner))?);
            } else if state.exactly.is_none() {
                state.exactly = Some(mode(word)?);
            } else {
                return Err(word.error(|text| ActErrorKind::Detail { text, form: Some(STATE) }));
            }
            line.at += 1;
        }
        any = true;
    }
    if any { Ok(()) } else { Err(end(line, "`missing`, `a KIND`, an owner or a mode")) }
}

fn end(line: &Line<'_>, what: &'static str) -> ActError {
    let end = line.text.trim_end().len();
    ActError { span: end..end, kind: ActErrorKind::Short { what, form: Some(STATE) } }
}

fn mode(word: &Word) -> Result<Mode, ActError> {
    word.as_text().parse().map_err(|_| word.error(ActErrorKind::Mode))
}

/// An owner whose parts may be `*`.
fn owner(word: &Word) -> Option<Owner> {
    let text = word.as_text();
    let part = |part: &str| match part {
        "*" | "" => Some(None),
        number => id(number).map(Some),
    };
    match text.split_once(':') {
        Some((uid, gid)) => Some(Owner { uid: part(uid)?, gid: part(gid)? }),
        None => Owner::parse(&text),
    }
}
