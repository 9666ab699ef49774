//! Classes: what decides about an entry, beside where it is.

use mivask_model::mode::FileKind;
use mivask_model::tree::{Certainty, Content, Device, Doubt, Extended, Marks};
use rustc_hash::FxHashMap;
use sha2::{Digest, Sha256};

/// The number of a class: the first eight bytes of the SHA-256 of what it says, the same on every machine.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub(crate) struct ClassId(pub(crate) i64);

/// What is known to be in a directory: an empty one may be removed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Holds {
    /// It has entries, and all are told; or it is no directory.
    Entries,
    /// It has none.
    Nothing,
    /// There may be more in it than is told.
    Unlisted,
}

/// What two entries have in common of which every act ends alike in the same directory.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Class {
    /// Its kind.
    pub(crate) kind: FileKind,
    /// Stored owner; `None` where it is not known.
    pub(crate) uid: Option<u32>,
    /// Stored group; `None` where it is not known.
    pub(crate) gid: Option<u32>,
    /// Permission bits (octal 07777); `None` where they are not known, or the ACL is not.
    pub(crate) mode: Option<u16>,
    /// ACLs, file capabilities and label.
    pub(crate) extended: Extended,
    /// The marks that a source may tell, as [`Marks::given`] has them.
    pub(crate) marks: u8,
    /// What execve meets in a file.
    pub(crate) content: Content,
    /// What is known to be in a directory.
    pub(crate) holds: Holds,
    /// The numbers of a device.
    pub(crate) device: Option<Device>,
    /// What its source took for granted, in the words of answers.
    pub(crate) assumed: Assumed,
}

/// What is taken for granted of owner, mode and the names in a directory, and whether it is of a kind that nobody told.
#[derive(Clone, PartialEq, Eq, Default, Debug, serde::Serialize, serde::Deserialize)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct Assumed {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) owner: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) mode: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) contents: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) kind: Option<String>,
}

impl Assumed {
    fn of(doubt: &Doubt) -> Self {
        let text = |certainty: &Certainty| match certainty {
            Certainty::Assumed(text) => Some(text.to_string()),
            Certainty::Known | Certainty::Unknown(_) => None,
        };
        // In a source's own words each entry would be a class.
        let kind = text(&doubt.kind)
            .map(|_| "what is listed without a kind is of the one that it is taken for".into());
        Self { owner: text(&doubt.owner), mode: text(&doubt.mode), contents: text(&doubt.contents), kind }
    }
}

impl Class {
    /// The class of an entry of these attributes, of which `doubt` says what is not known.
    #[must_use]
    pub(crate) fn new(kind: FileKind, (uid, gid, mode): (u32, u32, u16), doubt: Option<&Doubt>) -> Self {
        let known = |certainty: Option<&Certainty>| !matches!(certainty, Some(Certainty::Unknown(_)));
        let owner = known(doubt.map(|doubt| &doubt.owner));
        let bits = known(doubt.map(|doubt| &doubt.mode));
        Self {
            kind,
            uid: owner.then_some(uid),
            gid: owner.then_some(gid),
            mode: bits.then_some(mode),
            extended: Extended::default(),
            marks: Marks::default().given(),
            content: Content::Unknown,
            holds: Holds::Entries,
            device: None,
            assumed: doubt.map(Assumed::of).unwrap_or_default(),
        }
    }

    /// All that it says, in a form that never changes: the numbers of classes rest on it.
    fn bytes(&self) -> Vec<u8> {
        let mut all = vec![1, self.marks];
        all.extend(self.kind.word().as_bytes());
        all.push(0);
        let mut number = |value: Option<u32>| {
            all.push(u8::from(value.is_some()));
            all.extend(value.unwrap_or(0).to_le_bytes());
        };
        number(self.uid);
        number(self.gid);
        number(self.mode.map(u32::from));
        number(self.device.map(|device| device.major));
        number(self.device.map(|device| device.minor));
        for text in self.texts() {
            let text = text.unwrap_or_default();
            all.extend((text.len() as u64).to_le_bytes());
            all.extend(text.as_bytes());
        }
        all
    }

    /// Access ACL, default ACL, capabilities, label, content and assumptions in words, as the columns of the table have them.
    #[must_use]
    pub(crate) fn texts(&self) -> [Option<String>; 6] {
        let extended = &self.extended;
        let content = match &self.content {
            Content::Unknown => match self.holds {
                Holds::Entries => None,
                Holds::Nothing => Some("empty".to_owned()),
                Holds::Unlisted => Some("unlisted".to_owned()),
            },
            Content::Program => Some("program".to_owned()),
            Content::Data => Some("data".to_owned()),
            Content::Empty => Some("empty".to_owned()),
            Content::Script(path) => Some(format!("script {}", super::text::text(path))),
        };
        [
            extended.access.as_ref().map(ToString::to_string),
            extended.default.as_ref().map(ToString::to_string),
            extended.capabilities.as_ref().map(super::capabilities::text),
            extended.label.as_deref().map(str::to_owned),
            content,
            (self.assumed != Assumed::default()).then(|| serde_json::json!(self.assumed).to_string()),
        ]
    }

    /// Its number.
    #[must_use]
    pub(crate) fn id(&self) -> ClassId {
        ClassId(digest(&[&self.bytes()]))
    }
}

/// The first eight bytes of the SHA-256 of `parts`, as a number that SQL has.
pub(super) fn digest(parts: &[&[u8]]) -> i64 {
    let mut hash = Sha256::new();
    parts.iter().for_each(|part| hash.update(part));
    let bytes = hash.finalize();
    let mut first = [0_u8; 8];
    first.copy_from_slice(&bytes[..8]);
    i64::from_le_bytes(first)
}

/// The classes of a volume so far.
#[derive(Debug, Default)]
pub(super) struct Classes {
    all: FxHashMap<i64, Class>,
    /// Those of nearly all entries, found without a digest.
    plain: FxHashMap<(FileKind, u8, u32, u32, u16, bool), ClassId>,
}

impl Classes {
    /// The number of a class with nothing special about it.
    pub(super) fn plain(
        &mut self,
        kind: FileKind,
        marks: Marks,
        (uid, gid, mode): (u32, u32, u16),
        empty: bool,
    ) -> ClassId {
        let key = (kind, marks.given(), uid, gid, mode, empty);
        if let Some(known) = self.plain.get(&key) {
            return *known;
        }
        let content = if empty { Content::Empty } else { Content::Unknown };
        let class = Class { marks: marks.given(), content, ..Class::new(kind, (uid, gid, mode), None) };
        let id = self.add(class);
        self.plain.insert(key, id);
        id
    }

    /// The number of any class.
    pub(super) fn add(&mut self, class: Class) -> ClassId {
        let id = class.id();
        self.all.entry(id.0).or_insert(class);
        id
    }

    /// Every class, the least number first.
    pub(super) fn sorted(&self) -> Vec<(i64, &Class)> {
        let mut all: Vec<_> = self.all.iter().map(|(id, class)| (*id, class)).collect();
        all.sort_unstable_by_key(|(id, _)| *id);
        all
    }
}
