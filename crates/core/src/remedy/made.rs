//! What one actor makes on a volume and another is to use: the next file, not the one that is there today.

use mivask_model::act::{Act, ActError, Verb, parse_act, quoted, split};
use mivask_model::mode::Mode;
use mivask_model::path::trimmed;
use mivask_rules::settle::Outcome;
use mivask_stage::actor_names::ActorError;
use mivask_stage::stage::Stage;

use crate::carry::perform;
use crate::handoff::path_of_same;
use crate::question::joined::Joined;
use crate::question::{Answer, ask, free_path};

/// How the sentence is built.
pub const FORM: &str = "READER VERB what MAKER makes in DIRECTORY";

/// `shipper reads what api makes in /out`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Made {
    /// Who is to use it.
    reader: String,
    /// The word of what it does with it, such as `reads`.
    verb: String,
    /// Who makes it, asking for 0666.
    maker: String,
    /// Where, as the maker sees it.
    directory: Vec<u8>,
}

/// Why nobody can be asked about what another makes.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum MadeError {
    /// It is no such sentence.
    #[error("write {FORM}, such as `shipper reads what api makes in /out`")]
    Form,
    /// What the reader does is no act on one path.
    #[error("{0}")]
    Act(ActError),
    /// The actors are not there.
    #[error(transparent)]
    Actor(#[from] ActorError),
    /// It makes nothing there.
    #[error("{maker} cannot create a file in {directory}: ask for that first ({ends})")]
    NotMade {
        /// Who.
        maker: String,
        /// Where.
        directory: String,
        /// How it ends.
        ends: String,
    },
    /// Whether it makes anything there depends on a missing fact.
    #[error("whether {maker} can create a file in {directory} depends on {fact}: supply that first")]
    Open {
        /// Who.
        maker: String,
        /// Where.
        directory: String,
        /// What is not known.
        fact: String,
    },
    /// The reader does not mount it.
    #[error("{reader} does not reach {directory} of {maker}: both have to mount that volume")]
    NotShared {
        /// Who is to use it.
        reader: String,
        /// Who makes it.
        maker: String,
        /// Where.
        directory: String,
    },
}

impl Made {
    /// The sentence, where `text` is one: `what` is its third word, or its second without a reader.
    ///
    /// # Errors
    /// It begins like one and goes on otherwise.
    pub fn parse(text: &str, reader: Option<&str>) -> Option<Result<Self, MadeError>> {
        let words = split(text).ok()?;
        let mut words: Vec<String> = words.iter().map(|word| word.as_text()).collect();
        if let (Some(reader), Some("what")) = (reader, words.get(1).map(String::as_str)) {
            words.insert(0, reader.to_owned());
        }
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        if words.get(2) != Some(&"what") {
            return None;
        }
        let &[reader, verb, "what", maker, "makes", "in", _] = words.as_slice() else {
            return Some(Err(MadeError::Form));
        };
        let directory = split(text).ok()?.pop()?.text;
        if directory.first() != Some(&b'/') {
            return Some(Err(MadeError::Form));
        }
        let own = |text: &str| text.to_owned();
        Some(Ok(Self { reader: own(reader), verb: own(verb), maker: own(maker), directory }))
    }

    /// What `reader` does with what `maker` makes in `directory` of its own view.
    pub(super) fn new(reader: &str, verb: &Verb, maker: &str, directory: Vec<u8>) -> Self {
        let own = |text: &str| text.to_owned();
        Self { reader: own(reader), verb: own(verb.word()), maker: own(maker), directory }
    }

    /// What the reader is to do, on a path of its own view of the directory that nothing is at.
    ///
    /// # Errors
    /// Nobody of that name is there, or the reader does not mount the volume.
    pub(super) fn act(&self, joined: &Joined) -> Result<Act, MadeError> {
        let stage = &joined.stage;
        let maker = stage.actor(&self.maker)?;
        stage.actor(&self.reader)?;
        let new = free_path(stage, maker, &self.directory);
        let name = &new[trimmed(&self.directory).len() + 1..];
        let directory = path_of_same(joined, (&maker.name, &self.directory), &self.reader);
        let directory = directory.ok_or_else(|| MadeError::NotShared {
            reader: self.reader.clone(),
            maker: self.maker.clone(),
            directory: quoted(&self.directory),
        })?;
        let path = [trimmed(&directory), b"/", name].concat();
        let sentence = format!("{} {} {}", self.reader, self.verb, quoted(&path));
        parse_act(&sentence).map_err(MadeError::Act)
    }

    /// The sentence itself.
    pub(super) fn sentence(&self) -> String {
        let Self { reader, verb, maker, directory } = self;
        format!("{reader} {verb} what {maker} makes in {}", quoted(directory))
    }

    /// Who makes it.
    pub(super) fn maker(&self) -> &str {
        &self.maker
    }

    /// The directory as the maker sees it.
    pub(super) fn directory(&self) -> &[u8] {
        &self.directory
    }

    /// `stage` once the file is made that `act` is about, its disks joined, and how the making ends.
    ///
    /// # Errors
    /// It is not made, or nobody knows whether it is.
    pub(super) fn after(&self, stage: &Stage, act: &Act) -> Result<(Stage, Answer), MadeError> {
        let mut stage = Joined::new(stage).stage;
        let name = act.path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
        let path = [trimmed(&self.directory), b"/", name].concat();
        let verb = Verb::Creates(Mode::new(0o666));
        let creation = Act { actor: self.maker.clone(), verb, path, expectation: None };
        let made = perform(&mut stage, &creation)?.answer;
        if made.outcome == Outcome::Allowed {
            return Ok((stage, made));
        }
        let (maker, directory) = (self.maker.clone(), quoted(&self.directory));
        if made.outcome == Outcome::Depends {
            let fact = made.depends_on.first().map(|one| one.fact.clone()).unwrap_or_default();
            return Err(MadeError::Open { maker, directory, fact });
        }
        let ends = made.outcome.errno().map_or(made.outcome.word(), |errno| errno.name()).to_owned();
        Err(MadeError::NotMade { maker, directory, ends })
    }

    /// How `act` ends once the file is made.
    ///
    /// # Errors
    /// It is not made, or nobody knows whether it is.
    pub(super) fn ask(&self, stage: &Stage, act: &Act) -> Result<Answer, MadeError> {
        let (stage, _) = self.after(stage, act)?;
        Ok(ask(&stage, act)?)
    }
}
