//! A line of a log in place of an act: what was refused, and with which error, narrows down what was tried.

use std::io::Write;

use mivask_core::act::{parse_act, quoted};
use mivask_core::outcome::Errno;
use mivask_core::question::{Answer, ask};
use mivask_core::settle::{Dependence, End};
use mivask_core::stage::Stage;
use mivask_read::message::{Message, parse};

use crate::end::{CommandError, Failure};

/// A message does not say who met it.
#[derive(Debug, thiserror::Error)]
#[error("a message does not say who met it: name somebody with --actor")]
struct Nobody;

impl CommandError for Nobody {}

/// A message and who met it.
pub(crate) struct Logged {
    actor: String,
    message: Message,
}

/// What has to be so where an act that depends on missing facts ended with `errno`; what it was about comes before the way
/// there, since whoever looks for the cause of a refusal finds it there most often.
fn causes(answer: &Answer, errno: Errno) -> Option<String> {
    let ends = |one: &&Dependence| one.end == End::Act(Err(errno));
    let mut all: Vec<&str> = Vec::new();
    for cause in answer.depends_on.iter().filter(ends).filter_map(|one| one.conditions.last()) {
        for one in cause.split(", or ") {
            if !all.contains(&one) {
                all.push(one);
            }
        }
    }
    match all.as_slice() {
        [] => None,
        [one] => Some(one.to_string()),
        several => Some(format!("one of these is so: {}", several.join("; "))),
    }
}

impl Logged {
    /// The message that `text` is, where it is no act; `actors` are those of `--actor`.
    pub(crate) fn of(text: &str, actors: &[String]) -> Option<Result<Self, Failure>> {
        if parse_act(text).is_ok() {
            return None;
        }
        let message = parse(text)?;
        let Some(actor) = actors.first().cloned() else { return Some(Err(Nobody.into())) };
        Some(Ok(Self { actor, message }))
    }

    /// What may have been tried, the likeliest first.
    pub(crate) fn acts(&self) -> impl Iterator<Item = String> {
        let path = quoted(self.message.path.as_bytes());
        self.message.verbs.iter().map(move |verb| format!("{} {verb} {path}", self.actor))
    }

    /// The first of them that ends with the error of the message, else the first that may, said on standard error; the likeliest
    /// where none does.
    pub(crate) fn choose(&self, stage: &Stage, err: &mut dyn Write) -> Result<String, Failure> {
        let errno = self.message.errno;
        let asked = |sentence: String| {
            let act = parse_act(&sentence).ok()?;
            Some((sentence, ask(stage, &act).ok()?))
        };
        let all: Vec<(String, Answer)> = self.acts().filter_map(asked).collect();
        let may = |answer: &Answer| answer.depends_on.iter().any(|one| one.end == End::Act(Err(errno)));
        let certain = all.iter().find(|(_, answer)| answer.outcome.errno() == Some(errno));
        let possible = || all.iter().find(|(_, answer)| may(answer));
        let (sentence, why) = match (certain, certain.or_else(possible)) {
            (Some((sentence, _)), _) => (sentence.clone(), format!("which ends with {errno} here")),
            (None, Some((sentence, _))) => (sentence.clone(), format!("which may end with {errno} here")),
            (None, None) => {
                let likeliest = self.acts().next().unwrap_or_default();
                (likeliest, format!("though nothing of the kind ends with {errno} here"))
            }
        };
        writeln!(err, "note: the message is taken for `{}`, {why}", mivask_show::safe(&sentence))?;
        let chosen = all.iter().find(|(known, _)| *known == sentence).map(|(_, answer)| answer);
        if let Some(causes) = chosen.filter(|_| certain.is_none()).and_then(|answer| causes(answer, errno)) {
            writeln!(err, "note: given that it was {errno}, {}", mivask_show::safe(&causes))?;
        }
        Ok(sentence)
    }
}
