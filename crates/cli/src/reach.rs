//! What the sentences of a command need: which paths of inputs that are not read whole, and who is to act in the place of
//! others.

use mivask_core::act::Subject;
use mivask_core::change::{Changes, Sentence, parse_sentence};
use mivask_core::names::with_any_number;
use mivask_disk::process::Reach;

/// What is looked at, and who acts besides the actors.
#[derive(Clone, Debug, Default)]
pub(crate) struct Asked {
    /// How much is looked at of inputs of which not everything is read.
    pub reach: Reach,
    /// Who acts in the place of an actor, by name.
    pub guests: Vec<String>,
    /// Whom files that nothing describes are asked about.
    pub people: Vec<String>,
    /// Who acts in the sentences.
    pub actors: Vec<String>,
}

impl From<Reach> for Asked {
    fn from(reach: Reach) -> Self {
        Self { reach, ..Self::default() }
    }
}

impl Asked {
    /// What these sentences speak of, as far as they read.
    pub(crate) fn of(sentences: &[String]) -> Self {
        let mut asked = Self::default();
        // Who and where is the same whatever numbers names stand for.
        let read =
            |text: &String| parse_sentence(text).or_else(|_| parse_sentence(&with_any_number(text))).ok();
        for sentence in sentences.iter().filter_map(read) {
            let change = match sentence {
                Sentence::Act(act) => {
                    let second = act.verb.second_path().map(<[u8]>::to_vec);
                    asked.reach.paths.extend(std::iter::once(act.path).chain(second));
                    asked.guest(&act.actor);
                    asked.actors.push(Subject::named(&act.actor).actor);
                    continue;
                }
                Sentence::Change(change) => change,
            };
            let changes = Changes::new(vec![change]);
            changes.actors().for_each(|(_, name)| asked.guest(name));
        }
        asked
    }

    /// The same about these people, where the input describes nobody.
    pub(crate) fn about(self, people: &[String]) -> Self {
        Self { people: people.to_vec(), ..self }
    }

    /// The same with everything looked at.
    pub(crate) fn whole(self) -> Self {
        Self { reach: Reach { whole: true, ..self.reach }, ..self }
    }

    /// Somebody who may be in the place of an actor.
    pub(crate) fn guest(&mut self, name: &str) {
        let name = name.to_owned();
        if Subject::named(&name).is_guest() && !self.guests.contains(&name) {
            self.guests.push(name);
        }
    }

    /// The same with what changes speak of.
    pub(crate) fn with_changes(&self, sentences: &[String]) -> Self {
        let more = Self::of(sentences);
        let pattern = more.reach.paths.iter().any(|path| path.contains(&b'*'));
        let mut all = self.clone();
        all.reach.whole |= pattern;
        all.reach.paths.extend(more.reach.paths);
        more.guests.iter().for_each(|name| all.guest(name));
        all
    }
}
